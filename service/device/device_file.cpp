#include "service/device/device_file.hpp"

#include "core/ua/text.hpp"
#include "service/device/plain_value.hpp"

#include <algorithm>
#include <map>
#include <regex>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using model::Entry;
using model::Findings;
using model::Text;

namespace {

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
    if (!device_.points[*point].isWritable())
      return findings_.error(left.place, fmt::format("the point '{}' can't be written", left.text),
                             "look at what the driver writes: docs/devices.md");
    if (right.text.starts_with("input ")) {
      action.steps.push_back({ActionStep::Kind::WriteInput, *point, right.text.substr(6), {}});
      return;
    }
    const BuiltInType type = device_.points[*point].type();
    auto value = type == BuiltInType::Variant ? Result<Variant>(plainValue(right.text))
                                              : parse(right.text, type, device_.points[*point].raw.length > 0);
    if (!value)
      return findings_.error(right.place, value.error().cause, "an argument of the method is written 'input NAME'");
    action.steps.push_back({ActionStep::Kind::WriteValue, *point, {}, *value});
  }

  std::optional<PointIndex> pointNamed(const Text& name) {
    std::vector<std::string> names;
    for (std::size_t i = 0; i < device_.points.size(); ++i) {
      if (device_.points[i].name() == name.text) return i;
      names.push_back(device_.points[i].name());
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

/// The row of the driver that the file names; the first, with a finding, when it names none that there is.
const DriverKind& kindOf(const Entry& root, Findings& findings) {
  const auto& kinds = driverKinds();
  const Text* driver = root.textOf("driver");
  if (driver) {
    const auto found = std::ranges::find(kinds, driver->text, &DriverKind::name);
    if (found != kinds.end()) return *found;
  }
  std::vector<std::string> names;
  for (const auto& kind : kinds) names.emplace_back(kind.name);
  const auto near = driver ? nearest(driver->text, names) : std::string();
  findings.error(driver ? driver->place : root.key.place,
                 driver ? fmt::format("there is no driver '{}'", driver->text) : "the device names no driver",
                 near.empty() ? fmt::format("write: driver: {}", fmt::join(names, ", or "))
                              : fmt::format("did you mean '{}'?", near));
  return kinds.front();
}

/// Collects the points of a file and of its groups, each with its beat.
struct PointReader {
  explicit PointReader(Findings& f) : findings(f) {}
  void read(const Entry& list, double every) {
    for (const Entry& entry : list.entries) {
      if (entry.entries.empty()) {
        readOne(entry.key, entry.value, every);
      } else {
        // In long form, with a beat of its own.
        checkKeys(entry, {"point", "every"}, findings);
        const Text* words = entry.textOf("point");
        readOne(entry.key, words ? std::optional<Text>(*words) : std::nullopt,
                durationOf(entry, "every", every, findings));
      }
    }
  }
  void readOne(const Text& name, const std::optional<Text>& words, double every) {
    if (!words)
      findings.error(name.place, fmt::format("the point '{}' says nothing", name.text),
                     "as in: pressure: input 0 Float, or pressure: {point: input 0 Float, every: 1 s}");
    else
      for (auto& text : expanded(name, *words)) add(std::move(text), every);
  }
  void add(DeviceText::PointText text, double every) {
    if (!beats.emplace(text.name.text, every).second)
      findings.error(text.name.place, fmt::format("the point '{}' is there twice", text.name.text),
                     "a point belongs to one group");
    else
      texts.push_back(std::move(text));
  }
  /// "tank{1..4}: hall1/t{1..4}/oxygen" is four points.
  std::vector<DeviceText::PointText> expanded(const Text& key, const Text& words) {
    static const std::regex range(R"(\{(\d{1,5})\.\.(\d{1,5})\})");
    std::smatch found;
    const std::string& name = key.text;
    if (!std::regex_search(name, found, range)) return {{key, words}};
    const int first = std::stoi(found[1]), last = std::stoi(found[2]);
    constexpr int kMost = 10'000;
    if (last < first || last - first >= kMost) {
      findings.error(key.place, fmt::format("'{}' is no range", found.str()), "as in: tank{1..4}");
      return {};
    }
    std::vector<DeviceText::PointText> out;
    for (int i = first; i <= last; ++i) {
      DeviceText::PointText point{key, words};
      for (std::string* text : {&point.name.text, &point.words.text})
        for (auto at = text->find(found.str()); at != std::string::npos; at = text->find(found.str(), at))
          text->replace(at, found.str().size(), std::to_string(i));
      out.push_back(std::move(point));
    }
    return out;
  }
  Findings& findings;
  std::vector<DeviceText::PointText> texts;
  std::map<std::string, double> beats;  // ms
};

}  // namespace

const Action* DeviceFile::action(std::string_view wanted) const {
  const auto found = std::ranges::find(actions, wanted, &Action::name);
  return found == actions.end() ? nullptr : &*found;
}

DeviceFile readDeviceFile(const std::string& name, const std::string& file, const std::string& text, Findings& findings,
                          const std::filesystem::path& folder) {
  DeviceFile device;
  device.name = name;
  const Entry root = model::readYaml(file, text, findings);
  const DriverKind& kind = kindOf(root, findings);
  std::vector<std::string> keys{"about", "driver", "every", "points", "groups", "actions"};
  keys.insert(keys.end(), kind.keys.begin(), kind.keys.end());
  checkKeys(root, keys, findings);
  device.driver = kind.name;
  device.every = durationOf(root, "every", device.every, findings);

  PointReader points(findings);
  if (const Entry* list = root.find("points")) points.read(*list, 0);
  if (const Entry* groups = root.find("groups"))
    for (const Entry& group : groups->entries) {
      checkKeys(group, {"every", "points"}, findings);
      const double every = durationOf(group, "every", 0, findings);
      if (const Entry* list = group.find("points")) points.read(*list, every);
    }
  if (points.texts.empty()) findings.error(root.key.place, "the device has no points", "write them under 'points:'");
  DriverSetup setup = kind.read({root, points.texts, name, folder}, findings);
  device.line = std::move(setup.line);
  device.address = std::move(setup.address);
  device.points = std::move(setup.points);
  for (auto& point : device.points) point.every = points.beats[point.name()];
  if (const Entry* actions = root.find("actions"))
    for (const Entry& entry : actions->entries) device.actions.push_back(ActionReader(device, findings).read(entry));
  device.identity = fmt::format("{}\n{}\n", device.driver, setup.secrets);
  for (const auto key : kind.keys)
    if (const Entry* entry = root.find(key)) device.identity += plain(*entry) + "\n";
  for (const auto& point : device.points) device.identity += point.name() + "=" + point.raw.where + "\n";
  device.makeDriver = [make = std::move(setup.make), name] { return make(name); };
  return device;
}

}  // namespace zunth::device
