#include "core/alarm/metrics.hpp"

#include "core/space/conditions.hpp"

#include <algorithm>
#include <numeric>

namespace zunth::alarm {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

constexpr std::int64_t kTicksPerMinute = 600'000'000;
constexpr int kDeepestArea = 100;
constexpr const char* kComputed[] = {"AlarmCount",         "StartTime",        "MaximumReAlarmCount",
                                     "CurrentAlarmRate",   "MaximumAlarmRate", "AverageAlarmRate",
                                     "MaximumActiveState", "MaximumUnAck"};

std::uint16_t minutesOf(const Space& space, NodeIndex metrics) {
  const NodeIndex rate = space.child(metrics, {0, "CurrentAlarmRate"});
  const NodeIndex minutes = rate == kNoNode ? kNoNode : space.child(rate, {0, "Rate"});
  const DataValue held = minutes == kNoNode ? DataValue() : space.value(minutes);
  const auto* value = held.value.get<std::uint16_t>();
  return value && *value > 0 ? *value : std::uint16_t{1};
}

}  // namespace

void Metrics::bind(Space& space, const std::vector<const Alarm*>& alarms) {
  auto before = std::exchange(areas_, {});
  members_.clear();
  std::unordered_map<NodeIndex, std::vector<NodeIndex>> ofObjects;  // metrics, by the object that they are a part of
  const DateTime now = wallClock_();
  for (NodeIndex node = 0; node < space.rows(); ++node) {
    if (!space.exists(node) || !space::isMetrics(space, node) || space::isInType(space, node)) continue;
    const NodeIndex object = space.parent(node);
    if (object == kNoNode) continue;
    ofObjects[object].push_back(node);
    Area& area = areas_[node];
    if (const auto known = before.find(node); known != before.end() && known->second.id == space.nodeId(node))
      area = std::move(known->second);
    else
      begin(area, now);
    area.id = space.nodeId(node);
    area.members.clear();
    if (const auto minutes = minutesOf(space, node); minutes != area.minutes) {
      area.minutes = minutes;
      area.parts.fill(0);
      area.part = partOf(area, now);
    }
    serve(space, node);
  }
  if (areas_.empty()) return;
  for (const Alarm* alarm : alarms) {
    Member member;
    NodeIndex at = space.parent(alarm->node());
    for (int depth = 0; at != kNoNode && depth < kDeepestArea; ++depth, at = space.parent(at))
      if (const auto found = ofObjects.find(at); found != ofObjects.end())
        member.areas.insert(member.areas.end(), found->second.begin(), found->second.end());
    if (member.areas.empty()) continue;
    for (const NodeIndex area : member.areas) areas_.at(area).members.push_back(alarm->node());
    const auto& state = alarm->state();
    member.isActive = state.active.is;
    member.isAcknowledged = state.acknowledged.is;
    member.activeSince = state.active.since;
    member.unacknowledgedSince = state.acknowledged.since;
    member.reAlarms = state.reAlarms;
    members_.emplace(alarm->node(), std::move(member));
  }
}

void Metrics::detach(Space& space) {
  for (const auto& [node, area] : areas_) {
    if (!space.exists(node)) continue;
    for (const char* name : kComputed)
      if (const NodeIndex variable = space.child(node, {0, name}); variable != kNoNode)
        space.setSource(variable, [] { return DataValue(status::BadOutOfService); });
  }
}

void Metrics::begin(Area& area, DateTime now) {
  area.count = area.mostReAlarms = 0;
  area.longestActive = area.longestUnacknowledged = 0;
  area.parts.fill(0);
  area.highest = 0;
  area.since = now;
  area.part = partOf(area, now);
}

void Metrics::reset(NodeIndex metrics) {
  if (const auto found = areas_.find(metrics); found != areas_.end()) begin(found->second, wallClock_());
}

void Metrics::look(const Alarm& alarm) {
  const auto found = members_.find(alarm.node());
  if (found == members_.end()) return;
  Member& member = found->second;
  const auto& state = alarm.state();
  const DateTime now = wallClock_();
  const bool hasCome = state.active.is && !member.isActive, hasGone = !state.active.is && member.isActive;
  const bool isSeen = state.acknowledged.is && !member.isAcknowledged;
  for (const NodeIndex node : member.areas) {
    Area& area = areas_.at(node);
    if (hasCome) came(area, now);
    if (hasGone) area.longestActive = std::max(area.longestActive, now.ticks - member.activeSince.ticks);
    if (isSeen)
      area.longestUnacknowledged = std::max(area.longestUnacknowledged, now.ticks - member.unacknowledgedSince.ticks);
    // A reminder is as if it came anew.
    if (state.reAlarms > member.reAlarms) {
      if (!hasCome) came(area, now);
      area.mostReAlarms = std::max(area.mostReAlarms, static_cast<std::uint32_t>(state.reAlarms));
    }
  }
  if (hasCome) member.activeSince = now;
  if (!state.acknowledged.is && member.isAcknowledged) member.unacknowledgedSince = now;
  member.isActive = state.active.is;
  member.isAcknowledged = state.acknowledged.is;
  member.reAlarms = state.reAlarms;
}

void Metrics::remove(NodeIndex node) {
  areas_.erase(node);
  members_.erase(node);
  for (auto& [alarm, member] : members_) std::erase(member.areas, node);
  for (auto& [metrics, area] : areas_) std::erase(area.members, node);
}

std::int64_t Metrics::partOf(const Area& area, DateTime time) const {
  return time.ticks / (area.minutes * kTicksPerMinute / static_cast<std::int64_t>(kParts));
}

/// What is older than the time of the rate no longer counts.
void Metrics::turn(Area& area, DateTime now) {
  const std::int64_t part = partOf(area, now);
  if (part < area.part || part - area.part >= static_cast<std::int64_t>(kParts)) {
    // A long time, or a clock that was put back.
    area.parts.fill(0);
    area.part = part;
  }
  while (area.part < part) area.parts[static_cast<std::size_t>(++area.part) % kParts] = 0;
}

double Metrics::rate(Area& area, DateTime now) {
  turn(area, now);
  return std::accumulate(area.parts.begin(), area.parts.end(), 0.0);
}

void Metrics::came(Area& area, DateTime now) {
  if (area.count < UINT32_MAX) ++area.count;
  turn(area, now);
  ++area.parts[static_cast<std::size_t>(area.part) % kParts];
  area.highest = std::max(area.highest, rate(area, now));
}

double Metrics::longest(const Area& area, std::int64_t over, bool Member::*isOn, bool on, DateTime Member::*since,
                        DateTime now) const {
  for (const NodeIndex alarm : area.members)
    if (const auto found = members_.find(alarm); found != members_.end() && found->second.*isOn == on)
      over = std::max(over, now.ticks - std::max((found->second.*since).ticks, area.since.ticks));
  return static_cast<double>(over) / 1e4;
}

void Metrics::serve(Space& space, NodeIndex node) {
  const auto source = [&](const char* name, auto compute) {
    if (const NodeIndex variable = space.child(node, {0, name}); variable != kNoNode)
      space.setSource(variable, [this, node, compute] {
        const auto found = areas_.find(node);
        if (found == areas_.end()) return DataValue(status::BadOutOfService);
        const DateTime now = wallClock_();
        return DataValue(compute(found->second, now), now);
      });
  };
  source("AlarmCount", [](Area& area, DateTime) { return Variant(area.count); });
  source("StartTime", [](Area& area, DateTime) { return Variant(area.since); });
  source("MaximumReAlarmCount", [](Area& area, DateTime) { return Variant(area.mostReAlarms); });
  source("CurrentAlarmRate", [this](Area& area, DateTime now) { return Variant(rate(area, now)); });
  source("MaximumAlarmRate", [](Area& area, DateTime) { return Variant(area.highest); });
  source("AverageAlarmRate", [](Area& area, DateTime now) {
    const double over = static_cast<double>(now.ticks - area.since.ticks) / (area.minutes * kTicksPerMinute);
    // Before its time has passed once, there is nothing to average.
    return Variant(area.count / std::max(over, 1.0));
  });
  source("MaximumActiveState", [this](Area& area, DateTime now) {
    return Variant(longest(area, area.longestActive, &Member::isActive, true, &Member::activeSince, now));
  });
  source("MaximumUnAck", [this](Area& area, DateTime now) {
    return Variant(
        longest(area, area.longestUnacknowledged, &Member::isAcknowledged, false, &Member::unacknowledgedSince, now));
  });
}

}  // namespace zunth::alarm
