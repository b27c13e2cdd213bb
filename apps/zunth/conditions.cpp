#include "apps/zunth/conditions.hpp"

#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::cli {

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
    {"ActiveState/Id", id::AlarmConditionType, [](C c, V v) { takeAs(c.isActive, v); }},
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
};
constexpr std::size_t kEventType = std::size(kAsked);  // asked for last

EventFilter filterOfConditions() {
  EventFilter filter;
  const auto ask = [&](std::string_view path, StandardId type) {
    SimpleAttributeOperand operand;
    operand.typeDefinitionId = type;
    operand.attributeId = static_cast<std::uint32_t>(path.empty() ? AttributeId::NodeId : AttributeId::Value);
    while (!path.empty()) {
      const auto slash = std::min(path.find('/'), path.size());
      operand.browsePath.push_back({0, String(path.substr(0, slash))});
      path.remove_prefix(std::min(slash + 1, path.size()));
    }
    filter.selectClauses.push_back(operand);
  };
  for (const auto& asked : kAsked) ask(asked.path, asked.type);
  ask("EventType", id::BaseEventType);
  // Where clauses are left out: what marks the end of a refresh must come through, too.
  return filter;
}

struct StateRow {
  const char* name;
  bool (*is)(const Condition& condition);
};
constexpr StateRow kStates[] = {
    {"active", [](const Condition& c) { return c.isActive; }},
    {"gone", [](const Condition& c) { return !c.isActive; }},
    {"unacknowledged", [](const Condition& c) { return !c.isAcknowledged; }},
    {"unconfirmed", [](const Condition& c) { return c.isAcknowledged && !c.isConfirmed; }},
    {"shelved", [](const Condition& c) { return c.isShelved(); }},
    {"suppressed", [](const Condition& c) { return c.isSuppressed; }},
    {"out-of-service", [](const Condition& c) { return c.isOutOfService; }},
    {"latched", [](const Condition& c) { return c.isLatched; }},
    {"silenced", [](const Condition& c) { return c.isSilenced; }},
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
  add(isActive ? "active" : "gone");
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

Awaitable<Result<std::unique_ptr<ConditionFeed>>> ConditionFeed::open(SessionPtr session, Interrupt& interrupt,
                                                                      int& code) {
  std::unique_ptr<ConditionFeed> feed(new ConditionFeed(session, interrupt));
  auto handlers = subscriptionHandlers(interrupt, code);
  handlers.event = [waiting = feed->waiting_, &interrupt](std::uint32_t, const List<Variant>& fields) {
    if (fields.size() == std::size(kAsked) + 1) waiting->push_back(fields);
    interrupt.poke();
  };
  client::Subscription::Settings settings;
  settings.interval = 100;
  auto subscription = co_await client::Subscription::create(session, settings, std::move(handlers));
  if (!subscription) co_return subscription.error();
  feed->subscription_ = *subscription;
  auto added = co_await feed->subscription_->addEvents(id::Server, filterOfConditions());
  if (!added) co_return added.error();
  if (added->statusCode.isBad()) co_return Error{added->statusCode, "the server tells nobody of its conditions", {}};
  std::vector<Variant> inputs;
  inputs.push_back(Variant(feed->subscription_->id()));
  auto refreshed = co_await session->call(id::ConditionType, id::ConditionType_ConditionRefresh, std::move(inputs));
  if (!refreshed) co_return refreshed.error();
  if (refreshed->error.code.isBad())
    co_return Error{refreshed->error.code, "the server does not tell how its conditions stand", "zunth events"};
  co_return std::move(feed);
}

/// The next that waits, without a condition for what is none.
Awaitable<std::optional<Condition>> ConditionFeed::next() {
  const List<Variant> fields = std::move(waiting_->front());
  waiting_->pop_front();
  if (const auto* type = fields[kEventType].get<NodeId>(); type && type->is(id::RefreshEndEventType)) isListed_ = true;
  Condition out;
  for (std::size_t i = 0; i < std::size(kAsked); ++i) kAsked[i].take(out, fields[i]);
  if (out.id.isNull()) co_return std::nullopt;
  out.path = co_await pathOf(out.id);
  co_return out;
}

Awaitable<Result<std::vector<Condition>>> ConditionFeed::standing(Duration patience) {
  const auto end = std::chrono::steady_clock::now() + patience;
  std::vector<Condition> out;
  while (!isListed_ && !interrupt_.isWanted()) {
    while (!waiting_->empty() && !isListed_) {
      auto condition = co_await next();
      if (!condition) continue;
      // Something may have happened to it meanwhile: the last word counts.
      std::erase_if(
          out, [&](const Condition& other) { return other.id == condition->id && other.branch == condition->branch; });
      if (condition->isRetained) out.push_back(std::move(*condition));
    }
    if (isListed_) break;
    if (std::chrono::steady_clock::now() > end)
      co_return Error{status::BadTimeout, "the server did not finish telling how its conditions stand",
                      "the same with a longer --timeout"};
    co_await interrupt_.wait(milliseconds(200));
  }
  co_return out;
}

Awaitable<std::vector<Condition>> ConditionFeed::news() {
  std::vector<Condition> out;
  while (!waiting_->empty())
    if (auto condition = co_await next()) out.push_back(std::move(*condition));
  co_return out;
}

Awaitable<void> ConditionFeed::close() { co_await subscription_->close(); }

/// From Objects; asked for once each.
Awaitable<std::string> ConditionFeed::pathOf(NodeId node) {
  if (const auto known = paths_.find(node); known != paths_.end()) co_return known->second;
  std::string path;
  NodeId at = node;
  for (int depth = 0; depth < 50 && !at.is(id::ObjectsFolder); ++depth) {
    auto name = co_await session_->readAttributes(at, std::vector<AttributeId>(1, AttributeId::BrowseName));
    const auto* browseName = name ? name->front().value.get<QualifiedName>() : nullptr;
    if (!browseName) break;
    path = browseName->name.str() + (path.empty() ? "" : "/" + path);
    BrowseDescription up{at, BrowseDirection::Inverse, id::HierarchicalReferences, true, 0, 63};
    auto parents = co_await session_->browse(up);
    if (!parents) break;
    NodeId above;
    for (const auto& reference : *parents)
      if (above.isNull() && !reference.referenceTypeId.is(id::HasNotifier) &&
          !reference.referenceTypeId.is(id::HasEventSource) && !reference.referenceTypeId.is(id::AlarmGroupMember))
        above = reference.nodeId.nodeId;
    if (above.isNull()) break;
    at = above;
  }
  co_return paths_[node] = at.is(id::ObjectsFolder) ? path : node.text();
}

}  // namespace zunth::cli
