#pragma once

#include "core/monitor/change_filter.hpp"
#include "core/monitor/filtered_retain.hpp"
#include "core/monitor/live_aggregate.hpp"
#include "core/monitor/notification_queue.hpp"
#include "core/monitor/notification_sink.hpp"
#include "core/space/reference_runs.hpp"
#include "core/ua/due_heap.hpp"
#include "core/ua/index_range.hpp"

#include <variant>

namespace zunth::monitor {

/// What a client asked for; already revised and checked.
struct ItemSettings {
  std::uint32_t clientHandle = 0;
  double samplingInterval = 0;  // ms; 0 takes every change
  std::uint32_t queueSize = 1;
  bool discardOldest = true;
  ua::TimestampsToReturn timestamps = ua::TimestampsToReturn::Both;
  ChangeFilter filter;                          // of data
  std::shared_ptr<const EventSelector> events;  // of an object's EventNotifier; else null
  std::optional<AggregateSettings> aggregate;   // what is reported of intervals, in place of samples
};

/// What is told in place of events that an item could not be told.
enum class EventMark : std::uint8_t {
  EventsLost,       // some gave way: EventQueueOverflowEventType (Part 4, 7.21)
  RefreshRequired,  // how its conditions stand is not known any more: RefreshRequiredEventType (Part 9, 5.11.4)
};

/// One watched attribute (Part 4, 5.12): samples, or the events of an object, come in; those that pass the filter wait
/// in its queue until its sink takes them. What waits counts on the sink's allowance; when that is used up, the
/// queue gives way as if it were full, down to one. So does a large value that is kept to compare the next with: when
/// half of the allowance is used, it isn't kept, and the next is reported whatever it is.
class MonitoredItem : public ua::Due {
 public:
  MonitoredItem(std::uint32_t id, NotificationSink& sink, space::NodeIndex node, ua::AttributeId attribute,
                ua::IndexRange range, const ItemSettings& settings, ua::MonitoringMode mode);
  ~MonitoredItem();

  std::uint32_t id() const { return id_; }
  NotificationSink& sink() const { return sink_; }
  /// kNoNode once the node has been deleted.
  space::NodeIndex node() const { return node_; }
  ua::AttributeId attribute() const { return attribute_; }
  const ItemSettings& settings() const { return settings_; }
  ua::MonitoringMode mode() const { return mode_; }
  bool takesEvents() const { return settings_.events != nullptr; }
  bool isAggregate() const { return aggregate_ != nullptr; }
  /// When an interval of it is next over.
  ua::DateTime closesAt() const { return aggregate_->closesAt(); }

  /// Takes a sample; true when it was queued.
  bool sample(const ua::DataValue& value, ua::DateTime wallClock);
  /// Of an aggregate: calculates what is over by now; true when something was queued.
  bool close(ua::DateTime wallClock);
  /// What its values mean has changed: the next sample is reported whatever it is, and says so.
  void meaningChanged(const std::optional<ua::Range>& euRange);
  /// Whether an event can be queued without another giving way.
  bool hasRoomForEvent() const;
  /// Takes an event's fields. When the queue is full, an event gives way and the queue is marked as overflown; where
  /// that told of a condition, a refresh is required.
  void event(ua::List<ua::Variant> fields, bool isOfCondition);
  /// What its conditions are believed to be may be wrong. The client is told once all else has been told.
  void requireRefresh() { isRefreshRequired_ = true; }
  /// Queues the last value again, when nothing waits: what a client is told that takes the subscription over. True
  /// when there was one.
  bool repeatLast(ua::DateTime wallClock);
  /// The node is gone, or not to be watched any more: from now on nothing comes but this last word.
  bool end(ua::StatusCode why, ua::DateTime wallClock);
  /// Keeps the newest that fit when the queue shrinks.
  void modify(const ItemSettings& settings);
  /// Disabling empties the queue; the next sample after enabling is reported whatever it is.
  void setMode(ua::MonitoringMode mode);
  /// The last value that was queued for the client; nothing before the first, or when keeping it would take too much.
  const std::optional<ua::DataValue>& last() const { return last_; }
  bool hasQueued() const { return !values_.empty() || !events_.empty() || eventsLost_ || isRefreshRequired_; }
  /// Octets that the oldest value or event takes, about.
  std::size_t nextSize() const;
  ua::DataValue takeValue();
  /// The oldest event, or the mark that stands there.
  std::variant<ua::List<ua::Variant>, EventMark> takeEvent();
  std::uint64_t overflows() const { return overflows_; }

  /// When the next sample may be taken, and its place among those who watch the same node. Kept by Sampling.
  ua::Instant nextSampleAt{};
  std::size_t watchSlot = 0;
  /// The last event that was brought to it, or passed by, and the conditions that it knows of. Kept by EventDelivery.
  std::uint64_t heardUpTo = 0;
  FilteredRetain retained;
  /// Its place in its subscription's list of items to report. Kept by ReportList.
  MonitoredItem* listedBefore = nullptr;
  MonitoredItem* listedAfter = nullptr;
  bool isListed = false;

 private:
  void queueValue(ua::DataValue value, std::size_t octets, ua::DateTime wallClock);
  void keepLast(ua::DataValue value, std::size_t octets);
  void forgetLast();
  bool queueResults(ua::DateTime wallClock);
  void trim();
  void dropFirstValue();
  void clearQueues();
  struct QueuedEvent {
    ua::List<ua::Variant> fields;
    bool isOfCondition = false;
  };

  bool tellsMeaning_ = false;
  std::uint32_t id_;
  NotificationSink& sink_;
  space::NodeIndex node_;
  ua::AttributeId attribute_;
  ua::IndexRange range_;
  ItemSettings settings_;
  ua::MonitoringMode mode_;
  std::optional<ua::DataValue> last_;  // the last sample that passed
  std::size_t lastOctets_ = 0;         // of it, on the allowance
  std::unique_ptr<LiveAggregate> aggregate_;
  NotificationQueue<ua::DataValue> values_;
  NotificationQueue<QueuedEvent> events_;
  bool eventsLost_ = false;  // at the queue's discarding end
  bool isRefreshRequired_ = false;
  std::uint64_t overflows_ = 0;
};

}  // namespace zunth::monitor
