#pragma once

#include "core/model/yaml_source.hpp"
#include "service/device/conversion.hpp"

#include <functional>

namespace zunth::device {

/// A point as a device's file gives it: what the device offers, and what is made of it.
struct DevicePoint {
  Point raw;
  Conversion conversion;
  double every = 0;  // ms, of a beat of its own; 0 for the device's

  const std::string& name() const { return raw.name; }
  ua::BuiltInType type() const { return conversion.typeFrom(raw.type); }
  bool isWritable() const { return raw.isWritable && conversion.bit < 0; }
};

/// What a driver makes of a device's file.
struct DriverSetup {
  std::string address;              // for people: "127.0.0.1:5502 unit 1"
  std::string line;                 // what only one may speak over: "127.0.0.1:5502"
  std::vector<DevicePoint> points;  // in the driver's order
  std::function<std::unique_ptr<Driver>(const std::string& device)> make;
};

/// One row a driver: what devices/ may say of it, and how it is made. Check, help, schema and docs come from here.
struct DriverKind {
  /// A point's name and the words behind it.
  struct PointText {
    model::Text name, words;
  };
  std::string_view name;
  std::vector<std::string_view> keys;  // beside those that every device's file has
  /// Findings tell of every mistake; with errors the result is not to be used.
  DriverSetup (*read)(const model::Entry& root, const std::vector<PointText>& points, model::Findings& findings);
};
const std::vector<DriverKind>& driverKinds();

/// The number under a key, between two bounds; `otherwise` when the key isn't there.
double numberOf(const model::Entry& root, std::string_view key, double otherwise, double low, double high,
                model::Findings& findings);
/// "250 ms", "2 s", "1 min" in milliseconds; nothing when it is no such time.
std::optional<double> parseDuration(std::string_view text);
double durationOf(const model::Entry& root, std::string_view key, double otherwise, model::Findings& findings);

}  // namespace zunth::device
