#pragma once

#include "core/space/space.hpp"

#include <unordered_map>
#include <vector>

namespace zunth::alarm {

/// The groups that alarms are members of (AlarmGroupType; Part 9, 5.8.3): which of them came first, and whether any is
/// active, which suppresses those that name the group as their suppression group.
class Groups {
 public:
  struct One {
    space::NodeIndex alarm;
    bool isActive;
  };
  /// Finds the groups of these alarms.
  void bind(const space::Space& space, const std::vector<One>& alarms);

  /// An alarm has come or gone; true when it is the first of one of its groups.
  bool moved(space::NodeIndex alarm, bool isActive);
  /// Whether a group that suppresses the alarm has an active member.
  bool isSuppressed(space::NodeIndex alarm) const;
  /// The alarms that the groups of this one suppress: to be looked at when it has come or gone.
  std::vector<space::NodeIndex> suppressedBy(space::NodeIndex alarm) const;
  /// The groups of an alarm, for GetGroupMemberships.
  std::vector<space::NodeIndex> of(space::NodeIndex alarm) const;
  void remove(space::NodeIndex alarm);

 private:
  struct Group {
    std::vector<space::NodeIndex> suppresses;
    std::size_t active = 0;
  };
  struct Member {
    std::vector<space::NodeIndex> groups, suppressors;
    bool isActive = false;
  };
  std::unordered_map<space::NodeIndex, Group> groups_;
  std::unordered_map<space::NodeIndex, Member> members_;
};

}  // namespace zunth::alarm
