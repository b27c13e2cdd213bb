#pragma once

#include "core/monitor/subscription.hpp"
#include "core/space/space.hpp"
#include "core/ua/slice.hpp"

#include <unordered_map>

namespace zunth::monitor {

/// Brings values from the space to the items that watch them, each no more often than its sampling interval.
/// A change is taken at once when the item's interval has passed, else at its end; values that are computed at each
/// read are polled. Where large values change that many watch, which takes long to compare and to cut, those who come
/// last take them in slices from the next turn on, as they are then. Nothing runs while nothing changes.
class Sampling {
 public:
  explicit Sampling(space::Space& space) : space_(space) {}
  /// By which valuesChanged() is told what happens to watched variables.
  void setTap(space::TapId tap) { tap_ = tap; }

  /// Starts watching and takes the first sample.
  void add(MonitoredItem& item, ua::Instant now, ua::DateTime wallClock);
  void remove(MonitoredItem& item);
  /// The node is about to go: its items say so and are watched no longer.
  void nodeRemoved(space::NodeIndex node, ua::DateTime wallClock);
  /// Watches for this item no longer, and lets it say why.
  void end(MonitoredItem& item, ua::StatusCode why, ua::DateTime wallClock);
  /// Takes a sample at once and begins the item's beat anew, as after it was enabled or its settings changed.
  void refresh(MonitoredItem& item, ua::Instant now, ua::DateTime wallClock);
  /// Of a subscription that tells its last values again: takes a sample for each item that could keep none.
  void sampleForgotten(Subscription& subscription, ua::Instant now);
  /// What a variable's value means has changed: its items say so with its value as it is.
  void meaningChanged(space::NodeIndex node, ua::Instant now, ua::DateTime wallClock);
  /// Watched variables got these values.
  void valuesChanged(std::span<const space::Change> changes, ua::Instant now, ua::DateTime wallClock);
  /// Takes the samples that are due, each item's once; what doesn't fit into the slice stays due. Items that watch the
  /// same computed value share one reading of it.
  void tick(ua::Instant now, ua::DateTime wallClock, ua::Slice slice = {});
  /// When tick() has something to do; Instant::max() for never.
  ua::Instant nextDue() const { return pending_.next(); }
  std::size_t itemCount() const { return items_; }
  /// Those that watch something of the node.
  std::span<MonitoredItem* const> watchersOf(space::NodeIndex node) const;
  /// Whether the attribute's value has to be looked at, as nobody tells when it changes.
  bool isPolled(space::NodeIndex node, ua::AttributeId attribute) const;

  /// ms; what is polled is looked at no more often.
  static constexpr double kLeastPollInterval = 100;

 private:
  bool isPolled(const MonitoredItem& item) const { return isPolled(item.node(), item.attribute()); }
  void take(MonitoredItem& item, const ua::DataValue& value, ua::Instant now, ua::DateTime wallClock);
  void takeAggregate(MonitoredItem& item, const ua::DataValue& value, ua::Instant now, ua::DateTime wallClock);
  void waitForInterval(MonitoredItem& item, ua::Instant now, ua::DateTime wallClock);
  void unhook(MonitoredItem& item);
  ua::DataValue read(const MonitoredItem& item) const;

  struct Watched {
    std::vector<MonitoredItem*> items;
    std::size_t ofValue = 0;  // of the items, those that watch the value
  };
  void valueChanged(const space::Change& change, std::size_t& left, ua::Instant now, ua::DateTime wallClock);

  space::Space& space_;
  space::TapId tap_ = 0;
  std::unordered_map<space::NodeIndex, Watched> watchers_;
  ua::DueHeap<MonitoredItem> pending_;
  std::size_t items_ = 0;
};

}  // namespace zunth::monitor
