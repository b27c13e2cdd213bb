#include "service/client/conditions.hpp"

#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"
#include "service/client/event_fields.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

namespace {

/// What is asked of each condition.
struct AskedField {
  const char* path;
  StandardId type;  // of events, which has it
  void (*take)(Condition& condition, const Variant& value);
};

template <class T>
void takeAs(T& out, const Variant& value) {
  if (const auto* held = value.get<T>()) out = *held;
}
std::string wordsOf(const Variant& value) { return value.isNull() ? std::string() : format(value, {500, 4}); }

using C = Condition&;
using V = const Variant&;
constexpr AskedField kAsked[] = {
    // The id of the condition itself (Part 9, 5.5.2).
    {"", id::ConditionType, [](C c, V v) { takeAs(c.id, v); }},
    {"BranchId", id::ConditionType, [](C c, V v) { takeAs(c.branch, v); }},
    {"EventId", id::BaseEventType, [](C c, V v) { takeAs(c.eventId, v); }},
    {"Time", id::BaseEventType, [](C c, V v) { takeAs(c.time, v); }},
    {"Severity", id::BaseEventType,
     [](C c, V v) {
       double number = 0;
       if (v.toDouble(number) && number >= 0 && number <= 65'535) c.severity = static_cast<std::uint32_t>(number);
     }},
    {"Message", id::BaseEventType, [](C c, V v) { c.message = wordsOf(v); }},
    {"Comment", id::ConditionType, [](C c, V v) { c.comment = wordsOf(v); }},
    {"ConditionClassName", id::ConditionType, [](C c, V v) { c.conditionClass = wordsOf(v); }},
    {"Retain", id::ConditionType, [](C c, V v) { takeAs(c.isRetained, v); }},
    {"EnabledState/Id", id::ConditionType, [](C c, V v) { takeAs(c.isEnabled, v); }},
    {"ActiveState/Id", id::AlarmConditionType,
     [](C c, V v) {
       c.isAlarm = v.get<bool>() != nullptr;
       takeAs(c.isActive, v);
     }},
    {"AckedState/Id", id::AcknowledgeableConditionType, [](C c, V v) { takeAs(c.isAcknowledged, v); }},
    {"ConfirmedState/Id", id::AcknowledgeableConditionType, [](C c, V v) { takeAs(c.isConfirmed, v); }},
    {"SuppressedState/Id", id::AlarmConditionType, [](C c, V v) { takeAs(c.isSuppressed, v); }},
    {"OutOfServiceState/Id", id::AlarmConditionType, [](C c, V v) { takeAs(c.isOutOfService, v); }},
    {"LatchedState/Id", id::AlarmConditionType, [](C c, V v) { takeAs(c.isLatched, v); }},
    {"SilenceState/Id", id::AlarmConditionType, [](C c, V v) { takeAs(c.isSilenced, v); }},
    {"ShelvingState/CurrentState", id::AlarmConditionType, [](C c, V v) { c.shelving = wordsOf(v); }},
    {"ShelvingState/UnshelveTime", id::AlarmConditionType, [](C c, V v) { takeAs(c.unshelveTime, v); }},
    {"ReAlarmRepeatCount", id::AlarmConditionType,
     [](C c, V v) {
       if (const auto* count = v.get<std::int16_t>()) c.reAlarms = *count;
     }},
    {"DialogState/Id", id::DialogConditionType,
     [](C c, V v) {
       c.isDialog = v.get<bool>() != nullptr;
       takeAs(c.isAsked, v);
     }},
    {"ResponseOptionSet", id::DialogConditionType,
     [](C c, V v) {
       constexpr std::size_t kMostOptions = 100;
       for (const auto& option : v.items<LocalizedText>())
         if (c.options.size() < kMostOptions) c.options.push_back(option.text.str());
     }},
};
constexpr std::size_t kEventType = std::size(kAsked);  // asked for last

struct StateRow {
  const char* name;
  bool (*is)(const Condition& condition);
};
constexpr StateRow kStates[] = {
    {"active", [](const Condition& c) { return c.isActive; }},
    {"gone", [](const Condition& c) { return !c.isActive && !c.isAsked; }},
    {"unacknowledged", [](const Condition& c) { return !c.isAcknowledged; }},
    {"unconfirmed", [](const Condition& c) { return c.isAcknowledged && !c.isConfirmed; }},
    {"shelved", [](const Condition& c) { return c.isShelved(); }},
    {"suppressed", [](const Condition& c) { return c.isSuppressed; }},
    {"out-of-service", [](const Condition& c) { return c.isOutOfService; }},
    {"latched", [](const Condition& c) { return c.isLatched; }},
    {"silenced", [](const Condition& c) { return c.isSilenced; }},
    {"asked", [](const Condition& c) { return c.isAsked; }},
};

std::string durationText(double ms) {
  const double minutes = ms / 60'000;
  return minutes < 1     ? fmt::format("{:.0f} s", ms / 1000)
         : minutes < 120 ? fmt::format("{:.0f} min", minutes)
                         : fmt::format("{:.1f} h", minutes / 60);
}

}  // namespace

std::string Condition::state() const {
  if (!isEnabled) return "disabled";
  if (isDialog) return isAsked ? fmt::format("asks: {}", fmt::join(options, " | ")) : "answered";
  // What was put aside, first: it is why the rest is in nobody's way.
  std::string out;
  const auto add = [&](const std::string& words) { out += (out.empty() ? "" : ", ") + words; };
  const std::chrono::duration<double, std::milli> since = std::chrono::steady_clock::now() - heardAt;
  if (shelving == "TimedShelved") add("shelved for " + durationText(std::max(0.0, unshelveTime - since.count())));
  if (shelving == "OneShotShelved") add("shelved until it goes");
  if (isSuppressed) add("suppressed");
  if (isOutOfService) add("out of service");
  const bool isOver = !isActive && isAcknowledged && isConfirmed && !isLatched;
  if (isOver && !out.empty()) return out;
  add(!isActive ? "gone" : isAlarm ? "active" : "stands");
  if (!isAcknowledged)
    add("to acknowledge");
  else if (!isConfirmed)
    add("to confirm");
  else if (isActive)
    add("acknowledged");
  if (!branch.isNull()) add("earlier");
  if (isLatched && !isActive) add("to reset");
  if (reAlarms > 0) add(fmt::format("reminded {}×", reAlarms));
  return out;
}

std::optional<bool> isIn(const Condition& condition, const std::string& state) {
  const auto row = std::ranges::find(kStates, state, &StateRow::name);
  return row == std::end(kStates) ? std::nullopt : std::optional(row->is(condition));
}

const std::vector<std::string>& conditionStates() {
  static const std::vector<std::string> names = [] {
    std::vector<std::string> out;
    for (const auto& row : kStates) out.emplace_back(row.name);
    return out;
  }();
  return names;
}

EventFilter conditionFilter() {
  EventFilter filter;
  for (const auto& asked : kAsked) filter.selectClauses.push_back(eventField(asked.path, asked.type));
  filter.selectClauses.push_back(eventField("EventType"));
  // Where clauses are left out: what marks a refresh must come through, too.
  return filter;
}

std::optional<Condition> conditionOf(const List<Variant>& fields) {
  if (fields.size() != std::size(kAsked) + 1) return std::nullopt;
  Condition out;
  for (std::size_t i = 0; i < std::size(kAsked); ++i) kAsked[i].take(out, fields[i]);
  if (out.id.isNull()) return std::nullopt;
  // Of a condition that is no alarm nothing else says whether it stands (Part 9, 5.7).
  if (!out.isAlarm && !out.isDialog) out.isActive = out.isRetained;
  return out;
}

RefreshMark refreshMark(const List<Variant>& fields) {
  if (fields.size() != std::size(kAsked) + 1) return RefreshMark::None;
  const auto* type = fields[kEventType].get<NodeId>();
  if (!type) return RefreshMark::None;
  return type->is(id::RefreshStartEventType)      ? RefreshMark::Start
         : type->is(id::RefreshEndEventType)      ? RefreshMark::End
         : type->is(id::RefreshRequiredEventType) ? RefreshMark::Required
                                                  : RefreshMark::None;
}

}  // namespace zunth::client
