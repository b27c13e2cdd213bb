#pragma once

#include "core/model/yaml_source.hpp"
#include "service/device/conversion.hpp"

#include <filesystem>
#include <functional>

namespace zunth::device {

/// A point as a device's file gives it: what the device offers, and what is made of it.
struct DevicePoint {
  Point raw;
  Conversion conversion;
  double every = 0;          // ms, of a beat of its own; 0 for the device's
  bool isWhenAsked = false;  // with a beat of its own: no faster than somebody asks, and not at all while nobody does

  const std::string& name() const { return raw.name; }
  ua::BuiltInType type() const { return conversion.typeFrom(raw.type); }
  /// "Float", "Float[10]": what it gives, for people.
  std::string typeText() const;
  bool isWritable() const { return raw.isWritable; }
};

/// What a driver makes of a device's file.
struct DriverSetup {
  std::string address;              // for people: "127.0.0.1:5502 unit 1"
  std::string line;                 // what only one may speak over: "127.0.0.1:5502"
  std::vector<DevicePoint> points;  // in the driver's order
  std::size_t secrets = 0;          // a hash of what isn't in its file: with others it is another device
  std::function<std::unique_ptr<Driver>(const std::string& device)> make;
  /// Asks the device who made it and what it is; it may block. Null where a protocol has no words for it.
  std::function<ua::Result<Trace>()> nameplate;
};

/// A device's file as a driver reads it.
struct DeviceText {
  /// A point's name and the words behind it.
  struct PointText {
    model::Text name, words;
  };
  const model::Entry& root;
  std::vector<PointText> points;
  std::string name;              // the device's
  std::filesystem::path folder;  // of the site: what files are named against
};

struct FoundPoint;
struct ScanWish;

/// One row a driver: what devices/ may say of it, and how it is made. Check, help, schema and docs come from here.
struct DriverKind {
  std::string_view name;
  std::vector<std::string_view> keys;  // beside those that every device's file has
  /// Findings tell of every mistake; with errors the result is not to be used.
  DriverSetup (*read)(const DeviceText& text, model::Findings& findings);
  /// Looks a device through (scan.hpp); null where that can't be.
  ua::Result<std::vector<FoundPoint>> (*scan)(const DeviceText& text, const ScanWish& wish,
                                              model::Findings& findings) = nullptr;
  /// All ways of reading a place that says nothing of its type; null where a value says it itself.
  std::vector<std::string> (*waysToRead)(const std::string& words) = nullptr;
};
const std::vector<DriverKind>& driverKinds();
/// The kind of this name, or null.
const DriverKind* driverKind(std::string_view name);

/// Reads each point of a file: `read` gives what the driver makes of its words, or nothing and a finding. What is there
/// beside its words, as those of a conversion, is the driver's to read.
template <class Own>
std::vector<Own> readPoints(const DeviceText& text, DriverSetup& setup, model::Findings& findings,
                            std::optional<Own> (*read)(const DeviceText::PointText& point, Conversion& conversion,
                                                       model::Findings& findings)) {
  std::vector<Own> out;
  for (const auto& each : text.points) {
    Conversion conversion;
    auto own = read(each, conversion, findings);
    if (!own) continue;
    setup.points.push_back({own->point, std::move(conversion)});
    out.push_back(std::move(*own));
  }
  return out;
}

/// The number under a key, between two bounds; `otherwise` when the key isn't there.
double numberOf(const model::Entry& root, std::string_view key, double otherwise, double low, double high,
                model::Findings& findings);
/// "250 ms", "2 s", "1 min" in milliseconds; nothing when it is no such time.
std::optional<double> parseDuration(std::string_view text);
/// The first line of the file in the site's folder `secrets/` that a key names; empty, with a finding, when it can't be
/// read. Another folder is no place for secrets: whoever edits devices could have any file sent away.
std::string secretOf(const DeviceText& text, std::string_view key, model::Findings& findings);
double durationOf(const model::Entry& root, std::string_view key, double otherwise, model::Findings& findings);

}  // namespace zunth::device
