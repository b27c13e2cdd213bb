#include "service/client/subscription.hpp"

#include "core/ua/generated/node_ids.hpp"

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

Subscription::Subscription(std::shared_ptr<Session> session, Settings settings, Handlers handlers)
    : session_(std::move(session)), settings_(settings), handlers_(std::move(handlers)) {
  session_->subscriptions_.insert(this);
}

Subscription::~Subscription() { session_->subscriptions_.erase(this); }

Awaitable<Result<std::shared_ptr<Subscription>>> Subscription::create(std::shared_ptr<Session> session,
                                                                      Settings settings, Handlers handlers) {
  std::shared_ptr<Subscription> self(new Subscription(session, settings, std::move(handlers)));
  if (auto created = co_await self->createOnServer(); !created) co_return created.error();
  self->startPublishing();
  co_return self;
}

Awaitable<Result<std::shared_ptr<Subscription>>> Subscription::takeOver(std::shared_ptr<Session> session,
                                                                        std::uint32_t id, bool sendInitialValues,
                                                                        Handlers handlers) {
  TransferSubscriptionsRequest request;
  request.subscriptionIds.push_back(id);
  request.sendInitialValues = sendInitialValues;
  auto response = co_await session->request(std::move(request));
  if (!response) co_return response.error();
  if (response->results.size() != 1)
    co_return Error{status::BadUnknownResponse, "the server did not say what came of the transfer", {}};
  const auto& result = response->results[0];
  if (result.statusCode.isBad())
    co_return Error{result.statusCode,
                    result.statusCode == status::BadSubscriptionIdInvalid
                        ? fmt::format("the server has no subscription {}: its life-time may be over", id)
                        : fmt::format("the server doesn't hand subscription {} over to this client", id),
                    {}};
  std::shared_ptr<Subscription> self(new Subscription(session, {}, std::move(handlers)));
  self->id_ = id;
  // What was sent to the one before and not acknowledged comes first.
  const auto& available = result.availableSequenceNumbers;
  self->nextSequence_ = available.empty() ? 0 : available.front();
  if (!available.empty()) co_await self->fetchMissing(available.back() + 1);
  self->startPublishing();
  co_return self;
}

Awaitable<Result<void>> Subscription::createOnServer() {
  CreateSubscriptionRequest request;
  request.requestedPublishingInterval = settings_.interval;
  request.requestedMaxKeepAliveCount = settings_.keepAliveCount;
  request.requestedLifetimeCount = settings_.lifetimeCount;
  request.priority = settings_.priority;
  request.publishingEnabled = true;
  auto created = co_await session_->request(std::move(request));
  if (!created) co_return created.error();
  id_ = created->subscriptionId;
  settings_.interval = created->revisedPublishingInterval;
  settings_.keepAliveCount = created->revisedMaxKeepAliveCount;
  nextSequence_ = 1;
  toAcknowledge_.clear();
  inbox_.clear();  // what came of the one before counts differently
  if (settings_.durableHours == 0) co_return Result<void>{};
  std::vector<Variant> inputs;
  inputs.push_back(Variant(id_));
  inputs.push_back(Variant(settings_.durableHours));
  auto durable = co_await session_->call(ua::id::Server, ua::id::Server_SetSubscriptionDurable, std::move(inputs));
  if (!durable) co_return durable.error();
  if (durable->error.code.isBad()) co_return durable->error;
  co_return Result<void>{};
}

void Subscription::startPublishing() {
  isActive_ = true;
  ++generation_;
  for (int i = 0; i < kPublishesUnderWay; ++i)
    asio::co_spawn(session_->executor_, keepPublishing(generation_), asio::detached);
}

std::uint32_t Subscription::serverIdOf(std::uint32_t itemId) const {
  const auto found = renumbered_.find(itemId);
  return found == renumbered_.end() ? itemId : found->second;
}

Awaitable<Result<List<MonitoredItemCreateResult>>> Subscription::add(std::vector<MonitoredItemCreateRequest> items,
                                                                     TimestampsToReturn timestamps) {
  const auto self = shared_from_this();
  List<MonitoredItemCreateResult> results;
  constexpr std::size_t kPerRequest = kUsualPart;
  for (std::size_t from = 0; from < items.size(); from += kPerRequest) {
    CreateMonitoredItemsRequest request;
    request.subscriptionId = id_;
    request.timestampsToReturn = timestamps;
    for (std::size_t i = from; i < std::min(items.size(), from + kPerRequest); ++i)
      request.itemsToCreate.push_back(items[i]);
    auto response = co_await session_->request(std::move(request));
    if (!response) co_return response.error();
    for (auto& result : response->results) {
      if (results.size() < items.size() && !result.statusCode.isBad())
        items_[result.monitoredItemId] = {items[results.size()], timestamps, {}};
      results.push_back(std::move(result));
    }
  }
  co_return results;
}

Awaitable<Result<MonitoredItemCreateResult>> Subscription::addEvents(NodeId source, EventFilter filter) {
  constexpr std::uint32_t kQueueSize = 10'000;
  MonitoredItemCreateRequest item;
  item.itemToMonitor = {std::move(source), static_cast<std::uint32_t>(AttributeId::EventNotifier), {}, {}};
  item.monitoringMode = MonitoringMode::Reporting;
  item.requestedParameters.filter = ExtensionObject::of(filter);
  item.requestedParameters.queueSize = kQueueSize;
  item.requestedParameters.discardOldest = true;
  auto added = co_await add(std::vector<MonitoredItemCreateRequest>(1, item));
  if (!added) co_return added.error();
  co_return added->front();
}

Awaitable<Result<List<StatusCode>>> Subscription::remove(std::vector<std::uint32_t> itemIds) {
  DeleteMonitoredItemsRequest request;
  request.subscriptionId = id_;
  for (auto id : itemIds) {
    request.monitoredItemIds.push_back(serverIdOf(id));
    items_.erase(id);
  }
  auto response = co_await session_->request(std::move(request));
  if (!response) co_return response.error();
  co_return std::move(response->results);
}

Awaitable<Result<List<StatusCode>>> Subscription::setMode(MonitoringMode mode, std::vector<std::uint32_t> itemIds) {
  SetMonitoringModeRequest request;
  request.subscriptionId = id_;
  request.monitoringMode = mode;
  for (auto id : itemIds) {
    request.monitoredItemIds.push_back(serverIdOf(id));
    if (const auto item = items_.find(id); item != items_.end()) item->second.asked.monitoringMode = mode;
  }
  auto response = co_await session_->request(std::move(request));
  if (!response) co_return response.error();
  co_return std::move(response->results);
}

Awaitable<Result<List<StatusCode>>> Subscription::trigger(std::uint32_t triggering, std::vector<std::uint32_t> linked) {
  SetTriggeringRequest request;
  request.subscriptionId = id_;
  request.triggeringItemId = serverIdOf(triggering);
  for (auto id : linked) {
    request.linksToAdd.push_back(serverIdOf(id));
    if (const auto item = items_.find(triggering); item != items_.end()) item->second.triggers.push_back(id);
  }
  auto response = co_await session_->request(std::move(request));
  if (!response) co_return response.error();
  co_return std::move(response->addResults);
}

Awaitable<Result<std::map<std::uint32_t, std::uint32_t>>> Subscription::items() {
  std::vector<Variant> inputs;
  inputs.push_back(Variant(id_));
  auto called = co_await session_->call(ua::id::Server, ua::id::Server_GetMonitoredItems, std::move(inputs));
  if (!called) co_return called.error();
  if (called->error.code.isBad()) co_return called->error;
  std::map<std::uint32_t, std::uint32_t> out;
  if (called->outputs.size() == 2) {
    const auto servers = called->outputs[0].items<std::uint32_t>(), clients = called->outputs[1].items<std::uint32_t>();
    for (std::size_t i = 0; i < std::min(servers.size(), clients.size()); ++i) out[servers[i]] = clients[i];
  }
  co_return out;
}

void Subscription::leave() {
  isActive_ = false;
  handlers_ = {};
}

Awaitable<void> Subscription::close() {
  const auto self = shared_from_this();
  leave();
  DeleteSubscriptionsRequest request;
  request.subscriptionIds.push_back(id_);
  (void)co_await session_->request(std::move(request));
}

Awaitable<void> Subscription::keepPublishing(int generation) {
  const auto self = shared_from_this();
  while (isActive_ && session_->isOpen()) {
    PublishRequest request;
    for (auto number : std::exchange(toAcknowledge_, {})) request.subscriptionAcknowledgements.push_back({id_, number});
    // Wait for several keep-alive times of silence before the server counts as gone.
    const auto patience = session_->options().timeout +
                          milliseconds(settings_.interval * settings_.keepAliveCount * (kPublishesUnderWay + 1));
    const auto connection = session_->connection();
    auto response = co_await session_->request(std::move(request), patience);
    if (!isActive_ || generation != generation_) co_return;
    if (response) {
      session_->hand(std::move(*response));
      continue;
    }
    if (response.code() == status::BadTooManyPublishRequests) co_return;  // the server has enough of them
    const bool isCut = !connection->isOpen() || response.code() == status::BadConnectionClosed ||
                       response.code() == status::BadSecureChannelClosed;
    if (!session_->options().reconnects || !session_->isOpen()) co_return fail(response.error());
    if (response.code() == status::BadNoSubscription) co_return makeAnew("the server no longer had the subscription");
    if (response.code() == status::BadTimeout && connection->isOpen())
      session_->silent(*connection);
    else if (!isCut && !Session::isForgotten(response.code()))
      co_return fail(response.error());
    // Whatever the server does, others have their turn before it is asked again.
    co_await asio::post(session_->executor_, asio::use_awaitable);
  }
}

/// Once for all requests that find out.
void Subscription::makeAnew(const std::string& why) {
  if (!std::exchange(isActive_, false)) return;
  if (++madeAnew_ > kMostAnew)
    return fail({status::BadUnknownResponse, "the server forgets the subscription as often as it is made", {}});
  asio::co_spawn(
      session_->executor_,
      [self = shared_from_this(), why]() -> Awaitable<void> {
        if (auto again = co_await self->createAgain(why); !again) self->fail(again.error());
      },
      asio::detached);
}

void Subscription::arrived(NotificationMessage message) {
  inbox_.push_back(std::move(message));
  if (!std::exchange(isHandingOut_, true)) asio::co_spawn(session_->executor_, handOut(), asio::detached);
}

Awaitable<void> Subscription::handOut() {
  const auto self = shared_from_this();
  while (!inbox_.empty() && isActive_) {
    const NotificationMessage message = std::move(inbox_.front());
    inbox_.pop_front();
    if (nextSequence_ == 0) nextSequence_ = message.sequenceNumber;  // taken over: it starts where it is
    // A keep-alive carries the number that comes next, so that what is missing shows without new data, too.
    if (message.sequenceNumber > nextSequence_) co_await fetchMissing(message.sequenceNumber);
    const bool isKeepAlive = message.notificationData.empty();
    if (isKeepAlive) continue;
    bool isStatus = false;
    for (const auto& data : message.notificationData) isStatus |= data.is<StatusChangeNotification>();
    if (!isStatus && message.sequenceNumber < nextSequence_) continue;  // had already
    deliver(message);
    if (isStatus) continue;
    nextSequence_ = message.sequenceNumber == UINT32_MAX ? 1 : message.sequenceNumber + 1;
  }
  isHandingOut_ = false;
}

/// Asks for the messages before `until` that have not come.
Awaitable<void> Subscription::fetchMissing(std::uint32_t until) {
  if (until - nextSequence_ > kMostMissing) {
    gap("the server counts its messages anew");
    nextSequence_ = until;
  }
  std::uint32_t lost = 0;
  for (; nextSequence_ < until && session_->isOpen(); ++nextSequence_) {
    RepublishRequest request;
    request.subscriptionId = id_;
    request.retransmitSequenceNumber = nextSequence_;
    auto response = co_await session_->request(std::move(request));
    if (response)
      deliver(response->notificationMessage);
    else
      ++lost;
  }
  if (lost) gap(fmt::format("{} messages are lost: the server no longer had them", lost));
}

void Subscription::deliver(const NotificationMessage& message) {
  for (const auto& data : message.notificationData) {
    if (!data.is<StatusChangeNotification>()) madeAnew_ = 0;
    if (auto changes = data.as<DataChangeNotification>()) {
      for (const auto& item : changes->monitoredItems)
        if (handlers_.change) handlers_.change(item.clientHandle, item.value);
    } else if (auto events = data.as<EventNotificationList>()) {
      for (const auto& event : events->events)
        if (handlers_.event) handlers_.event(event.clientHandle, event.eventFields);
    } else if (auto status = data.as<StatusChangeNotification>()) {
      if (status->status == status::BadTimeout && session_->options().reconnects) {
        makeAnew("the subscription had timed out on the server");
      } else if (status->status == status::GoodSubscriptionTransferred) {
        fail({status->status, "another client has taken the subscription over", {}});
      } else {
        fail({status->status, "the server ended the subscription", {}});
      }
      return;  // carries no number of its own to acknowledge
    }
  }
  toAcknowledge_.push_back(message.sequenceNumber);
}

void Subscription::fail(const Error& why) {
  isActive_ = false;
  if (auto failed = std::exchange(handlers_.failed, {})) failed(why);
}

void Subscription::gap(const std::string& why) {
  if (handlers_.gap) handlers_.gap(why);
}

/// The server has forgotten the subscription: a new one with the same items, under new ids of the server.
Awaitable<Result<void>> Subscription::createAgain(const std::string& why) {
  const auto self = shared_from_this();
  if (auto created = co_await createOnServer(); !created) co_return created.error();
  renumbered_.clear();
  for (const auto timestamps : {TimestampsToReturn::Source, TimestampsToReturn::Server, TimestampsToReturn::Both,
                                TimestampsToReturn::Neither}) {
    CreateMonitoredItemsRequest request;
    request.subscriptionId = id_;
    request.timestampsToReturn = timestamps;
    std::vector<std::uint32_t> ids;
    for (const auto& [itemId, item] : items_)
      if (item.timestamps == timestamps) {
        request.itemsToCreate.push_back(item.asked);
        ids.push_back(itemId);
      }
    if (ids.empty()) continue;
    auto response = co_await session_->request(std::move(request));
    if (!response) co_return response.error();
    for (std::size_t i = 0; i < std::min(ids.size(), response->results.size()); ++i)
      renumbered_[ids[i]] = response->results[i].monitoredItemId;
  }
  for (const auto& [itemId, item] : items_) {
    if (item.triggers.empty()) continue;
    SetTriggeringRequest request;
    request.subscriptionId = id_;
    request.triggeringItemId = serverIdOf(itemId);
    for (auto linked : item.triggers) request.linksToAdd.push_back(serverIdOf(linked));
    (void)co_await session_->request(std::move(request));
  }
  // Now that it has its items again: who hears of the gap may want to make up for it.
  gap(why + ", and was made anew: what happened meanwhile is not known");
  startPublishing();
  co_return Result<void>{};
}

Awaitable<Result<void>> Subscription::restored(bool sameSession) {
  const auto self = shared_from_this();
  if (!sameSession) {
    TransferSubscriptionsRequest request;
    request.subscriptionIds.push_back(id_);
    request.requestHeader.authenticationToken = session_->token_;
    auto response = co_await session_->connection_->request(std::move(request), session_->options().timeout);
    const bool isTaken = response && response->results.size() == 1 && !response->results[0].statusCode.isBad();
    if (!isTaken) {
      // Its requests wait until the session is declared ready.
      makeAnew("the server no longer had the subscription");
      co_return Result<void>{};
    }
  }
  // Publish requests wait for the session and go on by themselves; what was sent to the lost connection shows by its
  // number.
  co_return Result<void>{};
}

}  // namespace zunth::client
