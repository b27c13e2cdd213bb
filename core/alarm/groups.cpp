#include "core/alarm/groups.hpp"

#include <algorithm>

namespace zunth::alarm {

using space::NodeIndex;

void Groups::bind(const space::Space& space, const std::vector<One>& alarms) {
  members_.clear();
  groups_.clear();
  const NodeIndex member = space.at(ua::id::AlarmGroupMember), suppresses = space.at(ua::id::HasAlarmSuppressionGroup);
  for (const auto& [alarm, isActive] : alarms) {
    Member found;
    found.isActive = isActive;
    for (const auto& reference : space.references(alarm)) {
      if (!reference.isForward() && reference.type() == member) found.groups.push_back(reference.target());
      if (reference.isForward() && reference.type() == suppresses) found.suppressors.push_back(reference.target());
    }
    if (found.groups.empty() && found.suppressors.empty()) continue;
    for (const NodeIndex group : found.groups) groups_[group].active += isActive;
    for (const NodeIndex group : found.suppressors) groups_[group].suppresses.push_back(alarm);
    members_.emplace(alarm, std::move(found));
  }
}

bool Groups::moved(NodeIndex alarm, bool isActive) {
  const auto found = members_.find(alarm);
  if (found == members_.end() || found->second.isActive == isActive) return false;
  found->second.isActive = isActive;
  bool isFirst = false;
  for (const NodeIndex node : found->second.groups) {
    Group& group = groups_[node];
    if (isActive)
      isFirst |= group.active++ == 0;
    else
      --group.active;
  }
  return isFirst;
}

bool Groups::isSuppressed(NodeIndex alarm) const {
  const auto found = members_.find(alarm);
  return found != members_.end() && std::ranges::any_of(found->second.suppressors, [&](NodeIndex group) {
           const auto known = groups_.find(group);
           return known != groups_.end() && known->second.active > 0;
         });
}

std::vector<NodeIndex> Groups::suppressedBy(NodeIndex alarm) const {
  std::vector<NodeIndex> out;
  if (const auto found = members_.find(alarm); found != members_.end())
    for (const NodeIndex group : found->second.groups)
      if (const auto known = groups_.find(group); known != groups_.end())
        out.insert(out.end(), known->second.suppresses.begin(), known->second.suppresses.end());
  return out;
}

std::vector<NodeIndex> Groups::of(NodeIndex alarm) const {
  const auto found = members_.find(alarm);
  return found == members_.end() ? std::vector<NodeIndex>() : found->second.groups;
}

void Groups::remove(NodeIndex alarm) {
  moved(alarm, false);
  const auto found = members_.find(alarm);
  if (found == members_.end()) return;
  for (const NodeIndex group : found->second.suppressors)
    if (const auto known = groups_.find(group); known != groups_.end()) std::erase(known->second.suppresses, alarm);
  members_.erase(found);
}

}  // namespace zunth::alarm
