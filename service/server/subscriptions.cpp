#include "service/server/subscriptions.hpp"

#include "core/ua/foreign.hpp"
#include "service/logs/logs.hpp"

#include <algorithm>
#include <cmath>
#include <unordered_set>

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;

Subscriptions::~Subscriptions() {
  for (const auto& subscription : ended_)
    for (const auto& [id, item] : subscription->items()) forget(*item);
}

monitor::SubscriptionSettings Subscriptions::revise(double interval, std::uint32_t lifetime,
                                                    std::uint32_t keepAlive) const {
  monitor::SubscriptionSettings out;
  const auto& limits = settings_.limits;
  out.publishingInterval = revised(interval, limits.leastPublishingInterval, limits.mostPublishingInterval);
  const auto mostTurns = static_cast<std::uint32_t>(std::max(limits.mostLifetime / out.publishingInterval, 3.0));
  out.maxKeepAliveCount = std::clamp(keepAlive, 1u, std::min(limits.mostKeepAliveCount, mostTurns / 3));
  // Part 4, 5.13.2.2: the life-time is at least three times the keep-alive time.
  out.lifetimeCount = std::clamp(lifetime, 3 * out.maxKeepAliveCount, std::max(mostTurns, 3 * out.maxKeepAliveCount));
  return out;
}

monitor::Subscription* Subscriptions::of(const Context& context, std::uint32_t id) const {
  const auto found = context.session->subscriptions.find(id);
  if (found == context.session->subscriptions.end()) return nullptr;
  found->second->touch();
  return found->second.get();
}

Result<CreateSubscriptionResponse> Subscriptions::createSubscription(const CreateSubscriptionRequest& request,
                                                                     Context& context) {
  auto& subscriptions = context.session->subscriptions;
  const auto& limits = settings_.limits;
  const std::string user = context.session->userName();
  if (subscriptions.size() >= limits.maxSubscriptionsPerSession ||
      core_.subscriptionOwners.size() >= limits.maxSubscriptions ||
      core_.subscriptionsOfUsers.of(user) >= limits.maxSubscriptionsPerUser)
    return Error{
        status::BadTooManySubscriptions,
        fmt::format("a session may have {} subscriptions, a user {}, all of them together {}",
                    limits.maxSubscriptionsPerSession, limits.maxSubscriptionsPerUser, limits.maxSubscriptions),
        {}};
  auto settings =
      revise(request.requestedPublishingInterval, request.requestedLifetimeCount, request.requestedMaxKeepAliveCount);
  settings.maxNotificationsPerPublish = request.maxNotificationsPerPublish;
  settings.publishingEnabled = request.publishingEnabled;
  settings.priority = request.priority;
  const std::uint32_t id = ++core_.lastSubscriptionId;
  ++core_.summary.cumulatedSubscriptionCount;
  auto& made =
      *subscriptions.emplace(id, std::make_unique<monitor::Subscription>(id, settings, context.now)).first->second;
  made.setListener(&context.session->rights);
  made.allowance().moveTo(context.session->queued.get());
  core_.subscriptionOwners[id] = context.session;
  core_.subscriptionsOfUsers.add(user);
  core_.cyclesDue.put(made, made.cycleDue());
  CreateSubscriptionResponse response;
  response.subscriptionId = id;
  response.revisedPublishingInterval = settings.publishingInterval;
  response.revisedLifetimeCount = settings.lifetimeCount;
  response.revisedMaxKeepAliveCount = settings.maxKeepAliveCount;
  return response;
}

Result<ModifySubscriptionResponse> Subscriptions::modifySubscription(const ModifySubscriptionRequest& request,
                                                                     Context& context) {
  auto* subscription = of(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  auto settings =
      revise(request.requestedPublishingInterval, request.requestedLifetimeCount, request.requestedMaxKeepAliveCount);
  settings.maxNotificationsPerPublish = request.maxNotificationsPerPublish;
  settings.priority = request.priority;
  subscription->modify(settings, context.now);
  core_.cyclesDue.put(*subscription, subscription->cycleDue());
  ModifySubscriptionResponse response;
  response.revisedPublishingInterval = settings.publishingInterval;
  response.revisedLifetimeCount = subscription->settings().lifetimeCount;
  response.revisedMaxKeepAliveCount = settings.maxKeepAliveCount;
  return response;
}

Result<SetPublishingModeResponse> Subscriptions::setPublishingMode(const SetPublishingModeRequest& request,
                                                                   Context& context) {
  if (auto fine = core_.checkCount(request.subscriptionIds.size()); !fine) return fine.error();
  SetPublishingModeResponse response;
  for (auto id : request.subscriptionIds) {
    auto* subscription = of(context, id);
    if (subscription) subscription->setPublishing(request.publishingEnabled);
    response.results.push_back(subscription ? status::Good : status::BadSubscriptionIdInvalid);
  }
  return response;
}

Job Subscriptions::transferSubscriptions(TransferSubscriptionsRequest request, Context context) {
  using Response = TransferSubscriptionsResponse;
  if (auto fine = core_.checkCount(request.subscriptionIds.size()); !fine)
    co_return core_.answer<Response>(context, fine.error());
  Response response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  std::unordered_set<std::uint32_t> told;  // of the values once, however often the request names the subscription
  for (const auto id : request.subscriptionIds) {
    auto transferred = transferOne(id, request.sendInitialValues && told.insert(id).second, context);
    if (!transferred) diagnostics.note(response.results.size(), transferred.error());
    response.results.push_back(transferred ? std::move(*transferred) : TransferResult{transferred.code(), {}});
    co_await context.turn(core_.turns, true);
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<Response>(context, std::move(response));
}

Result<TransferResult> Subscriptions::transferOne(std::uint32_t id, bool sendInitialValues, Context& context) {
  Session& to = *context.session;
  const auto owner = core_.subscriptionOwners.find(id);
  if (owner == core_.subscriptionOwners.end())
    return Error{status::BadSubscriptionIdInvalid, fmt::format("there is no subscription {}", id), {}};
  Session* const from = owner->second;
  const auto orphan = core_.orphans.find(id);
  // Part 4, 5.13.7: to the same user only; without a user, to the same application.
  const String user = from ? from->user.name : orphan->second->userName;
  const String mechanism = from ? from->user.mechanism : orphan->second->mechanism;
  const String application = from ? from->client.applicationUri : orphan->second->applicationUri;
  const bool isSameApplication = application.view() == to.client.applicationUri.view();
  if (!(user == to.user.name) || !(mechanism == to.user.mechanism) || (user.empty() && !isSameApplication))
    return Error{status::BadUserAccessDenied, "the subscription belongs to somebody else", {}};
  if (from != &to) {
    const auto& held = from ? *from->subscriptions.at(id) : *orphan->second->subscription;
    if (to.subscriptions.size() >= settings_.limits.maxSubscriptionsPerSession ||
        to.itemCount + held.items().size() > settings_.limits.maxMonitoredItemsPerSession)
      return Error{status::BadTooManySubscriptions, "the session has as many subscriptions as it may", {}};
    auto subscription =
        from ? std::move(from->subscriptions.extract(id).mapped()) : std::move(orphan->second->subscription);
    subscription->allowance().moveTo(to.queued.get());
    subscription->setListener(&to.rights);
    to.itemCount += subscription->items().size();
    if (from) {
      from->itemCount -= subscription->items().size();
      notify(*from, id, subscription->statusChange(status::GoodSubscriptionTransferred, context.wallClock));
      publishLate(*from);
      if (from->subscriptions.empty())
        answerPublishes(*from, {status::BadNoSubscription, "the last subscription went to another session", {}});
    } else {
      core_.orphans.erase(orphan);
    }
    owner->second = &to;
    to.subscriptions[id] = std::move(subscription);
    grant_(to);
  }
  auto& subscription = *to.subscriptions[id];
  subscription.touch();
  subscription.countTransfer(isSameApplication);
  // What was sent before and not acknowledged can be had again.
  TransferResult result{status::Good, subscription.availableSequenceNumbers()};
  if (sendInitialValues) {
    subscription.resendData(context.wallClock);
    core_.sampling.sampleForgotten(subscription, core_.clock.now());
  }
  return result;
}

Result<DeleteSubscriptionsResponse> Subscriptions::deleteSubscriptions(const DeleteSubscriptionsRequest& request,
                                                                       Context& context) {
  if (auto fine = core_.checkCount(request.subscriptionIds.size()); !fine) return fine.error();
  DeleteSubscriptionsResponse response;
  for (auto id : request.subscriptionIds) {
    const bool there = of(context, id) != nullptr;
    if (there) drop(*context.session, id);
    response.results.push_back(there ? status::Good : status::BadSubscriptionIdInvalid);
  }
  if (context.session->subscriptions.empty())
    answerPublishes(*context.session, {status::BadNoSubscription, "the last subscription was deleted", {}});
  return response;
}

void Subscriptions::drop(Session& session, std::uint32_t id) {
  auto found = session.subscriptions.extract(id);
  if (!found) return;
  const std::size_t items = found.mapped()->items().size();
  session.itemCount -= items;
  core_.itemsOfUsers.remove(session.userName(), static_cast<std::uint32_t>(items));
  core_.subscriptionsOfUsers.remove(session.userName());
  dismantle(std::move(found.mapped()));
}

/// Nothing of it is heard any more; its items may go in the turns to come, as there may be very many.
void Subscriptions::dismantle(std::unique_ptr<monitor::Subscription> subscription) {
  core_.cyclesDue.remove(*subscription);
  core_.subscriptionOwners.erase(subscription->id());
  subscription->allowance().moveTo(nullptr);
  subscription->setListener(nullptr);
  ended_.push_back(std::move(subscription));
  takeApart(core_.turns.slice());
}

void Subscriptions::takeApart(Slice& slice) {
  while (!ended_.empty()) {
    auto& subscription = *ended_.back();
    if (subscription.items().empty()) {
      ended_.pop_back();
      continue;
    }
    const auto item = subscription.removeItem(subscription.items().begin()->first);
    forget(*item);
    --core_.itemCount;
    if (slice.isOver()) return;
  }
}

void Subscriptions::orphan(Session& session, std::uint32_t id) {
  auto orphan = std::make_unique<Core::Orphan>(settings_.limits.maxQueuedPerSession, &core_.queued);
  orphan->subscription = std::move(session.subscriptions.extract(id).mapped());
  orphan->applicationUri = session.client.applicationUri;
  orphan->userName = session.user.name;
  orphan->mechanism = session.user.mechanism;
  orphan->shareOf = session.userName();
  orphan->rights = session.rights;
  orphan->subscription->setListener(&orphan->rights);
  orphan->subscription->allowance().moveTo(&orphan->queued);
  session.itemCount -= orphan->subscription->items().size();
  core_.subscriptionOwners[id] = nullptr;
  core_.orphans[id] = std::move(orphan);
}

void Subscriptions::changeUser(Session& session, const std::string& name) {
  if (!session.isActivated) return;
  const auto items = static_cast<std::uint32_t>(session.itemCount);
  const auto subscriptions = static_cast<std::uint32_t>(session.subscriptions.size());
  core_.itemsOfUsers.remove(session.userName(), items);
  core_.subscriptionsOfUsers.remove(session.userName(), subscriptions);
  core_.itemsOfUsers.add(name, items);
  core_.subscriptionsOfUsers.add(name, subscriptions);
}

void Subscriptions::itemAdded(Session& session) {
  ++core_.itemCount;
  ++session.itemCount;
  core_.itemsOfUsers.add(session.userName());
}

void Subscriptions::itemRemoved(Session& session) {
  --core_.itemCount;
  --session.itemCount;
  core_.itemsOfUsers.remove(session.userName());
}

void Subscriptions::forget(monitor::MonitoredItem& item) {
  if (item.takesEvents())
    core_.events.remove(item);
  else
    core_.sampling.remove(item);
}

/// The last word of a subscription that is no longer the session's; who never asks misses the oldest.
void Subscriptions::notify(Session& session, std::uint32_t id, NotificationMessage message) {
  constexpr std::size_t kMost = 100;
  session.notices.emplace_back(id, std::move(message));
  if (session.notices.size() > kMost) session.notices.pop_front();
}

void Subscriptions::answerPublishes(Session& session, const Error& why) {
  for (const auto& waiting : session.publishes) waiting.reply.fault(why, clock_.wallClock());
  session.publishes.clear();
}

Job Subscriptions::publish(PublishRequest request, Context context) {
  Session& session = *context.session;
  auto fine = core_.checkCount(std::max<std::size_t>(request.subscriptionAcknowledgements.size(), 1));
  if (fine && session.subscriptions.empty() && session.notices.empty())
    fine = Error{status::BadNoSubscription, "the session has no subscription", {}};
  if (!fine) co_return core_.answer<PublishResponse>(context, fine.error());
  List<StatusCode> acknowledged;
  for (const auto& acknowledgement : request.subscriptionAcknowledgements) {
    const auto found = session.subscriptions.find(acknowledgement.subscriptionId);
    acknowledged.push_back(found == session.subscriptions.end()
                               ? status::BadSubscriptionIdInvalid
                               : found->second->acknowledge(acknowledgement.sequenceNumber));
    co_await context.turn(core_.turns);
  }
  core_.count(&session, context.requestType, status::Good);
  // Part 4, 5.13.5.2: with the queue full, the oldest request gives way.
  if (session.publishes.size() >= settings_.limits.maxPublishRequestsPerSession) {
    session.publishes.front().reply.fault({status::BadTooManyPublishRequests, "too many Publish requests wait", {}},
                                          context.wallClock);
    session.publishes.pop_front();
  }
  session.publishes.push_back({context.reply, std::move(acknowledged), context.giveUpAt()});
  publishLate(session);
}

void Subscriptions::publishLate(Session& session) {
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
    // Part 4, 5.13.2.2: the highest priority first, then the one that was served longest ago.
    monitor::Subscription* next = nullptr;
    for (const auto& [id, subscription] : session.subscriptions) {
      if (!subscription->isLate()) continue;
      const auto rank = [](const monitor::Subscription& s) {
        return std::pair(-int{s.settings().priority}, s.servedInTurn);
      };
      if (!next || rank(*subscription) < rank(*next)) next = subscription.get();
    }
    if (!next) return;
    next->servedInTurn = ++session.lastTurn;
    const auto markEvent = [this](const monitor::MonitoredItem& item, monitor::EventMark mark) {
      const auto event =
          mark == monitor::EventMark::EventsLost
              ? announcer_.make(id::EventQueueOverflowEventType, 900, "events were lost: the queue was full")
              : announcer_.make(id::RefreshRequiredEventType, 100, "not every change of a condition was told: refresh");
      return item.settings().events->select(space_, event);
    };
    auto published = next->publish(clock_.wallClock(), markEvent, sizeFor(session));
    answer(next->id(), std::move(published.message), published.moreNotifications, next->availableSequenceNumbers());
  }
}

/// How large a message may become that this session's client takes, with what stands around it.
monitor::Subscription::MessageSize Subscriptions::sizeFor(const Session& session) const {
  constexpr std::size_t kAround = 8 * 1024;
  monitor::Subscription::MessageSize size;
  size.most = settings_.limits.maxResponse;
  if (session.maxResponseSize) size.most = std::min<std::size_t>(size.most, session.maxResponseSize);
  if (const auto peer = session.peer.lock(); peer && peer->mostResponse())
    size.most = std::min(size.most, peer->mostResponse());
  size.most -= std::min(size.most / 2, kAround);
  return size;
}

void Subscriptions::cycle(Session& session, monitor::Subscription& subscription, Instant now) {
  // Requests of a connection that has gone can't carry a message; it stays for the next one that comes.
  std::erase_if(session.publishes,
                [](const Session::WaitingPublish& waiting) { return !waiting.reply.isDeliverable(); });
  while (!session.publishes.empty() && session.publishes.front().giveUpAt <= now) {
    session.publishes.front().reply.fault(
        {status::BadTimeout, "the Publish request waited as long as it asked for", {}}, clock_.wallClock());
    session.publishes.pop_front();
  }
  subscription.cycle(now, !session.publishes.empty());
  core_.cyclesDue.put(subscription, subscription.cycleDue());
  const bool isExpired = subscription.isExpired();
  publishLate(session);
  if (!isExpired) return;
  logs::clients().info("subscription {} of session '{}' ended: no Publish request came for its life-time",
                       subscription.id(), shown(session.name.view()));
  notify(session, subscription.id(), subscription.statusChange(status::BadTimeout, clock_.wallClock()));
  drop(session, subscription.id());
}

void Subscriptions::tick(Instant now, Slice& slice) {
  while (auto* due = core_.cyclesDue.take(now)) {
    if (Session* session = core_.subscriptionOwners.at(due->id())) {
      cycle(*session, *due, now);
    } else {
      due->cycle(now, false);
      core_.cyclesDue.put(*due, due->cycleDue());
      if (due->isExpired()) {
        logs::clients().info("subscription {} ended: nobody took it over in its life-time", due->id());
        endOrphan(due->id());
      }
    }
    if (slice.lookAgain()) return;
  }
  takeApart(slice);
}

void Subscriptions::endOrphan(std::uint32_t id) {
  auto found = core_.orphans.extract(id);
  auto& orphan = *found.mapped();
  core_.itemsOfUsers.remove(orphan.shareOf, static_cast<std::uint32_t>(orphan.subscription->items().size()));
  core_.subscriptionsOfUsers.remove(orphan.shareOf);
  dismantle(std::move(orphan.subscription));
}

void Subscriptions::shutdown() {
  while (!core_.orphans.empty()) endOrphan(core_.orphans.begin()->first);
}

Result<RepublishResponse> Subscriptions::republish(const RepublishRequest& request, Context& context) {
  auto* subscription = of(context, request.subscriptionId);
  if (!subscription) return status::BadSubscriptionIdInvalid;
  auto message = subscription->republish(request.retransmitSequenceNumber);
  if (!message) return message.error();
  RepublishResponse response;
  response.notificationMessage = std::move(*message);
  return response;
}

}  // namespace zunth::server
