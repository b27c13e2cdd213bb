#pragma once

#include "service/server/core.hpp"

namespace zunth::server {

/// The Subscription Service Set (Part 4, 5.13).
class Subscriptions : Service {
 public:
  /// `grant` gives a session's new subscriptions what its user may do.
  Subscriptions(Core& core, std::function<void(Session&)> grant) : Service(core), grant_(std::move(grant)) {}
  ~Subscriptions();

  ua::Result<ua::CreateSubscriptionResponse> createSubscription(const ua::CreateSubscriptionRequest&, Context&);
  ua::Result<ua::ModifySubscriptionResponse> modifySubscription(const ua::ModifySubscriptionRequest&, Context&);
  ua::Result<ua::SetPublishingModeResponse> setPublishingMode(const ua::SetPublishingModeRequest&, Context&);
  Job transferSubscriptions(ua::TransferSubscriptionsRequest request, Context context);
  ua::Result<ua::DeleteSubscriptionsResponse> deleteSubscriptions(const ua::DeleteSubscriptionsRequest&, Context&);
  Job publish(ua::PublishRequest request, Context context);
  ua::Result<ua::RepublishResponse> republish(const ua::RepublishRequest&, Context&);

  /// The session's own, which this shows to be wanted; or null.
  monitor::Subscription* of(const Context& context, std::uint32_t id) const;
  /// Ends one of a session.
  void drop(Session& session, std::uint32_t id);
  /// It outlives its session, for as long as it waits for a Publish request.
  void orphan(Session& session, std::uint32_t id);
  void answerPublishes(Session& session, const ua::Error& why);
  /// The session has another user now, who takes its subscriptions on their account.
  void changeUser(Session& session, const std::string& name);
  /// An item takes part, or does no more.
  void itemAdded(Session& session);
  void itemRemoved(Session& session);
  void forget(monitor::MonitoredItem& item);

  /// Publishing cycles that are due; and some of the items of subscriptions that have ended, which go bit by bit.
  void tick(ua::Instant now, ua::Slice& slice);
  bool hasWork() const { return !ended_.empty(); }
  /// Ends those without a session.
  void shutdown();

 private:
  monitor::SubscriptionSettings revise(double interval, std::uint32_t lifetime, std::uint32_t keepAlive) const;
  ua::Result<ua::TransferResult> transferOne(std::uint32_t id, bool sendInitialValues, Context& context);
  void publishLate(Session& session);
  void cycle(Session& session, monitor::Subscription& subscription, ua::Instant now);
  void dismantle(std::unique_ptr<monitor::Subscription> subscription);
  void takeApart(ua::Slice& slice);
  void endOrphan(std::uint32_t id);
  void notify(Session& session, std::uint32_t id, ua::NotificationMessage message);
  monitor::Subscription::MessageSize sizeFor(const Session& session) const;

  std::function<void(Session&)> grant_;
  std::vector<std::unique_ptr<monitor::Subscription>> ended_;
};

}  // namespace zunth::server
