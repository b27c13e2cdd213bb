#pragma once

#include "service/device/driver_kinds.hpp"

namespace zunth::device {

/// One step of an action: writes an input or a fixed value to a point, reads a point into an output, waits until a
/// point shows something, or lets time pass.
struct ActionStep {
  enum class Kind { WriteInput, WriteValue, ReadOutput, Wait, Pause } kind;
  PointIndex point = 0;
  std::string name;   // of the input or output; of a wait, of the input that is compared with
  ua::Variant value;  // fixed, of the point's type as it is shown
  enum class Relation { Equal, Unequal, Less, AtMost, More, AtLeast } relation = Relation::Equal;  // of a wait
  double time = 0;                                                                                 // ms, at most
  std::string text;  // of a wait, for people: "washing = true"
};
/// Whether a point's value is as a wait has it.
bool holds(ActionStep::Relation relation, const ua::Variant& shown, const ua::Variant& wanted);
struct Action {
  std::string name;
  std::vector<ActionStep> steps;
};

/// A point that changes as long as the device is well.
struct Heartbeat {
  PointIndex point = 0;
  double within = 0;  // ms
};

/// What a file of the folder devices/ says (docs/devices.md).
struct DeviceFile {
  std::string name;  // the file's, without its ending
  std::string driver;
  std::string address;  // for people: "127.0.0.1:5502 unit 1"
  std::string line;     // what only one may speak over: "127.0.0.1:5502"
  /// How it is spoken to and what it offers: devices with the same are the same one.
  std::string identity;
  std::string discovers;     // which points it finds by itself, as its file has it; empty for none
  double every = 1000;       // ms between polls
  bool isWhenAsked = false;  // as of a point
  std::vector<DevicePoint> points;
  std::vector<Action> actions;
  std::optional<Heartbeat> heartbeat;
  std::function<std::unique_ptr<Driver>()> makeDriver;  // ready to start
  std::function<ua::Result<Trace>()> nameplate;         // as DriverSetup's

  const Action* action(std::string_view wanted) const;
  /// The beat of a point: its own, or the device's.
  double beatOf(PointIndex point) const { return points[point].every > 0 ? points[point].every : every; }
  bool isWhenAskedFor(PointIndex point) const {
    return points[point].every > 0 ? points[point].isWhenAsked : isWhenAsked;
  }
  /// For how many points beyond its own.
  std::size_t room() const { return discovers.empty() ? 0 : kMostDiscovered; }
};

/// Reads a device's file. Findings tell of every mistake; with errors the result is not to be used. What it names of
/// files lies in `folder`, the lists of its points in that of the site's own files where it is another.
DeviceFile readDeviceFile(const std::string& name, const std::string& file, const std::string& text,
                          model::Findings& findings, const std::filesystem::path& folder = {},
                          const std::filesystem::path& lists = {});

}  // namespace zunth::device
