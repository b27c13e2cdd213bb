#include "service/device/device_file.hpp"

#include "core/ua/text.hpp"
#include "service/device/modbus_driver.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using model::Entry;
using model::Findings;
using model::Text;

namespace {

/// The number under a key, between two bounds; `otherwise` when the key isn't there.
template <class T>
T numberOf(const Entry& root, std::string_view key, T otherwise, double low, double high, Findings& findings) {
  const Text* text = root.textOf(key);
  if (!text) return otherwise;
  auto value = parse(text->text, BuiltInType::Double);
  double number = 0;
  if (value && (*value).toDouble(number) && number >= low && number <= high) return static_cast<T>(number);
  findings.error(text->place, fmt::format("'{}' is no number for '{}'", text->text, key),
                 fmt::format("write one from {} to {}", low, high));
  return otherwise;
}

double durationOf(const Entry& root, std::string_view key, double otherwise, Findings& findings) {
  const Text* text = root.textOf(key);
  if (!text) return otherwise;
  if (auto ms = parseDuration(text->text); ms && *ms >= 1) return *ms;
  findings.error(text->place, fmt::format("'{}' is no time", text->text),
                 "write a number and a unit, as: 250 ms, 2 s, 1 min");
  return otherwise;
}

class ActionReader {
 public:
  ActionReader(const DeviceFile& device, Findings& findings) : device_(device), findings_(findings) {}

  Action read(const Entry& entry) {
    Action action{entry.key.text, {}};
    std::vector<Text> lines = entry.items;
    if (entry.value) lines.push_back(*entry.value);
    if (lines.empty())
      findings_.error(entry.key.place, fmt::format("the action '{}' does nothing", entry.key.text), kHelp);
    for (const Text& line : lines) readStep(line, action);
    return action;
  }

 private:
  static constexpr const char* kHelp = "a step is 'POINT = VALUE', 'POINT = input NAME' or 'output NAME = POINT'";

  void readStep(const Text& line, Action& action) {
    const auto equals = line.text.find(" = ");
    if (equals == std::string::npos)
      return findings_.error(line.place, fmt::format("'{}' is no step", line.text), kHelp);
    const Text left = line.part(0, equals), right = line.part(equals + 3);
    if (left.text.starts_with("output ")) {
      if (const auto point = pointNamed(right))
        action.steps.push_back({ActionStep::Kind::ReadOutput, *point, left.text.substr(7), {}});
      return;
    }
    const auto point = pointNamed(left);
    if (!point) return;
    if (!device_.points[*point].isWritable)
      return findings_.error(left.place, fmt::format("the point '{}' can't be written", left.text),
                             "coils and holding registers can");
    if (right.text.starts_with("input ")) {
      action.steps.push_back({ActionStep::Kind::WriteInput, *point, right.text.substr(6), {}});
      return;
    }
    auto value = parse(right.text, device_.points[*point].type);
    if (!value)
      return findings_.error(right.place, value.error().cause, "an argument of the method is written 'input NAME'");
    action.steps.push_back({ActionStep::Kind::WriteValue, *point, {}, *value});
  }

  std::optional<PointIndex> pointNamed(const Text& name) {
    std::vector<std::string> names;
    for (std::size_t i = 0; i < device_.points.size(); ++i) {
      if (device_.points[i].name == name.text) return i;
      names.push_back(device_.points[i].name);
    }
    const auto near = nearest(name.text, names);
    findings_.error(name.place, fmt::format("there is no point '{}'", name.text),
                    near.empty() ? kHelp : fmt::format("did you mean '{}'?", near));
    return std::nullopt;
  }

  const DeviceFile& device_;
  Findings& findings_;
};

/// An entry without its places in the file.
std::string plain(const Entry& entry) {
  std::string out = entry.key.text + (entry.value ? "=" + entry.value->text : "");
  for (const auto& item : entry.items) out += "," + item.text;
  for (const auto& each : entry.entries) out += "{" + plain(each) + "}";
  return out;
}

}  // namespace

const Action* DeviceFile::action(std::string_view wanted) const {
  const auto found = std::ranges::find(actions, wanted, &Action::name);
  return found == actions.end() ? nullptr : &*found;
}

std::optional<double> parseDuration(std::string_view text) {
  const auto end = text.find_first_not_of("0123456789.");
  if (end == std::string_view::npos) return std::nullopt;
  auto value = parse(text.substr(0, end), BuiltInType::Double);
  const std::string_view unit = text.substr(text[end] == ' ' ? end + 1 : end);
  const double factor = unit == "ms" ? 1 : unit == "s" ? 1000 : unit == "min" ? 60'000 : unit == "h" ? 3'600'000 : 0;
  if (!value || factor == 0) return std::nullopt;
  return *value->get<double>() * factor;
}

DeviceFile readDeviceFile(const std::string& name, const std::string& file, const std::string& text,
                          Findings& findings) {
  DeviceFile device;
  device.name = name;
  const Entry root = model::readYaml(file, text, findings);
  checkKeys(root, {"about", "driver", "host", "port", "unit", "every", "timeout", "gap", "points", "actions"},
            findings);
  const Text* driver = root.textOf("driver");
  if (!driver || driver->text != "modbus-tcp")
    findings.error(driver ? driver->place : root.key.place,
                   driver ? fmt::format("there is no driver '{}'", driver->text) : "the device names no driver",
                   "write: driver: modbus-tcp");
  device.driver = "modbus-tcp";

  modbus::Settings settings;
  if (const Text* host = root.textOf("host")) settings.host = host->text;
  settings.port = numberOf<std::uint16_t>(root, "port", settings.port, 1, 65535, findings);
  settings.unit = numberOf<std::uint8_t>(root, "unit", settings.unit, 0, 255, findings);
  settings.gap = numberOf<std::uint16_t>(root, "gap", settings.gap, 0, 100, findings);
  settings.timeout = durationOf(root, "timeout", settings.timeout, findings);
  device.every = durationOf(root, "every", device.every, findings);
  device.line = fmt::format("{}:{}", settings.host, settings.port);
  device.address = fmt::format("{} unit {}", device.line, settings.unit);

  std::vector<modbus::ModbusPoint> points;
  const Entry* list = root.find("points");
  if (!list || list->entries.empty())
    findings.error(root.key.place, "the device has no points", "write them under 'points:'");
  if (list)
    for (const Entry& entry : list->entries) {
      if (!entry.value) {
        findings.error(entry.key.place, fmt::format("the point '{}' says nothing", entry.key.text),
                       "as in: pressure: input 0 Float");
        continue;
      }
      if (auto point = modbus::parsePoint(entry.key, *entry.value, findings)) {
        device.points.push_back(point->point);
        points.push_back(std::move(*point));
      }
    }
  if (const Entry* actions = root.find("actions"))
    for (const Entry& entry : actions->entries) device.actions.push_back(ActionReader(device, findings).read(entry));
  for (const char* key : {"driver", "host", "port", "unit", "timeout", "gap", "points"})
    if (const Entry* entry = root.find(key)) device.identity += plain(*entry) + "\n";
  device.makeDriver = [settings, points = std::move(points)] {
    return std::make_unique<modbus::ModbusDriver>(settings, points);
  };
  return device;
}

}  // namespace zunth::device
