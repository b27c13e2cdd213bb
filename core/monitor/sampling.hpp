#pragma once

#include "core/monitor/subscription.hpp"
#include "core/space/space.hpp"

#include <queue>
#include <unordered_map>

namespace zunth::monitor {

/// Brings values from the space to the items that watch them, each no more often than its sampling interval.
/// A change is taken at once when the item's interval has passed, else at its end; values that are computed at each
/// read are polled. Nothing runs while nothing changes.
class Sampling {
 public:
  explicit Sampling(space::Space& space) : space_(space) {}

  /// Starts watching and takes the first sample.
  void add(MonitoredItem& item, ua::Instant now, ua::DateTime wallClock);
  void remove(MonitoredItem& item);
  /// The node is about to go: its items say so and are watched no longer.
  void nodeRemoved(space::NodeIndex node, ua::DateTime wallClock);
  /// Watches for this item no longer, and lets it say why.
  void end(MonitoredItem& item, ua::StatusCode why, ua::DateTime wallClock);
  /// Takes a sample at once, as after the item was enabled or its filter changed.
  void refresh(MonitoredItem& item, ua::Instant now, ua::DateTime wallClock);
  /// A watched variable got this value.
  void valueChanged(space::NodeIndex node, const ua::DataValue& value, ua::Instant now, ua::DateTime wallClock);
  /// Takes the samples that are due.
  void tick(ua::Instant now, ua::DateTime wallClock);
  /// When tick() has something to do; Instant::max() for never.
  ua::Instant nextDue() const { return pending_.empty() ? ua::Instant::max() : pending_.top().due; }
  std::size_t itemCount() const { return items_; }

 private:
  struct Pending {
    ua::Instant due;
    space::NodeIndex node;
    std::uint32_t itemId;
    bool operator<(const Pending& other) const { return due > other.due; }  // earliest on top
  };
  static constexpr double kPollInterval = 100;  // ms, for computed values watched without an interval
  bool isPolled(const MonitoredItem& item) const;
  void take(MonitoredItem& item, const ua::DataValue& value, ua::Instant now, ua::DateTime wallClock);
  void postpone(MonitoredItem& item, ua::Instant due);
  ua::DataValue read(const MonitoredItem& item) const;

  space::Space& space_;
  std::unordered_map<space::NodeIndex, std::vector<MonitoredItem*>> watchers_;
  std::priority_queue<Pending> pending_;
  std::size_t items_ = 0;
};

}  // namespace zunth::monitor
