#include "core/model/alarm_care.hpp"

#include "core/space/conditions.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

struct ClassRow {
  std::string_view word;
  StandardId type;
};
constexpr ClassRow kClasses[] = {
    {"process", id::ProcessConditionClassType},   {"maintenance", id::MaintenanceConditionClassType},
    {"system", id::SystemConditionClassType},     {"safety", id::SafetyConditionClassType},
    {"training", id::TrainingConditionClassType}, {"managed", id::HighlyManagedAlarmConditionClassType},
};

/// Words that stand alone, each for a part of the alarm that is there when this member is.
struct FlagRow {
  std::string_view word;
  bool AlarmCare::*flag;
  const char* member;
};
constexpr FlagRow kFlags[] = {
    {"shelvable", &AlarmCare::isShelvable, "ShelvingState"},
    {"latched", &AlarmCare::isLatched, "LatchedState"},
    {"suppressible", &AlarmCare::isSuppressible, "Suppress"},
    {"removable", &AlarmCare::isRemovable, "RemoveFromService"},
    {"audible", &AlarmCare::isAudible, "SilenceState"},
};

template <class T>
std::optional<T> valueAt(const Space& space, NodeIndex variable) {
  if (variable == kNoNode) return std::nullopt;
  const DataValue held = space.value(variable);
  const auto* value = held.value.get<T>();
  return value ? std::optional<T>(*value) : std::nullopt;
}
std::vector<Text> textsAt(const Space& space, NodeIndex variable) {
  std::vector<Text> out;
  if (variable == kNoNode) return out;
  const DataValue held = space.value(variable);
  for (const auto& text : held.value.items<String>()) out.push_back({text.str(), {}});
  return out;
}

}  // namespace

std::optional<double> readTime(std::string_view text) {
  for (const auto& [unit, factor] :
       {std::pair<std::string_view, double>{"ms", 1}, {"s", 1e3}, {"min", 60e3}, {"h", 3600e3}, {"d", 86400e3}}) {
    if (!text.ends_with(unit)) continue;
    const auto number = text.substr(0, text.size() - unit.size());
    double value = 0;
    const auto [end, failure] = std::from_chars(number.data(), number.data() + number.size(), value);
    if (failure == std::errc() && end == number.data() + number.size() && std::isfinite(value) && value >= 0)
      return value * factor;
  }
  return std::nullopt;
}

std::string timeText(double ms) {
  for (const auto& [unit, factor] :
       {std::pair<const char*, double>{"d", 86400e3}, {"h", 3600e3}, {"min", 60e3}, {"s", 1e3}})
    if (ms >= factor && std::fmod(ms, factor) == 0) return fmt::format("{}{}", ms / factor, unit);
  return fmt::format("{}ms", ms);
}

std::optional<StandardId> conditionClassNamed(std::string_view word) {
  const auto row = std::ranges::find(kClasses, word, &ClassRow::word);
  return row == std::end(kClasses) ? std::nullopt : std::optional(row->type);
}

const std::vector<std::string>& CareReader::words() {
  static const std::vector<std::string> all = {"shelvable", "latched",  "suppressible", "removable", "audible",
                                               "realarm",   "branches", "suppressed",   "group",     "class"};
  return all;
}

CareReader::Outcome CareReader::wrong(const Text& where, const std::string& message, const char* hint) {
  findings_.error(where.place, message, hint);
  return Outcome::Wrong;
}

CareReader::Outcome CareReader::readTime(const Text& word, std::optional<double>& out, const char* hint) {
  const Text* said = next();
  const auto time = said ? model::readTime(said->text) : std::nullopt;
  if (!time || *time <= 0)
    return wrong(said ? *said : word, fmt::format("'{}' is followed by a time", word.text), hint);
  out = *time;
  return Outcome::Read;
}

CareReader::Outcome CareReader::read(const Text& word) {
  if (const auto row = std::ranges::find(kFlags, word.text, &FlagRow::word); row != std::end(kFlags)) {
    out_.*row->flag = true;
    if (word.text != "shelvable" || at_ >= words_.size() || words_[at_].text != "for") return Outcome::Read;
    const Text& until = words_[at_++];
    return readTime(until, out_.mostShelved, "as in: shelvable for 8h");
  }
  if (word.text == "realarm") return readTime(word, out_.reAlarm, "as in: realarm 30min");
  if (word.text == "branches") {
    const Text* said = next();
    unsigned number = 0;
    if (said) std::from_chars(said->text.data(), said->text.data() + said->text.size(), number);
    if (number < 1 || number > 100)
      return wrong(said ? *said : word, "'branches' is followed by a number from 1 to 100", "as in: branches 5");
    out_.branches = static_cast<std::uint16_t>(number);
    return Outcome::Read;
  }
  if (word.text == "suppressed") {
    const Text* how = next();
    const Text* what = next();
    if (!what || (how->text != "while" && how->text != "by"))
      return wrong(how ? *how : word, "'suppressed' says while what, or by which group",
                   "as in: suppressed while Hatchery/cleaning");
    (how->text == "while" ? out_.suppressedWhile : out_.suppressedBy) = *what;
    return Outcome::Read;
  }
  if (word.text == "group" || word.text == "class") {
    const Text* name = next();
    if (!name) return wrong(word, fmt::format("'{}' is followed by a name", word.text), "as in: group Pumps");
    if (word.text == "group")
      out_.groups.push_back(*name);
    else
      out_.conditionClass = *name;
    return Outcome::Read;
  }
  return Outcome::Unknown;
}

std::vector<std::string> careWords(const AlarmCare& care) {
  std::vector<std::string> out;
  for (const auto& row : kFlags) {
    if (care.*row.flag) out.emplace_back(row.word);
    if (row.word == "shelvable" && care.isShelvable && care.mostShelved)
      out.push_back("for " + timeText(*care.mostShelved));
  }
  if (care.reAlarm) out.push_back("realarm " + timeText(*care.reAlarm));
  if (care.branches) out.push_back(fmt::format("branches {}", *care.branches));
  if (care.suppressedWhile) out.push_back("suppressed while " + care.suppressedWhile->text);
  if (care.suppressedBy) out.push_back("suppressed by " + care.suppressedBy->text);
  for (const auto& group : care.groups) out.push_back("group " + group.text);
  if (care.conditionClass) out.push_back("class " + care.conditionClass->text);
  return out;
}

std::optional<AlarmCare> careOf(const Space& space, NodeIndex alarm) {
  AlarmCare out;
  const auto member = [&](const char* name) { return space.child(alarm, {0, name}); };
  const auto own = [&](std::string_view name) { return space::ownProperty(space, alarm, name); };
  for (const auto& row : kFlags) out.*row.flag = member(row.member) != kNoNode;
  out.mostShelved = valueAt<double>(space, member("MaxTimeShelved"));
  out.reAlarm = valueAt<double>(space, member("ReAlarmTime"));
  out.branches = valueAt<std::uint16_t>(space, own(space::kMostBranches));
  out.groups = textsAt(space, own(space::kGroups));
  if (const auto name = valueAt<String>(space, own(space::kSuppressedBy))) out.suppressedBy = Text{name->str(), {}};
  if (const auto path = valueAt<String>(space, own(space::kSuppressedWhilePath)))
    out.suppressedWhile = Text{path->str(), {}};
  const auto type = valueAt<NodeId>(space, member("ConditionClassId"));
  if (type && !type->isNull() && !type->is(id::ProcessConditionClassType)) {
    const auto row = std::ranges::find_if(kClasses, [&](const ClassRow& each) { return type->is(each.type); });
    const NodeIndex node = space.find(*type);
    if (row == std::end(kClasses) && node == kNoNode) return std::nullopt;
    out.conditionClass = Text{row == std::end(kClasses) ? std::string(space.name(node)) : std::string(row->word), {}};
  }
  return out;
}

AlarmCare beyond(AlarmCare own, const AlarmCare& above) {
  const bool isShelvedLonger = own.mostShelved != above.mostShelved;
  for (const auto& row : kFlags)
    if (above.*row.flag) own.*row.flag = false;
  if (isShelvedLonger)
    own.isShelvable = true;
  else
    own.mostShelved.reset();
  const auto same = [](const std::optional<Text>& a, const std::optional<Text>& b) {
    return a.has_value() == b.has_value() && (!a || a->text == b->text);
  };
  if (own.reAlarm == above.reAlarm) own.reAlarm.reset();
  if (own.branches == above.branches) own.branches.reset();
  if (same(own.suppressedWhile, above.suppressedWhile)) own.suppressedWhile.reset();
  if (same(own.suppressedBy, above.suppressedBy)) own.suppressedBy.reset();
  if (same(own.conditionClass, above.conditionClass)) own.conditionClass.reset();
  std::erase_if(own.groups, [&](const Text& group) {
    return std::ranges::any_of(above.groups, [&](const Text& other) { return other.text == group.text; });
  });
  return own;
}

bool isCareMember(std::string_view name) {
  static constexpr std::string_view members[] = {"ShelvingState",
                                                 "MaxTimeShelved",
                                                 "LatchedState",
                                                 "Reset",
                                                 "Reset2",
                                                 "SuppressedState",
                                                 "Suppress",
                                                 "Suppress2",
                                                 "Unsuppress",
                                                 "Unsuppress2",
                                                 "OutOfServiceState",
                                                 "RemoveFromService",
                                                 "RemoveFromService2",
                                                 "PlaceInService",
                                                 "PlaceInService2",
                                                 "AudibleEnabled",
                                                 "SilenceState",
                                                 "Silence",
                                                 "ReAlarmTime",
                                                 "ReAlarmRepeatCount",
                                                 "FirstInGroupFlag",
                                                 "GetGroupMemberships",
                                                 space::kSuppressedWhile,
                                                 space::kSuppressedWhilePath,
                                                 space::kMostBranches,
                                                 space::kGroups,
                                                 space::kSuppressedBy};
  return std::ranges::find(members, name) != std::end(members);
}

}  // namespace zunth::model
