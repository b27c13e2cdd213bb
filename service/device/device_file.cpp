#include "service/device/device_file.hpp"

#include "core/model/table.hpp"
#include "core/ua/text.hpp"
#include "service/device/plain_value.hpp"

#include <algorithm>
#include <fstream>
#include <map>
#include <regex>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using model::Entry;
using model::Findings;
using model::Text;

namespace {

/// "10 s" behind "within" at the end of a line, and what is before; nothing where there is none.
std::optional<std::pair<Text, double>> splitWithin(const Text& line) {
  const auto at = line.text.rfind(" within ");
  const auto time = at == std::string::npos ? std::nullopt : parseDuration(line.text.substr(at + 8));
  if (!time || !(*time > 0)) return std::nullopt;
  return std::pair(line.part(0, at), *time);
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
  static constexpr const char* kHelp =
      "a step is 'POINT = VALUE', 'POINT = input NAME', 'output NAME = POINT', 'wait POINT = VALUE within 5 s' or "
      "'pause 200 ms'";
  static constexpr std::pair<const char*, ActionStep::Relation> kRelations[] = {
      {" != ", ActionStep::Relation::Unequal}, {" <= ", ActionStep::Relation::AtMost},
      {" >= ", ActionStep::Relation::AtLeast}, {" < ", ActionStep::Relation::Less},
      {" > ", ActionStep::Relation::More},     {" = ", ActionStep::Relation::Equal}};

  void readStep(const Text& line, Action& action) {
    if (line.text.starts_with("wait ")) return readWait(line.part(5), action);
    if (line.text.starts_with("pause ")) {
      const auto time = parseDuration(line.text.substr(6));
      if (!time) return findings_.error(line.place, fmt::format("'{}' is no step", line.text), kHelp);
      ActionStep step{ActionStep::Kind::Pause};
      step.time = *time;
      return action.steps.push_back(std::move(step));
    }
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
    auto value = valueOf(*point, right);
    if (value) action.steps.push_back({ActionStep::Kind::WriteValue, *point, {}, std::move(*value)});
  }

  /// "POINT = VALUE within TIME", with any relation.
  void readWait(const Text& line, Action& action) {
    const auto within = splitWithin(line);
    const auto* relation = std::ranges::find_if(kRelations, [&](const auto& each) {
      return within && within->first.text.find(each.first) != std::string::npos;
    });
    if (!within || relation == std::end(kRelations))
      return findings_.error(line.place, fmt::format("'wait {}' is no step", line.text), kHelp);
    const Text& condition = within->first;
    const std::string_view sign = relation->first;
    const auto at = condition.text.find(sign);
    const auto point = pointNamed(condition.part(0, at));
    if (!point) return;
    ActionStep step{ActionStep::Kind::Wait, *point};
    step.relation = relation->second;
    step.time = within->second;
    step.text = condition.text;
    const Text right = condition.part(at + sign.size());
    if (right.text.starts_with("input ")) {
      step.name = right.text.substr(6);
    } else {
      auto value = valueOf(*point, right);
      if (!value) return;
      step.value = std::move(*value);
    }
    action.steps.push_back(std::move(step));
  }

  std::optional<Variant> valueOf(PointIndex point, const Text& text) {
    const BuiltInType type = device_.points[point].type();
    auto value = type == BuiltInType::Variant ? Result<Variant>(plainValue(text.text))
                                              : parse(text.text, type, device_.points[point].raw.length > 0);
    if (value) return std::move(*value);
    findings_.error(text.place, value.error().cause, "an argument of the method is written 'input NAME'");
    return std::nullopt;
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

/// "POINT within TIME".
std::optional<Heartbeat> readHeartbeat(const Entry& root, const DeviceFile& device, Findings& findings) {
  const Text* line = root.textOf("heartbeat");
  if (!line) return std::nullopt;
  const auto within = splitWithin(*line);
  const auto fail = [&](std::string message) {
    findings.error(line->place, std::move(message), "as in: heartbeat: watchdog within 5 s");
    return std::nullopt;
  };
  if (!within) return fail(fmt::format("'{}' is no heartbeat", line->text));
  const auto point = std::ranges::find(device.points, within->first.text, &DevicePoint::name);
  if (point == device.points.end()) return fail(fmt::format("there is no point '{}'", within->first.text));
  const auto index = static_cast<PointIndex>(point - device.points.begin());
  if (const double every = device.beatOf(index); within->second < every * 2)
    return fail(fmt::format("the heartbeat is looked at each {:g} ms: {:g} ms are too few", every, within->second));
  return Heartbeat{index, within->second};
}

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

/// How often: "250 ms", or "1 s when asked".
struct Beat {
  double ms = 0;
  bool isWhenAsked = false;
};
Beat beatOf(const Entry& entry, Beat otherwise, Findings& findings) {
  const Text* text = entry.textOf("every");
  if (!text) return otherwise;
  constexpr std::string_view kWhenAsked = " when asked";
  const bool isWhenAsked = text->text.ends_with(kWhenAsked);
  const auto time =
      parseDuration(std::string_view(text->text).substr(0, text->text.size() - (isWhenAsked ? kWhenAsked.size() : 0)));
  if (time && *time >= 1) return {*time, isWhenAsked};
  findings.error(text->place, fmt::format("'{}' is no beat", text->text),
                 "write a number and a unit, as: 250 ms, 2 s, 1 min; or: 250 ms when asked");
  return otherwise;
}

/// Collects the points of a file and of its groups, each with its beat.
struct PointReader {
  explicit PointReader(Findings& f) : findings(f) {}
  void read(const Entry& list, Beat every) {
    for (const Entry& entry : list.entries) {
      if (entry.entries.empty()) {
        readOne(entry.key, entry.value, every);
      } else {
        // In long form, with a beat of its own.
        checkKeys(entry, {"point", "every"}, findings);
        const Text* words = entry.textOf("point");
        readOne(entry.key, words ? std::optional<Text>(*words) : std::nullopt, beatOf(entry, every, findings));
      }
    }
  }
  void readOne(const Text& name, const std::optional<Text>& words, Beat every) {
    if (!words)
      findings.error(name.place, fmt::format("the point '{}' says nothing", name.text),
                     "as in: pressure: input 0 Float, or pressure: {point: input 0 Float, every: 1 s}");
    else
      for (auto& text : expanded(name, *words)) add(std::move(text), every);
  }
  void add(DeviceText::PointText text, Beat every) {
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
  /// A list of points in devices/, as `zunth device points --output csv` writes it: the columns point and where, and
  /// every where there is one.
  void readList(const Text& name, const std::filesystem::path& folder) {
    const auto path = folder / "devices" / name.text;
    const std::string file = "devices/" + name.text;
    constexpr std::uintmax_t kMost = 64u << 20;
    std::error_code failed;
    const bool isPlain = name.text.find('/') == std::string::npos && name.text.ends_with(".csv") &&
                         std::filesystem::is_regular_file(path, failed) &&
                         std::filesystem::file_size(path, failed) <= kMost && !failed;
    std::ifstream in(path, std::ios::binary);
    if (!isPlain || !in)
      return findings.error(name.place, fmt::format("there is no list of points {}", file),
                            "write the name of a CSV file in devices/, as in: points-from: pumps.csv");
    const std::string text(std::istreambuf_iterator<char>(in), {});
    const auto rows = model::readCsv(file, text, findings);
    const auto column = [&](std::string_view title) {
      const auto& titles = rows.front();
      const auto found = std::ranges::find(titles, title, &Text::text);
      return static_cast<std::size_t>(found - titles.begin());
    };
    if (rows.empty()) return findings.error({file, 1, 1, 1}, "the list is empty", "its first line names the columns");
    const std::size_t point = column("point"), where = column("where"), beat = column("every");
    if (point == rows.front().size() || where == rows.front().size())
      return findings.error(rows.front().front().place, "a list of points has the columns point and where",
                            "as in: point,where");
    for (std::size_t i = 1; i < rows.size(); ++i) {
      const auto& row = rows[i];
      if (row.size() <= std::max(point, where) || row[point].text.empty()) continue;
      double every = 0;
      if (beat < row.size() && !row[beat].text.empty()) {
        // A number alone is one of milliseconds, as commands write it.
        const auto plain = parse(row[beat].text, BuiltInType::Double);
        const auto given = plain ? std::optional(*plain->get<double>()) : parseDuration(row[beat].text);
        if (!given) findings.error(row[beat].place, fmt::format("'{}' is no time", row[beat].text), "as in: 500 ms");
        every = given.value_or(0);
      }
      readOne(row[point], row[where], {every});
    }
  }
  Findings& findings;
  std::vector<DeviceText::PointText> texts;
  std::map<std::string, Beat> beats;
};

}  // namespace

bool holds(ActionStep::Relation relation, const Variant& shown, const Variant& wanted) {
  using Relation = ActionStep::Relation;
  double is = 0, at = 0;
  const bool areNumbers = shown.toDouble(is) && wanted.toDouble(at);
  switch (relation) {
    case Relation::Equal: return areNumbers ? is == at : shown == wanted;
    case Relation::Unequal: return areNumbers ? is != at : !(shown == wanted);
    case Relation::Less: return areNumbers && is < at;
    case Relation::AtMost: return areNumbers && is <= at;
    case Relation::More: return areNumbers && is > at;
    case Relation::AtLeast: return areNumbers && is >= at;
  }
  return false;
}

const Action* DeviceFile::action(std::string_view wanted) const {
  const auto found = std::ranges::find(actions, wanted, &Action::name);
  return found == actions.end() ? nullptr : &*found;
}

DeviceFile readDeviceFile(const std::string& name, const std::string& file, const std::string& text, Findings& findings,
                          const std::filesystem::path& folder, const std::filesystem::path& lists) {
  DeviceFile device;
  device.name = name;
  const Entry root = model::readYaml(file, text, findings);
  const DriverKind& kind = kindOf(root, findings);
  std::vector<std::string> keys{"about", "driver", "every", "points", "points-from", "groups", "actions", "heartbeat"};
  keys.insert(keys.end(), kind.keys.begin(), kind.keys.end());
  checkKeys(root, keys, findings);
  device.driver = kind.name;
  const Beat beat = beatOf(root, {device.every}, findings);
  device.every = beat.ms;
  device.isWhenAsked = beat.isWhenAsked;

  PointReader points(findings);
  if (const Entry* list = root.find("points")) points.read(*list, {});
  if (const Entry* groups = root.find("groups"))
    for (const Entry& group : groups->entries) {
      checkKeys(group, {"every", "points"}, findings);
      const Beat every = beatOf(group, {}, findings);
      if (const Entry* list = group.find("points")) points.read(*list, every);
    }
  if (const Text* list = root.textOf("points-from")) points.readList(*list, lists.empty() ? folder : lists);
  const Entry* discovers =
      std::ranges::find(kind.keys, "discover") == kind.keys.end() ? nullptr : root.find("discover");
  if (discovers) device.discovers = plain(*discovers);
  if (points.texts.empty() && !discovers)
    findings.error(root.key.place, "the device has no points", "write them under 'points:'");
  DriverSetup setup = kind.read({root, points.texts, name, folder}, findings);
  device.line = std::move(setup.line);
  device.address = std::move(setup.address);
  device.points = std::move(setup.points);
  for (auto& point : device.points) {
    const Beat own = points.beats[point.name()];
    point.every = own.ms;
    point.isWhenAsked = own.isWhenAsked;
  }
  device.heartbeat = readHeartbeat(root, device, findings);
  if (const Entry* actions = root.find("actions"))
    for (const Entry& entry : actions->entries) device.actions.push_back(ActionReader(device, findings).read(entry));
  device.identity = fmt::format("{}\n{}\n", device.driver, setup.secrets);
  for (const auto key : kind.keys)
    if (const Entry* entry = root.find(key)) device.identity += plain(*entry) + "\n";
  for (const auto& point : device.points) device.identity += point.name() + "=" + point.raw.where + "\n";
  device.nameplate = std::move(setup.nameplate);
  device.makeDriver = [make = std::move(setup.make), name] { return make(name); };
  return device;
}

}  // namespace zunth::device
