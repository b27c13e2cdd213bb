#include "service/server/server.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::server {

using namespace ua;

monitor::SubscriptionSettings Server::revise(double interval, std::uint32_t lifetime, std::uint32_t keepAlive) const {
  monitor::SubscriptionSettings out;
  const auto& limits = settings_.limits;
  out.publishingInterval = std::isnan(interval)
                               ? limits.leastPublishingInterval
                               : std::clamp(interval, limits.leastPublishingInterval, limits.mostPublishingInterval);
  out.maxKeepAliveCount = std::clamp(keepAlive, 1u, limits.mostKeepAliveCount);
  // Part 4, 5.13.2.2: the life-time is at least three times the keep-alive time.
  out.lifetimeCount = std::max(lifetime, 3 * out.maxKeepAliveCount);
  return out;
}

monitor::Subscription* Server::subscriptionOf(const Context& context, std::uint32_t id) const {
  const auto found = context.session->subscriptions.find(id);
  if (found == context.session->subscriptions.end()) return nullptr;
  found->second->touch();
  return found->second.get();
}

Result<CreateSubscriptionResponse> Server::createSubscription(const CreateSubscriptionRequest& request,
                                                              Context& context) {
  auto& subscriptions = context.session->subscriptions;
  const auto& limits = settings_.limits;
  if (subscriptions.size() >= limits.maxSubscriptionsPerSession || subscriptionCount() >= limits.maxSubscriptions)
    return Error{status::BadTooManySubscriptions,
                 fmt::format("a session may have {} subscriptions, all of them together {}",
                             limits.maxSubscriptionsPerSession, limits.maxSubscriptions),
                 {}};
  auto settings =
      revise(request.requestedPublishingInterval, request.requestedLifetimeCount, request.requestedMaxKeepAliveCount);
  settings.maxNotificationsPerPublish = request.maxNotificationsPerPublish;
  settings.publishingEnabled = request.publishingEnabled;
  settings.priority = request.priority;
  const std::uint32_t id = ++lastSubscriptionId_;
  ++summary_.cumulatedSubscriptionCount;
  subscriptions.emplace(id, std::make_unique<monitor::Subscription>(id, settings, context.now));
  CreateSubscriptionResponse response;
  response.subscriptionId = id;
  response.revisedPublishingInterval = settings.publishingInterval;
  response.revisedLifetimeCount = settings.lifetimeCount;
  response.revisedMaxKeepAliveCount = settings.maxKeepAliveCount;
  return response;
}

Result<ModifySubscriptionResponse> Server::modifySubscription(const ModifySubscriptionRequest& request,
                                                              Context& context) {
  auto* subscription = subscriptionOf(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  auto settings =
      revise(request.requestedPublishingInterval, request.requestedLifetimeCount, request.requestedMaxKeepAliveCount);
  settings.maxNotificationsPerPublish = request.maxNotificationsPerPublish;
  settings.priority = request.priority;
  subscription->modify(settings, context.now);
  ModifySubscriptionResponse response;
  response.revisedPublishingInterval = settings.publishingInterval;
  response.revisedLifetimeCount = settings.lifetimeCount;
  response.revisedMaxKeepAliveCount = settings.maxKeepAliveCount;
  return response;
}

Result<SetPublishingModeResponse> Server::setPublishingMode(const SetPublishingModeRequest& request, Context& context) {
  if (auto fine = checkCount(request.subscriptionIds.size()); !fine) return fine.error();
  SetPublishingModeResponse response;
  for (auto id : request.subscriptionIds) {
    auto* subscription = subscriptionOf(context, id);
    if (subscription) subscription->setPublishing(request.publishingEnabled);
    response.results.push_back(subscription ? status::Good : status::BadSubscriptionIdInvalid);
  }
  return response;
}

Result<TransferSubscriptionsResponse> Server::transferSubscriptions(const TransferSubscriptionsRequest& request,
                                                                    Context& context) {
  if (auto fine = checkCount(request.subscriptionIds.size()); !fine) return fine.error();
  TransferSubscriptionsResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  for (auto id : request.subscriptionIds) {
    auto transferred = transferOne(id, request.sendInitialValues, context);
    if (!transferred) diagnostics.note(response.results.size(), transferred.error());
    response.results.push_back(transferred ? std::move(*transferred) : TransferResult{transferred.code(), {}});
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  return response;
}

Result<TransferResult> Server::transferOne(std::uint32_t id, bool sendInitialValues, Context& context) {
  Session& to = *context.session;
  Session* from = nullptr;
  for (const auto& [token, session] : sessions_)
    if (session->subscriptions.contains(id)) from = session.get();
  const auto orphan = orphans_.find(id);
  if (!from && orphan == orphans_.end())
    return Error{status::BadSubscriptionIdInvalid, fmt::format("there is no subscription {}", id), {}};
  // Part 4, 5.13.7: to the same user only; without a user, to the same application.
  const String user = from ? from->user.name : orphan->second.userName;
  const String application = from ? from->client.applicationUri : orphan->second.applicationUri;
  if (!(user == to.user.name) || (user.empty() && application.view() != to.client.applicationUri.view()))
    return Error{status::BadUserAccessDenied, "the subscription belongs to somebody else", {}};
  if (from != &to) {
    if (to.subscriptions.size() >= settings_.limits.maxSubscriptionsPerSession)
      return Error{status::BadTooManySubscriptions, "the session has as many subscriptions as it may", {}};
    auto subscription = from ? std::move(from->subscriptions.extract(id).mapped())
                             : std::move(orphans_.extract(id).mapped().subscription);
    if (from) {
      from->notices.emplace_back(id,
                                 subscription->statusChange(status::GoodSubscriptionTransferred, context.wallClock));
      publishLate(*from);
      if (from->subscriptions.empty())
        answerPublishes(*from, {status::BadNoSubscription, "the last subscription went to another session", {}});
    }
    to.subscriptions[id] = std::move(subscription);
  }
  auto& subscription = *to.subscriptions[id];
  grant(to);
  subscription.touch();
  subscription.countTransfer(application.view() == to.client.applicationUri.view());
  // What was sent before and not acknowledged can be had again.
  TransferResult result{status::Good, subscription.availableSequenceNumbers()};
  if (sendInitialValues) subscription.resendData(context.wallClock);
  return result;
}

Result<DeleteSubscriptionsResponse> Server::deleteSubscriptions(const DeleteSubscriptionsRequest& request,
                                                                Context& context) {
  if (auto fine = checkCount(request.subscriptionIds.size()); !fine) return fine.error();
  DeleteSubscriptionsResponse response;
  for (auto id : request.subscriptionIds) {
    const bool there = subscriptionOf(context, id) != nullptr;
    if (there) dropSubscription(*context.session, id);
    response.results.push_back(there ? status::Good : status::BadSubscriptionIdInvalid);
  }
  if (context.session->subscriptions.empty())
    answerPublishes(*context.session, {status::BadNoSubscription, "the last subscription was deleted", {}});
  return response;
}

void Server::drop(monitor::Subscription& subscription) {
  for (const auto& [itemId, item] : subscription.items()) forget(*item);
}

void Server::dropSubscription(Session& session, std::uint32_t id) {
  if (auto node = session.subscriptions.extract(id)) drop(*node.mapped());
}

void Server::answerPublishes(Session& session, const Error& why) {
  for (const auto& waiting : session.publishes) waiting.reply.fault(why, clock_.wallClock());
  session.publishes.clear();
}

Result<void> Server::publish(const PublishRequest& request, Context& context) {
  Session& session = *context.session;
  if (session.subscriptions.empty() && session.notices.empty())
    return Error{status::BadNoSubscription, "the session has no subscription", {}};
  List<StatusCode> acknowledged;
  for (const auto& acknowledgement : request.subscriptionAcknowledgements) {
    const auto found = session.subscriptions.find(acknowledgement.subscriptionId);
    acknowledged.push_back(found == session.subscriptions.end()
                               ? status::BadSubscriptionIdInvalid
                               : found->second->acknowledge(acknowledgement.sequenceNumber));
  }
  // Part 4, 5.13.5.2: with the queue full, the oldest request gives way.
  if (session.publishes.size() >= settings_.limits.maxPublishRequestsPerSession) {
    session.publishes.front().reply.fault({status::BadTooManyPublishRequests, "too many Publish requests wait", {}},
                                          context.wallClock);
    session.publishes.pop_front();
  }
  session.publishes.push_back({context.reply, std::move(acknowledged), context.giveUpAt()});
  publishLate(session);
  return {};
}

void Server::publishLate(Session& session) {
  auto answer = [&](std::uint32_t id, NotificationMessage message, bool more, List<std::uint32_t> available) {
    auto waiting = std::move(session.publishes.front());
    session.publishes.pop_front();
    PublishResponse response;
    response.subscriptionId = id;
    response.availableSequenceNumbers = std::move(available);
    response.moreNotifications = more;
    response.notificationMessage = std::move(message);
    response.results = std::move(waiting.acknowledged);
    waiting.reply.send(std::move(response), clock_.wallClock());
  };
  while (!session.publishes.empty() && !session.notices.empty()) {
    auto [id, message] = std::move(session.notices.front());
    session.notices.pop_front();
    answer(id, std::move(message), false, List<std::uint32_t>::emptyNotNull());
  }
  while (!session.publishes.empty()) {
    // The highest priority first, then the one that waits longest.
    monitor::Subscription* next = nullptr;
    for (const auto& [id, subscription] : session.subscriptions) {
      if (!subscription->isLate()) continue;
      const auto rank = [](const monitor::Subscription& s) {
        return std::pair(-int{s.settings().priority}, s.lateSince());
      };
      if (!next || rank(*subscription) < rank(*next)) next = subscription.get();
    }
    if (!next) return;
    auto published = next->publish(clock_.wallClock(), [this](const monitor::MonitoredItem& item) {
      const auto event = announcer_.make(id::EventQueueOverflowEventType, 900, "events were lost: the queue was full");
      return item.settings().events->select(space_, event);
    });
    answer(next->id(), std::move(published.message), published.moreNotifications, next->availableSequenceNumbers());
  }
}

void Server::tickSubscriptions(Session& session, Instant now) {
  // Requests of a connection that has gone can't carry a message; it stays for the next one that comes.
  std::erase_if(session.publishes,
                [](const Session::WaitingPublish& waiting) { return !waiting.reply.isDeliverable(); });
  while (!session.publishes.empty() && session.publishes.front().giveUpAt <= now) {
    session.publishes.front().reply.fault(
        {status::BadTimeout, "the Publish request waited as long as it asked for", {}}, clock_.wallClock());
    session.publishes.pop_front();
  }
  std::vector<std::uint32_t> expired;
  for (auto& [id, subscription] : session.subscriptions) {
    if (subscription->cycleDue() > now) continue;
    subscription->cycle(now, !session.publishes.empty());
    if (subscription->isExpired()) expired.push_back(id);
  }
  publishLate(session);
  for (auto id : expired) {
    spdlog::info("subscription {} of session '{}' ended: no Publish request came for its life-time", id,
                 session.name.view());
    session.notices.emplace_back(id, session.subscriptions[id]->statusChange(status::BadTimeout, clock_.wallClock()));
    dropSubscription(session, id);
  }
}

void Server::tickOrphans(Instant now) {
  std::erase_if(orphans_, [&](auto& entry) {
    auto& subscription = *entry.second.subscription;
    if (subscription.cycleDue() > now) return false;
    subscription.cycle(now, false);
    if (!subscription.isExpired()) return false;
    spdlog::info("subscription {} ended: nobody took it over in its life-time", entry.first);
    drop(subscription);
    return true;
  });
}

Result<RepublishResponse> Server::republish(const RepublishRequest& request, Context& context) {
  auto* subscription = subscriptionOf(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  auto message = subscription->republish(request.retransmitSequenceNumber);
  if (!message) return message.error();
  RepublishResponse response;
  response.notificationMessage = std::move(*message);
  return response;
}

}  // namespace zunth::server
