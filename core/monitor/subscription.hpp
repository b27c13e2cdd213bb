#pragma once

#include "core/monitor/report_list.hpp"
#include "core/ua/allowance.hpp"

#include <deque>
#include <map>
#include <memory>
#include <set>

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

/// A subscription's items and its publishing cycle, as the standard's state table has it (Part 4, 5.13.1.2), without
/// timers: the owner calls cycle() at cycleDue() and publish() when a Publish request is there for it. Its allowance,
/// for queues and kept messages, is part of its session's; who listens is its session, and changes with it.
class Subscription final : public ua::Due, public NotificationSink {
 public:
  Subscription(std::uint32_t id, const SubscriptionSettings& settings, ua::Instant now);
  ~Subscription() override;

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
  void itemQueued(MonitoredItem& item) override;
  /// What it has queued is not reported, but for what a trigger asks for.
  void unlist(MonitoredItem& item) { listed_.remove(item); }
  /// From now on, when `triggering` queues something, what `linked` has sampled is reported, too (Part 4, 5.12.1.6).
  /// BadMonitoredItemIdInvalid when there is no such linked item, BadTooManyMonitoredItems beyond 10,000 links.
  ua::StatusCode link(std::uint32_t triggering, std::uint32_t linked);
  bool unlink(std::uint32_t triggering, std::uint32_t linked);
  /// Reports the last value of each reporting item again (Part 5, 9.2; Part 4, 5.13.7).
  void resendData(ua::DateTime wallClock);

  // Cycle
  ua::Instant cycleDue() const { return cycleDue_; }
  /// One turn of the publishing timer. `requestWaits`: a Publish request is there.
  void cycle(ua::Instant now, bool requestWaits);
  /// There is something to send that waits for a Publish request only.
  bool isLate() const { return late_; }
  /// Which of a session's subscriptions has been served longest ago. Kept by who answers Publish requests.
  std::uint64_t servedInTurn = 0;
  /// No Publish request came for the whole life-time: the subscription is to be closed.
  bool isExpired() const { return lifetime_ >= settings_.lifetimeCount; }
  /// Any sign of the client's life, such as a service call that names the subscription.
  void touch() { lifetime_ = 0; }

  struct Published {
    ua::NotificationMessage message;
    bool moreNotifications = false;
  };
  /// The next message: notifications, or a keep-alive (without data, carrying the next sequence number).
  /// Gives the fields of the event that a mark stands for, as an item's clauses select them.
  using MarkEvent = std::function<ua::List<ua::Variant>(const MonitoredItem&, EventMark)>;
  /// How large a message becomes, in octets of its encoding, about: what doesn't fit comes with the next.
  struct MessageSize {
    std::size_t usual = 256u << 10;
    std::size_t most =
        SIZE_MAX;  // that the client takes; a value that is larger alone is told of by BadResponseTooLarge
  };
  Published publish(ua::DateTime wallClock, const MarkEvent& markEvent, const MessageSize& size);
  Published publish(ua::DateTime wallClock, const MarkEvent& markEvent = {}) {
    return publish(wallClock, markEvent, MessageSize());
  }
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
  static constexpr std::size_t kMostKeptMessages = 1024;  // for Republish, as far as the allowance reaches
  static constexpr std::size_t kMostLinks = 10'000;
  static constexpr std::size_t kNotificationSize = 32;       // of a notification beside its value, octets
  static constexpr std::size_t kMostNotifications = 10'000;  // in a message, whatever the client allows
  bool hasNotifications() const { return settings_.publishingEnabled && !listed_.empty(); }
  void keep(const ua::NotificationMessage& message, std::size_t octets);
  void forgetOldestKept();
  struct Kept {
    ua::NotificationMessage message;
    std::size_t octets;
  };
  using Link = std::pair<std::uint32_t, std::uint32_t>;

  SubscriptionSettings settings_;
  std::map<std::uint32_t, std::unique_ptr<MonitoredItem>> items_;
  std::set<Link> links_;     // triggering item, and one that it triggers
  std::set<Link> linkedBy_;  // the same the other way round
  ReportList listed_;        // items with something queued
  std::deque<Kept> kept_;
  ua::Instant cycleDue_;
  bool late_ = false;
  bool messageSent_ = false;  // the first cycle publishes, be it a keep-alive
  bool isDurable_ = false;
  std::uint32_t keepAlive_ = 0;
  std::uint32_t lifetime_ = 0;
  std::uint32_t nextSequenceNumber_ = 1;
  ua::SubscriptionDiagnosticsDataType counters_;  // only its counters are kept here
};

}  // namespace zunth::monitor
