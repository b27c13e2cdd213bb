#pragma once

#include "core/model/yaml_source.hpp"
#include "service/device/driver.hpp"

#include <functional>

namespace zunth::device {

/// What a file of the folder devices/ says (docs/devices.md).
struct DeviceFile {
  std::string name;  // the file's, without its ending
  std::string driver;
  std::string address;  // for people: "127.0.0.1:5502 unit 1"
  std::string line;     // what only one may speak over: "127.0.0.1:5502"
  /// How it is spoken to and what it offers: devices with the same are the same one.
  std::string identity;
  double every = 1000;  // ms between polls
  std::vector<Point> points;
  std::vector<Action> actions;
  std::function<std::unique_ptr<Driver>()> makeDriver;  // ready to connect

  const Action* action(std::string_view wanted) const;
};

/// Reads a device's file. Findings tell of every mistake; with errors the result is not to be used.
DeviceFile readDeviceFile(const std::string& name, const std::string& file, const std::string& text,
                          model::Findings& findings);

/// "250 ms", "2 s", "1 min" in milliseconds; nothing when it is no such time.
std::optional<double> parseDuration(std::string_view text);

}  // namespace zunth::device
