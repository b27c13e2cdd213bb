#include "service/client/session.hpp"

#include "core/ua/generated/node_ids.hpp"

#include <array>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <openssl/rand.h>

namespace zunth::client {

using namespace ua;

namespace {

ByteString nonce() {
  std::array<std::byte, 32> octets{};
  RAND_bytes(reinterpret_cast<unsigned char*>(octets.data()), octets.size());
  return ByteString(octets);
}

/// The cause that the server gave for an operation, when it gave one.
std::string causeOf(const List<DiagnosticInfo>& infos, std::size_t operation) {
  return operation < infos.size() && infos[operation].additionalInfo ? infos[operation].additionalInfo->str()
                                                                     : std::string();
}

}  // namespace

Awaitable<Result<std::shared_ptr<Session>>> Session::open(std::string url, Options options) {
  auto connection = co_await Connection::open(url, options.timeout);
  if (!connection) co_return connection.error();
  std::shared_ptr<Session> self(new Session(*connection, std::move(options)));

  CreateSessionRequest create;
  create.clientDescription.applicationUri = "urn:zunth:client";
  create.clientDescription.productUri = "urn:zunth";
  create.clientDescription.applicationName = LocalizedText("Zunth");
  create.clientDescription.applicationType = ApplicationType::Client;
  create.endpointUrl = String(url);
  create.sessionName = String(self->options_.name);
  create.clientNonce = nonce();
  create.requestedSessionTimeout = self->options_.sessionTimeout;
  auto created = co_await self->connection_->request(std::move(create), self->options_.timeout);
  if (!created) co_return created.error();
  self->token_ = created->authenticationToken;

  ActivateSessionRequest activate;
  AnonymousIdentityToken identity;
  identity.policyId = "anonymous";
  for (const auto& endpoint : created->serverEndpoints)
    for (const auto& policy : endpoint.userIdentityTokens)
      if (endpoint.securityMode == MessageSecurityMode::None && policy.tokenType == UserTokenType::Anonymous)
        identity.policyId = policy.policyId;
  activate.userIdentityToken = ExtensionObject::of(identity);
  auto activated = co_await self->request(std::move(activate));
  if (!activated) co_return activated.error();
  self->isOpen_ = true;
  co_return self;
}

Awaitable<void> Session::close() {
  const auto self = shared_from_this();
  if (std::exchange(isOpen_, false) && connection_->isOpen()) {
    CloseSessionRequest request;
    request.deleteSubscriptions = true;
    request.requestHeader.authenticationToken = token_;
    (void)co_await connection_->request(std::move(request), std::chrono::seconds(2));
  }
  connection_->close();
}

Awaitable<Result<List<DataValue>>> Session::read(std::vector<ReadValueId> what, TimestampsToReturn timestamps) {
  ReadRequest request;
  request.timestampsToReturn = timestamps;
  const std::size_t count = what.size();
  request.nodesToRead = std::move(what);
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  if (response->results.size() != count)
    co_return Error{status::BadUnknownResponse, "the server gave a different number of values than asked for", {}};
  co_return std::move(response->results);
}

Awaitable<Result<List<DataValue>>> Session::readAttributes(NodeId node, std::vector<AttributeId> attributes) {
  std::vector<ReadValueId> what;
  for (auto attribute : attributes) what.push_back({node, static_cast<std::uint32_t>(attribute), {}, {}});
  return read(std::move(what));
}

Awaitable<Result<Session::WriteOutcome>> Session::write(NodeId node, Variant value) {
  WriteRequest request;
  request.nodesToWrite.push_back(
      {std::move(node), static_cast<std::uint32_t>(AttributeId::Value), {}, DataValue(std::move(value))});
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  if (response->results.size() != 1)
    co_return Error{status::BadUnknownResponse, "the server did not say what came of the write", {}};
  co_return WriteOutcome{{response->results[0], causeOf(response->diagnosticInfos, 0), {}}};
}

Awaitable<Result<Session::CallOutcome>> Session::call(NodeId object, NodeId method, std::vector<Variant> inputs) {
  CallRequest request;
  request.methodsToCall.push_back({std::move(object), std::move(method), List<Variant>(std::move(inputs))});
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  if (response->results.size() != 1)
    co_return Error{status::BadUnknownResponse, "the server did not say what came of the call", {}};
  auto& result = response->results[0];
  co_return CallOutcome{{result.statusCode, causeOf(response->diagnosticInfos, 0), {}},
                        std::move(result.outputArguments)};
}

Awaitable<Result<std::vector<BrowseResult>>> Session::browse(std::vector<BrowseDescription> what) {
  std::vector<BrowseResult> results;
  constexpr std::size_t kPerRequest = 500;
  for (std::size_t from = 0; from < what.size(); from += kPerRequest) {
    BrowseRequest request;
    const std::size_t to = std::min(what.size(), from + kPerRequest);
    for (std::size_t i = from; i < to; ++i) request.nodesToBrowse.push_back(std::move(what[i]));
    auto response = co_await this->request(std::move(request));
    if (!response) co_return response.error();
    if (response->results.size() != to - from)
      co_return Error{status::BadUnknownResponse, "the server gave a different number of results than asked for", {}};
    for (auto& result : response->results) {
      while (!result.continuationPoint.empty()) {
        BrowseNextRequest next;
        next.continuationPoints.push_back(result.continuationPoint);
        auto more = co_await this->request(std::move(next));
        if (!more) co_return more.error();
        if (more->results.size() != 1) co_return Error{status::BadUnknownResponse, "the server broke a browse off", {}};
        auto& rest = more->results[0];
        for (auto& reference : rest.references) result.references.push_back(std::move(reference));
        result.continuationPoint = rest.continuationPoint;
        result.statusCode = rest.statusCode;
      }
      results.push_back(std::move(result));
    }
  }
  co_return results;
}

Awaitable<Result<List<ReferenceDescription>>> Session::browse(BrowseDescription what) {
  std::vector<BrowseDescription> one;
  one.push_back(std::move(what));
  auto results = co_await browse(std::move(one));
  if (!results) co_return results.error();
  if (results->front().statusCode.isBad()) co_return Error{results->front().statusCode, {}, {}};
  co_return std::move(results->front().references);
}

Awaitable<Result<std::vector<std::string>>> Session::namespaces() {
  auto values =
      co_await readAttributes(NodeId(id::Server_NamespaceArray), std::vector<AttributeId>(1, AttributeId::Value));
  if (!values) co_return values.error();
  std::vector<std::string> out;
  for (const auto& uri : values->front().value.items<String>()) out.push_back(uri.str());
  co_return out;
}

Awaitable<Result<std::shared_ptr<Subscription>>> Subscription::create(std::shared_ptr<Session> session, double interval,
                                                                      OnChange onChange) {
  std::shared_ptr<Subscription> self(new Subscription(session, std::move(onChange)));
  CreateSubscriptionRequest request;
  request.requestedPublishingInterval = interval;
  request.requestedMaxKeepAliveCount = self->keepAliveCount_;
  request.requestedLifetimeCount = 10 * self->keepAliveCount_;
  request.publishingEnabled = true;
  auto created = co_await session->request(std::move(request));
  if (!created) co_return created.error();
  self->id_ = created->subscriptionId;
  self->interval_ = created->revisedPublishingInterval;
  self->keepAliveCount_ = created->revisedMaxKeepAliveCount;
  for (int i = 0; i < kPublishesUnderWay; ++i)
    asio::co_spawn(co_await asio::this_coro::executor, self->keepPublishing(), asio::detached);
  co_return self;
}

Awaitable<Result<List<MonitoredItemCreateResult>>> Subscription::add(std::vector<MonitoredItemCreateRequest> items) {
  List<MonitoredItemCreateResult> results;
  constexpr std::size_t kPerRequest = 10'000;
  for (std::size_t from = 0; from < items.size(); from += kPerRequest) {
    CreateMonitoredItemsRequest request;
    request.subscriptionId = id_;
    request.timestampsToReturn = TimestampsToReturn::Both;
    for (std::size_t i = from; i < std::min(items.size(), from + kPerRequest); ++i)
      request.itemsToCreate.push_back(std::move(items[i]));
    auto response = co_await session_->request(std::move(request));
    if (!response) co_return response.error();
    for (auto& result : response->results) results.push_back(std::move(result));
  }
  co_return results;
}

Awaitable<void> Subscription::close() {
  const auto self = shared_from_this();
  onChange_ = {};
  failed_ = {};
  DeleteSubscriptionsRequest request;
  request.subscriptionIds.push_back(id_);
  (void)co_await session_->request(std::move(request));
}

Awaitable<void> Subscription::keepPublishing() {
  const auto self = shared_from_this();
  while (session_->connection()->isOpen()) {
    PublishRequest request;
    for (auto number : std::exchange(toAcknowledge_, {})) request.subscriptionAcknowledgements.push_back({id_, number});
    request.requestHeader.authenticationToken = session_->token();
    // Wait for several keep-alive times of silence before the server counts as gone.
    const auto patience =
        session_->options().timeout + milliseconds(interval_ * keepAliveCount_ * (kPublishesUnderWay + 1));
    auto response = co_await session_->connection()->request(std::move(request), patience);
    if (!response) {
      // One request too many, or the subscription was deleted: nothing is lost.
      if (response.code() == status::BadTooManyPublishRequests ||
          (response.code() == status::BadNoSubscription && !onChange_))
        co_return;
      if (auto failed = std::exchange(failed_, {})) failed(response.error());
      co_return;
    }
    const auto& message = response->notificationMessage;
    if (!message.notificationData.empty()) toAcknowledge_.push_back(message.sequenceNumber);
    for (const auto& data : message.notificationData)
      if (auto changes = data.as<DataChangeNotification>())
        for (const auto& item : changes->monitoredItems)
          if (onChange_) onChange_(item.clientHandle, item.value);
  }
}

}  // namespace zunth::client
