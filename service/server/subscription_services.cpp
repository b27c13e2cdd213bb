#include "service/server/server.hpp"

#include <algorithm>
#include <cmath>

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
  if (subscriptions.size() >= settings_.limits.maxSubscriptionsPerSession)
    return Error{status::BadTooManySubscriptions,
                 "a session may have " + std::to_string(settings_.limits.maxSubscriptionsPerSession) + " subscriptions",
                 {}};
  auto settings =
      revise(request.requestedPublishingInterval, request.requestedLifetimeCount, request.requestedMaxKeepAliveCount);
  settings.maxNotificationsPerPublish = request.maxNotificationsPerPublish;
  settings.publishingEnabled = request.publishingEnabled;
  settings.priority = request.priority;
  const std::uint32_t id = ++lastSubscriptionId_;
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

void Server::dropSubscription(Session& session, std::uint32_t id) {
  auto node = session.subscriptions.extract(id);
  if (!node) return;
  for (const auto& [itemId, item] : node.mapped()->items()) sampling_.remove(*item);
}

void Server::answerPublishes(Session& session, const Error& why) {
  for (const auto& waiting : session.publishes) waiting.reply.fault(why, clock_.wallClock());
  session.publishes.clear();
}

void Server::publish(const PublishRequest& request, Context& context) {
  Session& session = *context.session;
  if (session.subscriptions.empty())
    return context.reply.fault({status::BadNoSubscription, "the session has no subscription", {}}, context.wallClock);
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
  const Instant giveUpAt = context.timeoutHint > 0 ? context.now + milliseconds(context.timeoutHint) : Instant::max();
  session.publishes.push_back({context.reply, std::move(acknowledged), giveUpAt});
  publishLate(session);
}

void Server::publishLate(Session& session) {
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
    auto waiting = std::move(session.publishes.front());
    session.publishes.pop_front();
    auto published = next->publish(clock_.wallClock());
    PublishResponse response;
    response.subscriptionId = next->id();
    response.availableSequenceNumbers = next->availableSequenceNumbers();
    response.moreNotifications = published.moreNotifications;
    response.notificationMessage = std::move(published.message);
    response.results = std::move(waiting.acknowledged);
    waiting.reply.send(std::move(response), clock_.wallClock());
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
    dropSubscription(session, id);
  }
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
