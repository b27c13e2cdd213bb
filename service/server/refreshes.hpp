#pragma once

#include "service/server/core.hpp"

namespace zunth::server {

/// Tells subscriptions again how conditions stand (Part 9, 5.5.7): the severest first, as their queues have room, so
/// that any number of conditions comes through a queue of any size.
class Refreshes : Service {
 public:
  explicit Refreshes(Core& core) : Service(core) {}

  /// To all items of the subscription that take events, or to one. BadRefreshInProgress while an earlier one goes on.
  ua::Result<void> begin(monitor::Subscription& subscription, std::optional<std::uint32_t> onlyItem);
  void tick(ua::Slice& slice);
  ua::Instant nextDue() const { return refreshes_.empty() ? ua::Instant::max() : due_; }

 private:
  struct One {
    std::uint32_t subscription, item;
    std::shared_ptr<const std::vector<space::NodeIndex>> conditions;
    bool hasBegun = false;
    std::size_t next = 0;    // of conditions
    std::size_t branch = 0;  // of what that one has to tell
  };
  monitor::MonitoredItem* itemOf(const One& one) const;
  /// False when there is more to tell.
  bool goOn(One& one, monitor::MonitoredItem& item, ua::Slice& slice);

  std::vector<One> refreshes_;
  ua::Instant due_{};
};

}  // namespace zunth::server
