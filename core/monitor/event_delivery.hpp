#pragma once

#include "core/monitor/subscription.hpp"

#include <unordered_map>

namespace zunth::monitor {

/// Brings events to the items that watch their source, the notifiers above it, or the Server object, which hears them
/// all (Part 3, 4.6).
class EventDelivery {
 public:
  explicit EventDelivery(const space::Space& space) : space_(space) {}

  void add(MonitoredItem& item) { watchers_[item.node()].push_back(&item); }
  void remove(MonitoredItem& item);
  void nodeRemoved(space::NodeIndex node) { watchers_.erase(node); }
  /// Whether anybody listens at all: what makes an event can be left out otherwise.
  bool isWatched() const { return !watchers_.empty(); }
  void raise(const Event& event);
  /// Brings it to the items of one subscription alone, or to one of them: to those that hear its source and want it,
  /// or with `isForAll` to each that takes events.
  void raiseTo(Subscription& subscription, std::optional<std::uint32_t> onlyItem, const Event& event, bool isForAll);

 private:
  void bring(MonitoredItem& item, const Event& event) const;
  std::vector<space::NodeIndex> notifiersOf(space::NodeIndex source) const;

  const space::Space& space_;
  std::unordered_map<space::NodeIndex, std::vector<MonitoredItem*>> watchers_;
};

}  // namespace zunth::monitor
