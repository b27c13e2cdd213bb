#pragma once

#include "core/monitor/monitored_item.hpp"

#include <deque>
#include <map>
#include <memory>

namespace zunth::monitor {

/// Revised parameters of a subscription (Part 4, 5.13.2).
struct SubscriptionSettings {
  double publishingInterval = 500;  // ms
  std::uint32_t lifetimeCount = 60;
  std::uint32_t maxKeepAliveCount = 20;
  std::uint32_t maxNotificationsPerPublish = 0;  // 0 for any
  bool publishingEnabled = true;
  std::uint8_t priority = 0;
};

/// A subscription's publishing cycle, as the standard's state table has it (Part 4, 5.13.1.2), without timers: the
/// owner calls cycle() at cycleDue() and publish() when a Publish request is there for it.
class Subscription {
 public:
  Subscription(std::uint32_t id, const SubscriptionSettings& settings, ua::Instant now);

  std::uint32_t id() const { return id_; }
  const SubscriptionSettings& settings() const { return settings_; }
  void modify(const SubscriptionSettings& settings, ua::Instant now);
  void setPublishing(bool enabled);
  /// Outlives its client for hours, with queues to match (Part 4, 6.8).
  bool isDurable() const { return isDurable_; }
  void makeDurable(std::uint32_t lifetimeCount);

  // Items
  MonitoredItem& add(std::unique_ptr<MonitoredItem> item);
  MonitoredItem* item(std::uint32_t itemId) const;
  const std::map<std::uint32_t, std::unique_ptr<MonitoredItem>>& items() const { return items_; }
  /// The removed item, or nothing when there is none. Its links go with it.
  std::unique_ptr<MonitoredItem> removeItem(std::uint32_t itemId);
  /// To be called when an item has queued something.
  void itemQueued(MonitoredItem& item);
  /// From now on, when `triggering` queues something, what `linked` has sampled is reported, too (Part 4, 5.12.1.6).
  /// False when there is no such linked item.
  bool link(std::uint32_t triggering, std::uint32_t linked);
  bool unlink(std::uint32_t triggering, std::uint32_t linked);
  /// Reports the last value of each reporting item again (Part 5, 9.2; Part 4, 5.13.7).
  void resendData(ua::DateTime wallClock);

  // Cycle
  ua::Instant cycleDue() const { return cycleDue_; }
  /// One turn of the publishing timer. `requestWaits`: a Publish request is there.
  void cycle(ua::Instant now, bool requestWaits);
  /// There is something to send that waits for a Publish request only.
  bool isLate() const { return late_; }
  ua::Instant lateSince() const { return lateSince_; }
  /// No Publish request came for the whole life-time: the subscription is to be closed.
  bool isExpired() const { return lifetime_ >= settings_.lifetimeCount; }
  /// Any sign of the client's life, such as a service call that names the subscription.
  void touch() { lifetime_ = 0; }

  struct Published {
    ua::NotificationMessage message;
    bool moreNotifications = false;
  };
  /// The next message: notifications, or a keep-alive (without data, carrying the next sequence number).
  /// `overflowEvent` gives the fields of an EventQueueOverflowEventType as an item's clauses select them.
  using OverflowEvent = std::function<ua::List<ua::Variant>(const MonitoredItem&)>;
  Published publish(ua::DateTime wallClock, const OverflowEvent& overflowEvent = {});
  /// The message that says what became of the subscription: BadTimeout, GoodSubscriptionTransferred.
  ua::NotificationMessage statusChange(ua::StatusCode status, ua::DateTime wallClock) const;
  /// Good, or BadSequenceNumberUnknown.
  ua::StatusCode acknowledge(std::uint32_t sequenceNumber);
  /// The message again; BadMessageNotAvailable.
  ua::Result<ua::NotificationMessage> republish(std::uint32_t sequenceNumber);
  ua::List<std::uint32_t> availableSequenceNumbers() const;

  /// Counters and settings as the diagnostics show them (Part 5, 12.15), but for the session.
  ua::SubscriptionDiagnosticsDataType diagnostics() const;
  void countTransfer(bool toSameClient);

 private:
  static constexpr std::size_t kMostKeptMessages = 1024;     // for Republish
  static constexpr std::size_t kMostNotifications = 10'000;  // in a message, whatever the client allows
  bool hasNotifications() const { return settings_.publishingEnabled && !listed_.empty(); }
  void becomeLate(ua::Instant now);
  void list(MonitoredItem& item);

  std::uint32_t id_;
  SubscriptionSettings settings_;
  std::map<std::uint32_t, std::unique_ptr<MonitoredItem>> items_;
  std::map<std::uint32_t, std::vector<std::uint32_t>> links_;  // triggering item to those it triggers
  std::deque<MonitoredItem*> listed_;  // items with something queued, in the order in which they got it
  std::deque<ua::NotificationMessage> kept_;
  ua::Instant cycleDue_;
  ua::Instant lateSince_{};
  bool late_ = false;
  bool messageSent_ = false;  // the first cycle publishes, be it a keep-alive
  bool isDurable_ = false;
  std::uint32_t keepAlive_ = 0;
  std::uint32_t lifetime_ = 0;
  std::uint32_t nextSequenceNumber_ = 1;
  ua::SubscriptionDiagnosticsDataType counters_;  // only its counters are kept here
};

}  // namespace zunth::monitor
