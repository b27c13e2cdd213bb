#pragma once

#include "core/monitor/change_filter.hpp"
#include "core/space/reference_runs.hpp"
#include "core/ua/index_range.hpp"
#include "core/ua/instant.hpp"

namespace zunth::monitor {

class Subscription;

/// What a client asked for; already revised and checked.
struct ItemSettings {
  std::uint32_t clientHandle = 0;
  double samplingInterval = 0;  // ms; 0 takes every change
  std::uint32_t queueSize = 1;
  bool discardOldest = true;
  ua::TimestampsToReturn timestamps = ua::TimestampsToReturn::Both;
  ChangeFilter filter;
};

/// One watched attribute (Part 4, 5.12): samples come in, those that pass the filter wait in its queue until they
/// are published.
class MonitoredItem {
 public:
  MonitoredItem(std::uint32_t id, Subscription& owner, space::NodeIndex node, ua::AttributeId attribute,
                ua::IndexRange range, const ItemSettings& settings, ua::MonitoringMode mode);

  std::uint32_t id() const { return id_; }
  Subscription& owner() const { return owner_; }
  space::NodeIndex node() const { return node_; }
  ua::AttributeId attribute() const { return attribute_; }
  const ItemSettings& settings() const { return settings_; }
  ua::MonitoringMode mode() const { return mode_; }

  /// Takes a sample; true when it was queued.
  bool sample(const ua::DataValue& value, ua::DateTime wallClock);
  /// Keeps the newest that fit when the queue shrinks.
  void modify(const ItemSettings& settings);
  /// Disabling empties the queue; the next sample after enabling is reported whatever it is.
  void setMode(ua::MonitoringMode mode);
  bool hasQueued() const { return queue_.size() > taken_; }
  ua::DataValue takeQueued();
  std::uint64_t overflows() const { return overflows_; }

  /// When the next sample may be taken, and whether a change waits for that moment. Kept by Sampling.
  ua::Instant dueAt{};
  bool isPending = false;
  /// Stands in its subscription's list of items to report. Kept by Subscription.
  bool isListed = false;

 private:
  void trim();

  std::uint32_t id_;
  Subscription& owner_;
  space::NodeIndex node_;
  ua::AttributeId attribute_;
  ua::IndexRange range_;
  ItemSettings settings_;
  ua::MonitoringMode mode_;
  std::optional<ua::DataValue> last_;  // the last sample that passed
  std::vector<ua::DataValue> queue_;   // oldest first
  std::size_t taken_ = 0;              // of queue_, already published
  std::uint64_t overflows_ = 0;
};

}  // namespace zunth::monitor
