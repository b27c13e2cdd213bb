#include "service/client/session.hpp"

#include "core/secure/asymmetric.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "service/client/subscription.hpp"
#include "service/net/url.hpp"

#include <boost/asio/as_tuple.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/this_coro.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

namespace {

/// The cause that the server gave for an operation, when it gave one.
std::string causeOf(const List<DiagnosticInfo>& infos, std::size_t operation) {
  return operation < infos.size() && infos[operation].additionalInfo ? infos[operation].additionalInfo->str()
                                                                     : std::string();
}

/// Counts what comes page by page: a server that never comes to an end is at fault.
class Pages {
 public:
  Result<void> add(std::size_t results) {
    constexpr std::size_t kMostResults = 10'000'000, kMostEmpty = 1'000;
    results_ += results;
    empty_ = results == 0 ? empty_ + 1 : 0;
    if (results_ <= kMostResults && empty_ <= kMostEmpty) return {};
    return Error{status::BadUnknownResponse, "the server's answer goes on for ever", {}};
  }

 private:
  std::size_t results_ = 0, empty_ = 0;
};

/// What came of a request with one operation: the operation's own failure is an error.
template <class Response, class Take>
auto single(Result<Response> response, Take take) -> Result<std::decay_t<decltype(take(response->results[0]))>> {
  if (!response) return response.error();
  if (response->results.size() != 1)
    return Error{status::BadUnknownResponse, "the server did not say what came of it", {}};
  auto& result = response->results[0];
  const StatusCode code = [&] {
    if constexpr (std::is_same_v<std::decay_t<decltype(result)>, StatusCode>)
      return result;
    else
      return result.statusCode;
  }();
  if (code.isBad()) return Error{code, causeOf(response->diagnosticInfos, 0), {}};
  return take(result);
}
template <class Response>
Result<void> outcomeOf(Result<Response> response) {
  auto result = single(std::move(response), [](StatusCode) { return true; });
  return result ? Result<void>() : Result<void>(result.error());
}

/// Whether a server takes this user no longer.
bool isRefusedUser(StatusCode code) {
  return code == status::BadUserAccessDenied || code == status::BadIdentityTokenRejected ||
         code == status::BadIdentityTokenInvalid;
}

/// Whether a refusal means that nothing was done as there was too much of it.
bool isTooMuch(StatusCode code) {
  return code == status::BadTooManyOperations || code == status::BadRequestTooLarge ||
         code == status::BadEncodingLimitsExceeded || code == status::BadTcpMessageTooLarge;
}

}  // namespace

Session::Session(std::string url, Options options, asio::any_io_executor executor)
    : url_(std::move(url)),
      options_(std::move(options)),
      executor_(executor),
      restored_(std::make_shared<asio::steady_timer>(executor)),
      beat_(std::make_shared<asio::steady_timer>(executor)) {}

Session::~Session() { beat_->cancel(); }

Awaitable<Result<std::shared_ptr<Session>>> Session::open(std::string url, Options options) {
  const auto executor = co_await asio::this_coro::executor;
  std::shared_ptr<Session> self(new Session(std::move(url), std::move(options), executor));
  const auto tell = [&self](Step step) {
    if (self->options_.progress) self->options_.progress(step);
  };
  if (auto connected = co_await self->connect(); !connected) co_return connected.error();
  tell(Step::Channel);
  if (auto created = co_await self->create(); !created) co_return created.error();
  tell(Step::Created);
  if (auto activated = co_await self->activate(); !activated) co_return activated.error();
  tell(Step::Activated);
  self->isOpen_ = true;
  asio::co_spawn(executor, keepAlive(self, self->beat_), asio::detached);
  co_return self;
}

Awaitable<Result<void>> Session::connect() {
  if (options_.reach) {
    auto carrier = co_await options_.reach();
    if (!carrier) co_return carrier.error();
    choice_ = ChannelSecurityChoice();
    connection_ = std::move(*carrier);
    watchConnection();
    co_return Result<void>{};
  }
  if (!choice_) {
    auto chosen = co_await chooseSecurity();
    if (!chosen) co_return chosen.error();
    choice_ = std::move(*chosen);
  }
  auto connection = co_await Connection::open(url_, options_.timeout, *choice_);
  if (!connection) {
    // The server may have got a new certificate: look again the next time.
    if (connection.code() == status::BadSecurityChecksFailed) choice_.reset();
    co_return connection.error();
  }
  connection_ = *connection;
  watchConnection();
  co_return Result<void>{};
}

void Session::watchConnection() {
  connection_->onLost([weak = weak_from_this()](const Error& why) {
    if (auto self = weak.lock()) self->lost(why);
  });
}

/// Asks for the endpoints, takes the best that fits, and makes sure whom it belongs to.
Awaitable<Result<ChannelSecurityChoice>> Session::chooseSecurity() {
  const auto& wish = options_.security;
  ChannelSecurityChoice choice = unsecured(wish, url_);
  if (wish.wish == Security::Wish::None) co_return choice;
  auto connection = co_await Connection::open(url_, options_.timeout, choice);
  if (!connection) co_return connection.error();
  const std::string endpointUrl = (*connection)->endpointUrl();
  auto parsed = net::Url::parse(endpointUrl);
  if (!parsed) co_return parsed.error();
  GetEndpointsRequest request;
  request.endpointUrl = String(endpointUrl);
  auto response = co_await (*connection)->request(std::move(request), options_.timeout);
  const bool isOnThisMachine = (*connection)->isOnThisMachine();
  (*connection)->close();
  if (!response) co_return response.error();
  auto endpoint = chooseEndpoint(response->endpoints, wish, *parsed, isOnThisMachine);
  if (!endpoint) co_return endpoint.error();
  choice.offered = std::move(response->endpoints);
  choice.policy = secure::policyOf(endpoint->securityPolicyUri.view());
  choice.mode = endpoint->securityMode;
  if (!choice.policy) co_return choice;
  if (!wish.identity || !wish.trust)
    co_return Error{
        status::BadSecurityModeRejected, "this client has no certificate to open a secured connection with", {}};
  if (auto trusted = wish.trust(endpoint->serverCertificate, parsed->host, endpoint->server.applicationUri.str());
      !trusted)
    co_return trusted.error();
  auto certificate = secure::Certificate::fromDer(endpoint->serverCertificate);
  if (!certificate) co_return certificate.error();
  if (certificate->keyKind() != choice.policy->key)
    co_return Error{status::BadCertificatePolicyCheckFailed,
                    fmt::format("{} takes {} keys, the server's is {}", choice.policy->name, nameOf(choice.policy->key),
                                nameOf(certificate->keyKind())),
                    "zunth endpoints"};
  if (endpoint->server.applicationUri.empty() && !certificate->applicationUri().empty())
    co_return Error{status::BadCertificateUriInvalid, "the server doesn't say which application it is", {}};
  auto identity = wish.identity(choice.policy->key);
  if (!identity) co_return identity.error();
  choice.server = std::move(*certificate);
  choice.identity = std::move(*identity);
  co_return choice;
}

Awaitable<Result<void>> Session::create() {
  CreateSessionRequest request;
  request.clientDescription.applicationUri =
      choice_->identity ? String(choice_->identity->certificate.applicationUri()) : String("urn:zunth:client");
  request.clientDescription.productUri = "urn:zunth";
  request.clientDescription.applicationName = LocalizedText("Zunth");
  request.clientDescription.applicationType = ApplicationType::Client;
  request.endpointUrl = String(connection_->endpointUrl());
  request.sessionName = String(options_.name);
  request.clientNonce = randomOctets(32);
  if (choice_->policy) request.clientCertificate = choice_->identity->chain();
  const ByteString signedByServer = request.clientNonce;
  request.requestedSessionTimeout = options_.sessionTimeout;
  auto created = co_await connection_->request(std::move(request), options_.timeout);
  if (!created) co_return created.error();
  if (choice_->policy) {
    const auto& signature = created->serverSignature.signature;
    const auto fits = [&](const ByteString& own) {
      return secure::verify(*choice_->policy, *choice_->server, secure::sessionProof(own, signedByServer),
                            secure::view(signature));
    };
    // Part 4, 5.6.2: over the certificate without its issuers; some servers sign what they were sent.
    if (!fits(choice_->identity->certificate.der()) && !fits(choice_->identity->chain()))
      co_return Error{
          status::BadApplicationSignatureInvalid, "the server's signature does not fit its certificate", {}};
  }
  if (choice_->policy) {
    const auto shown = secure::Certificate::fromDer(created->serverCertificate);
    if (!shown || !(*shown == *choice_->server))
      co_return Error{status::BadSecurityChecksFailed,
                      "the server showed another certificate to the session than to the channel",
                      {}};
    if (created->serverNonce.size() < 32)
      co_return Error{status::BadNonceInvalid, "the server's nonce has fewer than 32 octets", {}};
    if (const auto parsed = net::Url::parse(connection_->endpointUrl()))
      if (auto fine = checkOffered(created->serverEndpoints, *choice_, options_.security, *parsed); !fine)
        co_return fine.error();
  }
  if (created->serverNonce.size() > 1024)
    co_return Error{status::BadNonceInvalid, "the server's nonce has more than 1024 octets", {}};
  serverNonce_ = created->serverNonce;
  token_ = created->authenticationToken;
  sessionId_ = created->sessionId;
  grantedTimeout_ = milliseconds(created->revisedSessionTimeout);
  lastAsked_ = std::chrono::steady_clock::now();
  serverCertificate_ = created->serverCertificate;
  userPolicies_.clear();
  const std::string_view policyUri = choice_->policy ? choice_->policy->uri : channel::kPolicyNone;
  for (const auto& endpoint : created->serverEndpoints)
    if (endpoint.securityMode == choice_->mode && endpoint.securityPolicyUri.view() == policyUri)
      userPolicies_ = endpoint.userIdentityTokens;
  if (options_.reach && userPolicies_.empty()) takeUserPolicies(created->serverEndpoints);
  co_return Result<void>{};
}

/// By a way of its own, which no endpoint is about: whom the server takes by any, it takes here.
void Session::takeUserPolicies(const List<EndpointDescription>& endpoints) {
  const std::string_view policyUri = secure::policyNamed("Basic256Sha256")->uri;
  for (const auto& endpoint : endpoints) {
    if (endpoint.securityPolicyUri.view() != policyUri) continue;
    userPolicies_ = endpoint.userIdentityTokens;
    for (auto& offered : userPolicies_)
      if (offered.securityPolicyUri.empty()) offered.securityPolicyUri = String(policyUri);
    return;
  }
}

UserTokenType Session::userKind() const {
  if (!options_.token.empty()) return UserTokenType::IssuedToken;
  if (options_.userIdentity) return UserTokenType::Certificate;
  return options_.user.empty() ? UserTokenType::Anonymous : UserTokenType::UserName;
}

const secure::Policy* Session::policyOf(const UserTokenPolicy& offered) const {
  return offered.securityPolicyUri.empty() ? choice_->policy : secure::policyOf(offered.securityPolicyUri.view());
}

/// What the endpoint takes of this kind of user; null for nothing. A certificate's key must be one of the policy's.
const UserTokenPolicy* Session::offeredToken() const {
  const auto fits = [&](const UserTokenPolicy& offered) {
    if (offered.tokenType != userKind()) return false;
    if (offered.tokenType != UserTokenType::Certificate) return true;
    const auto* policy = policyOf(offered);
    return policy && policy->key == options_.userIdentity->certificate.keyKind();
  };
  const auto found = std::ranges::find_if(userPolicies_, fits);
  return found == userPolicies_.end() ? nullptr : &*found;
}

Result<const secure::Policy*> Session::tokenPolicy(const UserTokenPolicy* offered) const {
  static const char* const kinds[] = {"anonymous users", "user names", "user certificates", "issued tokens"};
  if (!offered) {
    const bool isOnlySigned = choice_->policy && choice_->policy->usesCurves() &&
                              choice_->mode == MessageSecurityMode::Sign && userKind() != UserTokenType::Certificate;
    return Error{
        status::BadIdentityTokenRejected,
        std::string("the server takes no ") + kinds[static_cast<int>(userKind())] + " on this kind of connection",
        isOnlySigned ? "the same with --security encrypt" : "zunth endpoints"};
  }
  const auto* policy = policyOf(*offered);
  if (!policy || serverCertificate_.empty())
    return Error{status::BadIdentityTokenRejected,
                 "what identifies the user can't be protected for this server: it is not sent",
                 "the same with --security encrypt"};
  // On an unsecured channel nothing has yet shown whose certificate it is.
  if (!choice_->policy && !options_.reach) {
    auto parsed = net::Url::parse(connection_->endpointUrl());
    if (!options_.security.trust || !parsed)
      return Error{
          status::BadIdentityTokenRejected, "the server is not known: what identifies the user is not sent", {}};
    if (auto trusted = options_.security.trust(serverCertificate_, parsed->host, {}); !trusted) return trusted.error();
  }
  return policy;
}

/// Who the user is, as the endpoint wants it said; a password or token encrypted for the server alone.
Result<ExtensionObject> Session::identityToken() const {
  const UserTokenPolicy* offered = offeredToken();
  if (userKind() == UserTokenType::Anonymous) {
    AnonymousIdentityToken token;
    token.policyId = offered ? offered->policyId : String("anonymous");
    return ExtensionObject::of(token);
  }
  const bool isIssued = userKind() == UserTokenType::IssuedToken;
  const std::string& text = isIssued ? options_.token : options_.password;
  // Where the channel encrypts, a server may leave it at that.
  if (offered && offered->securityPolicyUri.view() == channel::kPolicyNone &&
      choice_->mode == MessageSecurityMode::SignAndEncrypt && userKind() != UserTokenType::Certificate) {
    const ByteString plain(text.data(), text.size());
    if (isIssued) return ExtensionObject::of(IssuedIdentityToken{offered->policyId, plain, {}});
    return ExtensionObject::of(UserNameIdentityToken{offered->policyId, String(options_.user), plain, {}});
  }
  auto policy = tokenPolicy(offered);
  if (!policy) return policy.error();
  if (userKind() == UserTokenType::Certificate) {
    X509IdentityToken token;
    token.policyId = offered->policyId;
    token.certificateData = options_.userIdentity->certificate.der();
    return ExtensionObject::of(token);
  }
  auto certificate = secure::Certificate::fromDer(serverCertificate_);
  if (!certificate) return certificate.error();
  // Keys on curves can't encrypt, whatever the server asks for.
  if ((*policy)->key != secure::KeyKind::Rsa || certificate->keyKind() != secure::KeyKind::Rsa)
    return Error{status::BadIdentityTokenRejected,
                 "what identifies the user can't be encrypted for this server's key: it is not sent",
                 "the same with --security encrypt"};
  Bytes secret;
  BinaryWriter writer(secret);
  writer.write(static_cast<std::uint32_t>(text.size() + serverNonce_.size()));
  writer.raw(std::as_bytes(std::span(text)));
  writer.raw(secure::view(serverNonce_));
  const Bytes sealed = secure::encryptText(**policy, *certificate, secret);
  const ByteString encrypted(sealed.data(), sealed.size());
  const String algorithm((*policy)->encryptionUri);
  if (isIssued) return ExtensionObject::of(IssuedIdentityToken{offered->policyId, encrypted, algorithm});
  return ExtensionObject::of(UserNameIdentityToken{offered->policyId, String(options_.user), encrypted, algorithm});
}

Awaitable<Result<void>> Session::activate() {
  ActivateSessionRequest request;
  auto token = identityToken();
  if (!token) co_return token.error();
  request.userIdentityToken = *token;
  request.requestHeader.authenticationToken = token_;
  if (choice_->policy)
    request.clientSignature = {String(choice_->policy->signatureUri),
                               secure::sign(*choice_->policy, choice_->identity->key,
                                            secure::sessionProof(choice_->server->der(), serverNonce_))};
  if (userKind() == UserTokenType::Certificate) {
    auto policy = tokenPolicy(offeredToken());
    if (!policy) co_return policy.error();
    auto server = secure::Certificate::fromDer(serverCertificate_);
    if (!server) co_return server.error();
    request.userTokenSignature = {
        String((*policy)->signatureUri),
        secure::sign(**policy, options_.userIdentity->key, secure::sessionProof(server->der(), serverNonce_))};
  }
  auto activated = co_await connection_->request(std::move(request), options_.timeout);
  if (!activated) co_return activated.error();
  // A server may answer and end the connection at once.
  if (!connection_->isOpen())
    co_return Error{status::BadConnectionClosed, "the server ended the connection as the session was activated", {}};
  serverNonce_ = activated->serverNonce;
  co_return Result<void>{};
}

void Session::lost(const Error& why) {
  if (!isOpen_) return;
  if (told_) told_(why);
  if (!options_.reconnects || isRestoring_) return;
  isRestoring_ = true;
  asio::co_spawn(executor_, restore(), asio::detached);
}

bool Session::isForgotten(StatusCode code) {
  return code == status::BadSessionIdInvalid || code == status::BadSessionClosed;
}

void Session::silent(Carrier& carrier) {
  if (carrier.isOpen()) carrier.abandon({status::BadTimeout, "the server has fallen silent", {}});
}

void Session::forgotten(Carrier& carrier) {
  // With a connection of its own, so that what is under way over the old one ends, too.
  if (!carrier.isOpen()) return;
  ++forgotten_;
  carrier.abandon({status::BadSessionClosed, "the server has ended the session", {}});
}

Awaitable<void> Session::pause(Duration time) {
  asio::steady_timer timer(executor_, time);
  co_await timer.async_wait(net::kQuietly);
}

Awaitable<void> Session::restore() {
  const auto self = shared_from_this();
  Duration wait = options_.firstRetry;
  // A server that ends each session that it makes is not asked again at once.
  for (int i = 1; i < forgotten_ && wait < options_.mostRetry; ++i) wait *= 2;
  if (forgotten_ > 1) co_await pause(std::min(wait, options_.mostRetry));
  while (isOpen_) {
    const Error outcome = co_await restoreOnce();
    if (!outcome.code.isBad()) {
      if (told_) told_(outcome);
      break;
    }
    if (isRefusedUser(outcome.code)) {
      // Asking again would only look like guessing at a password.
      isOpen_ = false;
      beat_->cancel();
      std::vector<std::shared_ptr<Subscription>> subscriptions;
      for (auto* subscription : subscriptions_) subscriptions.push_back(subscription->shared_from_this());
      for (const auto& subscription : subscriptions) subscription->fail(outcome);
      break;
    }
    co_await pause(wait);
    wait = std::min(wait * 2, options_.mostRetry);
  }
  isRestoring_ = false;
  restored_->cancel();
}

/// Between two requests of a slow subscription an hour may pass; the session must not end meanwhile.
Awaitable<void> Session::keepAlive(std::weak_ptr<Session> weak, std::shared_ptr<asio::steady_timer> beat) {
  constexpr Duration kLeast = std::chrono::milliseconds(50);
  for (;;) {
    {
      const auto self = weak.lock();
      if (!self || !self->isOpen_) co_return;
      const Duration third = std::max(self->grantedTimeout_ / 3, kLeast);
      if (!self->isRestoring_ && std::chrono::steady_clock::now() - self->lastAsked_ >= third) {
        const auto carrier = self->connection_;
        const auto state = co_await self->readAttributes(NodeId(id::Server_ServerStatus_State),
                                                         std::vector<AttributeId>(1, AttributeId::Value));
        if (state.code() == status::BadTimeout && self->isOpen_) self->silent(*carrier);
      }
      beat->expires_at(std::max(self->lastAsked_ + third, std::chrono::steady_clock::now() + kLeast));
    }
    co_await beat->async_wait(net::kQuietly);
  }
}

/// Connects, takes the session up again or makes a new one, and gives its subscriptions their due. Good and what
/// survived, or why not yet.
Awaitable<Error> Session::restoreOnce() {
  if (auto connected = co_await connect(); !connected) co_return connected.error();
  bool sameSession = true;
  if (auto activated = co_await activate(); !activated) {
    sameSession = false;
    if (auto created = co_await create(); !created) co_return created.error();
    if (activated = co_await activate(); !activated) co_return activated.error();
  }
  // A copy: subscriptions may end meanwhile.
  std::vector<std::weak_ptr<Subscription>> subscriptions;
  for (auto* subscription : subscriptions_) subscriptions.push_back(subscription->weak_from_this());
  for (const auto& weak : subscriptions)
    if (const auto subscription = weak.lock())
      if (auto fine = co_await subscription->restored(sameSession); !fine) co_return fine.error();
  if (!connection_->isOpen()) co_return Error{status::BadConnectionClosed, "the connection was lost again", {}};
  co_return Error{
      status::Good,
      sameSession ? "the connection is back, the session goes on" : "the connection is back in a new session",
      {}};
}

void Session::hand(PublishResponse response) {
  for (auto* subscription : subscriptions_)
    if (subscription->isActive_ && subscription->id_ == response.subscriptionId) {
      const auto keep = subscription->shared_from_this();
      return subscription->arrived(std::move(response.notificationMessage));
    }
}

/// Waits while the connection is being restored.
Awaitable<Result<void>> Session::isReady() {
  if (!isRestoring_) co_return Result<void>{};
  const Instant deadline = std::chrono::steady_clock::now() + options_.timeout;
  const auto timer = restored_;
  while (isRestoring_ && isOpen_ && std::chrono::steady_clock::now() < deadline) {
    timer->expires_at(deadline);
    co_await timer->async_wait(net::kQuietly);
  }
  if (isRestoring_)
    co_return Error{
        status::BadConnectionClosed, "the connection to " + url_ + " is lost and has not come back yet", {}};
  co_return Result<void>{};
}

Awaitable<Result<void>> Session::performOnce(Exchange& exchange, Duration timeout) {
  const auto self = shared_from_this();
  for (int attempt = 1;; ++attempt) {
    if (auto ready = co_await isReady(); !ready) co_return ready.error();
    exchange.header().authenticationToken = token_;
    const auto carrier = connection_;
    lastAsked_ = std::chrono::steady_clock::now();
    auto outcome = co_await carrier->perform(exchange, timeout);
    if (outcome) forgotten_ = 0;
    if (outcome || !isForgotten(outcome.code()) || !isOpen_ || !options_.reconnects) co_return outcome;
    forgotten(*carrier);
    // A session that the server doesn't know can have done nothing: once more in the new one. One that was closed
    // meanwhile may have.
    if (attempt > 1 || outcome.code() != status::BadSessionIdInvalid) co_return outcome;
  }
}

/// What has more operations than the server takes at once is done in parts.
Awaitable<Result<void>> Session::perform(Exchange& exchange, Duration timeout) {
  const auto self = shared_from_this();
  const std::size_t all = exchange.operations();
  if (all <= 1) co_return co_await performOnce(exchange, timeout);
  std::size_t most = mostAtOnce_;
  for (std::size_t done = 0; done < all;) {
    const std::size_t count = std::min(all - done, most);
    exchange.narrow(done, count);
    const auto fine = co_await performOnce(exchange, timeout);
    const bool isTooMuchToTell = exchange.onlyLooks() && fine.code() == status::BadResponseTooLarge;
    if (!fine && count > 1 && (isTooMuch(fine.code()) || isTooMuchToTell)) {
      most = (count + 1) / 2;
      if (fine.code() == status::BadTooManyOperations) mostAtOnce_ = most;
      continue;
    }
    if (!fine) co_return fine.error();
    if (!exchange.keep(count))
      co_return Error{status::BadUnknownResponse, "the server gave a different number of results than asked for", {}};
    done += count;
  }
  exchange.finish();
  co_return Result<void>{};
}

Awaitable<void> Session::close(bool keepSubscriptions) {
  const auto self = shared_from_this();
  if (std::exchange(isOpen_, false) && connection_->isOpen()) {
    CloseSessionRequest request;
    request.deleteSubscriptions = !keepSubscriptions;
    request.requestHeader.authenticationToken = token_;
    (void)co_await connection_->request(std::move(request), std::chrono::seconds(2));
  }
  restored_->cancel();
  beat_->cancel();
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
    const auto asked = request.nodesToBrowse;
    auto response = co_await this->request(std::move(request));
    if (!response) co_return response.error();
    if (response->results.size() != to - from)
      co_return Error{status::BadUnknownResponse, "the server gave a different number of results than asked for", {}};
    for (std::size_t i = 0; i < response->results.size(); ++i) {
      auto& result = response->results[i];
      if (result.statusCode == status::BadNoContinuationPoints && response->results.size() > 1) {
        // The server can't keep the rest of so many at once: this one alone, then.
        BrowseRequest again;
        again.nodesToBrowse.push_back(asked[i]);
        auto alone = co_await this->request(std::move(again));
        if (!alone) co_return alone.error();
        if (alone->results.size() == 1) result = std::move(alone->results[0]);
      }
      for (Pages pages; !result.continuationPoint.empty();) {
        BrowseNextRequest next;
        next.continuationPoints.push_back(result.continuationPoint);
        auto more = co_await this->request(std::move(next));
        if (!more) co_return more.error();
        if (more->results.size() != 1) co_return Error{status::BadUnknownResponse, "the server broke a browse off", {}};
        auto& rest = more->results[0];
        if (auto fine = pages.add(rest.references.size()); !fine) co_return fine.error();
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

Awaitable<Result<List<BrowsePathTarget>>> Session::translate(BrowsePath path) {
  TranslateBrowsePathsToNodeIdsRequest request;
  request.browsePaths.push_back(std::move(path));
  co_return single(co_await this->request(std::move(request)), [](BrowsePathResult& result) { return result.targets; });
}

Awaitable<Result<List<NodeId>>> Session::registerNodes(List<NodeId> nodes) {
  RegisterNodesRequest request;
  request.nodesToRegister = std::move(nodes);
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  co_return std::move(response->registeredNodeIds);
}

Awaitable<Result<void>> Session::unregisterNodes(List<NodeId> nodes) {
  UnregisterNodesRequest request;
  request.nodesToUnregister = std::move(nodes);
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  co_return Result<void>{};
}

Awaitable<Result<List<QueryDataSet>>> Session::query(QueryFirstRequest request) {
  auto first = co_await this->request(std::move(request));
  if (!first) co_return first.error();
  for (std::size_t i = 0; i < first->parsingResults.size(); ++i) {
    const auto& parsing = first->parsingResults[i];
    StatusCode code = parsing.statusCode;
    for (auto data : parsing.dataStatusCodes)
      if (data.isBad()) code = data;
    if (code.isBad())
      co_return Error{code, "the server does not take type " + std::to_string(i + 1) + " of the query", {}};
  }
  for (std::size_t i = 0; i < first->filterResult.elementResults.size(); ++i)
    if (const auto& element = first->filterResult.elementResults[i]; element.statusCode.isBad())
      co_return Error{
          element.statusCode, "the server does not take element " + std::to_string(i + 1) + " of the filter", {}};
  List<QueryDataSet> out = std::move(first->queryDataSets);
  ByteString point = first->continuationPoint;
  for (Pages pages; !point.empty();) {
    QueryNextRequest next;
    next.continuationPoint = point;
    auto more = co_await this->request(std::move(next));
    if (!more) co_return more.error();
    if (auto fine = pages.add(more->queryDataSets.size()); !fine) co_return fine.error();
    for (auto& set : more->queryDataSets) out.push_back(std::move(set));
    point = more->revisedContinuationPoint;
  }
  co_return out;
}

Awaitable<Result<NodeId>> Session::addNode(AddNodesItem item) {
  AddNodesRequest request;
  request.nodesToAdd.push_back(std::move(item));
  co_return single(co_await this->request(std::move(request)),
                   [](AddNodesResult& result) { return result.addedNodeId; });
}

Awaitable<Result<void>> Session::deleteNode(NodeId node) {
  DeleteNodesRequest request;
  request.nodesToDelete.push_back({std::move(node), true});
  co_return outcomeOf(co_await this->request(std::move(request)));
}

Awaitable<Result<void>> Session::addReference(AddReferencesItem item) {
  AddReferencesRequest request;
  request.referencesToAdd.push_back(std::move(item));
  co_return outcomeOf(co_await this->request(std::move(request)));
}

Awaitable<Result<void>> Session::deleteReference(DeleteReferencesItem item) {
  DeleteReferencesRequest request;
  request.referencesToDelete.push_back(std::move(item));
  co_return outcomeOf(co_await this->request(std::move(request)));
}

}  // namespace zunth::client
