#include "core/secure/asymmetric.hpp"
#include "service/server/random.hpp"
#include "service/server/server.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::server {

using namespace ua;

namespace {

/// Random, so that it is nobody else's: neither a node of the plant nor a session of an earlier run.
NodeId newSessionId() {
  const std::uint64_t halves[2] = {randomNumber(), randomNumber()};
  Guid guid;
  static_assert(sizeof guid == sizeof halves);
  std::memcpy(&guid, halves, sizeof guid);
  guid.data3 = static_cast<std::uint16_t>((guid.data3 & 0x0FFF) | 0x4000);
  guid.data4[0] = static_cast<std::uint8_t>((guid.data4[0] & 0x3F) | 0x80);
  return NodeId(1, guid);
}

}  // namespace

Result<CreateSessionResponse> Server::createSession(const CreateSessionRequest& request, Context& context) {
  auto response = newSession(request, context);
  if (!response) ++summary_.rejectedSessionCount;
  if (response.code() == status::BadSecurityModeInsufficient) ++summary_.securityRejectedSessionCount;
  announcer_.sessionCreated(context.actor(), request, response.code());
  return response;
}

/// Part 4, 5.6.2.1: sessions that were never activated give way when all are taken. False when there is none.
bool Server::makeRoomForSession() {
  Session* oldest = nullptr;
  for (const auto& [token, session] : sessions_)
    if (!session->isActivated && (!oldest || session->createdAt < oldest->createdAt)) oldest = session.get();
  if (!oldest) return false;
  endSession(*oldest, {status::BadSessionClosed, "the session was not activated, and others wait", {}},
             Subscriptions::Delete);
  return true;
}

Result<CreateSessionResponse> Server::newSession(const CreateSessionRequest& request, Context& context) {
  if (auto fine = isPrivate(*context.peer); !fine) return fine.error();
  if (!request.serverUri.empty() && request.serverUri.view() != settings_.applicationUri)
    return Error{status::BadServerUriInvalid,
                 "this is the server " + settings_.applicationUri + ", not " + request.serverUri.str(),
                 {}};
  if (auto fine = checkClientCertificate(request, context); !fine) return fine.error();
  if (sessions_.size() >= settings_.limits.maxSessions && !makeRoomForSession())
    return Error{
        status::BadTooManySessions, "all " + std::to_string(settings_.limits.maxSessions) + " sessions are taken", {}};
  auto session = std::make_unique<Session>();
  session->sessionId = newSessionId();
  ++lastSessionId_;
  session->token = NodeId(0, randomOctets());
  session->name =
      request.sessionName.empty() ? String("session " + std::to_string(lastSessionId_)) : request.sessionName;
  session->client = request.clientDescription;
  session->endpointUrl = request.endpointUrl;
  session->maxResponseSize = request.maxResponseMessageSize;
  session->timeout = request.requestedSessionTimeout > 0
                         ? std::clamp(request.requestedSessionTimeout, settings_.limits.leastSessionTimeout,
                                      settings_.limits.mostSessionTimeout)
                         : settings_.limits.mostSessionTimeout;
  session->createdAt = session->lastContact = context.now;
  session->diagnostics.clientConnectionTime = session->diagnostics.clientLastContactTime = context.wallClock;
  session->peer = context.peer;
  session->channelId = context.peer->channelId();
  session->security.clientCertificate = request.clientCertificate;

  CreateSessionResponse response;
  response.sessionId = session->sessionId;
  response.authenticationToken = session->token;
  response.revisedSessionTimeout = session->timeout;
  response.serverNonce = session->serverNonce = randomOctets();
  response.serverEndpoints = endpoints(request.endpointUrl);
  if (settings_.identity) response.serverCertificate = settings_.identity->certificate.der();
  if (const auto* policy = context.peer->security().policy()) {
    response.serverSignature.algorithm = String(policy->signatureUri);
    response.serverSignature.signature = secure::sign(
        *policy, settings_.identity->key, secure::sessionProof(request.clientCertificate, request.clientNonce));
  }
  response.maxRequestMessageSize = settings_.maxMessageSize;
  spdlog::info("session '{}' created by {} at {}", session->name.view(), session->client.applicationUri.view(),
               context.peer->address());
  ++summary_.cumulatedSessionCount;
  context.session = session.get();
  sessions_.emplace(session->token, std::move(session));
  if (diagnosticsOn_) showSession(*context.session);
  return response;
}

Result<void> Server::checkClientCertificate(const CreateSessionRequest& request, const Context& context) const {
  const auto& security = context.peer->security();
  if (!security.policy()) return {};
  if (request.clientNonce.size() < 32)
    return Error{status::BadNonceInvalid, "a session needs a nonce of 32 octets or more", {}};
  auto own = secure::Certificate::fromDer(request.clientCertificate);
  auto ofChannel = secure::Certificate::fromDer(security.peerCertificate);
  if (!own || !ofChannel || !(*own == *ofChannel))
    return Error{status::BadSecurityChecksFailed, "the session names another certificate than the channel", {}};
  // Part 4, 5.6.2: who the client says it is must be who its certificate is of.
  if (own->applicationUri() != request.clientDescription.applicationUri.str())
    return Error{status::BadCertificateUriInvalid,
                 "the client calls itself " + request.clientDescription.applicationUri.str() + ", its certificate " +
                     own->applicationUri(),
                 {}};
  return {};
}

Result<void> Server::checkClientSignature(const ActivateSessionRequest& request, const Context& context) const {
  const auto& security = context.peer->security();
  const auto* policy = security.policy();
  if (!policy) return {};
  auto certificate = secure::Certificate::fromDer(security.peerCertificate);
  const auto& signature = request.clientSignature.signature;
  const Bytes data = secure::sessionProof(settings_.identity->certificate.der(), context.session->serverNonce);
  if (!certificate || !secure::verify(*policy, *certificate, data, secure::view(signature)))
    return Error{status::BadApplicationSignatureInvalid, "the client's signature does not fit its certificate", {}};
  return {};
}

Result<String> Server::checkIdentity(const ExtensionObject& token, const Context& context) {
  const bool isAnonymous = token.isNull() || token.is<AnonymousIdentityToken>();
  if (isAnonymous) {
    if (!settings_.allowAnonymous)
      return Error{status::BadIdentityTokenRejected, "this server takes no anonymous users",
                   settings_.checkPassword ? "log in with a name and password" : "set 'anonymous: on' in site.yaml"};
    if (token.isNull()) return String();
    auto anonymous = token.as<AnonymousIdentityToken>();
    if (!anonymous) return Error{status::BadIdentityTokenInvalid, anonymous.error().cause, {}};
    if (!anonymous->policyId.empty() && anonymous->policyId.view() != "anonymous")
      return Error{status::BadIdentityTokenInvalid, "the user token policy is not offered here", {}};
    return String();
  }
  if (!token.is<UserNameIdentityToken>() || !settings_.checkPassword || !settings_.identity)
    return Error{status::BadIdentityTokenRejected, "this server takes no users of this kind", {}};
  auto named = token.as<UserNameIdentityToken>();
  if (!named) return Error{status::BadIdentityTokenInvalid, named.error().cause, {}};
  if (!named->policyId.empty() && named->policyId.view() != "password")
    return Error{status::BadIdentityTokenInvalid, "the user token policy is not offered here", {}};
  if (const double wait = loginGuard_.wait(context.now); wait > 0)
    return Error{
        status::BadUserAccessDenied, fmt::format("too many logins have failed: wait {:.0f} s", wait / 1000 + 0.5), {}};
  auto name = checkPassword(*named, context);
  if (name)
    loginGuard_.succeeded();
  else
    loginGuard_.failed(context.now);
  return name;
}

/// Part 4, 7.41.2: the secret is a length, the password, and the nonce that the server gave last.
Result<String> Server::checkPassword(const UserNameIdentityToken& token, const Context& context) {
  const auto* channelPolicy = context.peer->security().policy();
  const auto* policy = channelPolicy ? channelPolicy : secure::policyNamed("Basic256Sha256");
  if (token.encryptionAlgorithm.view() != policy->encryptionUri)
    return Error{status::BadIdentityTokenInvalid,
                 "the password must be encrypted with " + std::string(policy->encryptionUri),
                 {}};
  const auto secret = secure::decrypt(*policy, settings_.identity->key, secure::view(token.password));
  const Error unreadable{status::BadIdentityTokenInvalid, "the password can't be decrypted", {}};
  if (!secret) return unreadable;
  BinaryReader reader(*secret);
  const auto length = reader.next<std::uint32_t>();
  const auto& nonce = context.session->serverNonce;
  if (!reader.ok() || length < nonce.size() || length > reader.remaining()) return unreadable;
  const std::string_view text(reinterpret_cast<const char*>(reader.rest().data()), length);
  // An old token that is replayed carries an old nonce.
  if (text.substr(length - nonce.size()) != nonce.view()) return unreadable;
  const std::string password(text.substr(0, length - nonce.size()));
  if (auto fine = settings_.checkPassword(token.userName.str(), password); !fine) return fine.error();
  return token.userName;
}

Result<ActivateSessionResponse> Server::activateSession(const ActivateSessionRequest& request, Context& context) {
  Session& session = *context.session;
  if (!session.isActivated && session.channelId != context.peer->channelId())
    return Error{
        status::BadSecureChannelIdInvalid, "a session must first be activated on the channel that created it", {}};
  if (auto fine = checkClientSignature(request, context); !fine) {
    ++summary_.securityRejectedSessionCount;
    announcer_.sessionActivated(context.actor(), request, fine.code());
    return fine.error();
  }
  const auto identity = checkIdentity(request.userIdentityToken, context);
  announcer_.sessionActivated(context.actor(), request, identity.code());
  if (!identity) {
    ++summary_.securityRejectedSessionCount;
    return identity.error();
  }
  session.isActivated = true;
  session.peer = context.peer;
  session.channelId = context.peer->channelId();
  session.userName = *identity;
  const String user = session.userName.empty() ? String("Anonymous") : session.userName;
  session.security.clientUserIdOfSession = user;
  if (session.security.clientUserIdHistory.empty() || !(session.security.clientUserIdHistory.back() == user))
    session.security.clientUserIdHistory.push_back(user);
  session.security.authenticationMechanism = session.userName.empty() ? "Anonymous" : "UserName";
  if (!request.localeIds.empty()) session.locales = request.localeIds;
  ActivateSessionResponse response;
  response.serverNonce = session.serverNonce = randomOctets();
  return response;
}

Result<CloseSessionResponse> Server::closeSession(const CloseSessionRequest& request, Context& context) {
  if (context.session->channelId != context.peer->channelId())
    return Error{status::BadSecureChannelIdInvalid, "the session belongs to another secure channel", {}};
  endSession(*context.session, {status::BadSessionClosed, "the client closed the session", {}},
             request.deleteSubscriptions ? Subscriptions::Delete : Subscriptions::Keep);
  context.session = nullptr;
  return CloseSessionResponse{};
}

Result<CancelResponse> Server::cancel(const CancelRequest& request, Context& context) {
  CancelResponse response;
  const Error why{status::BadRequestCancelledByClient, "the client cancelled the request", {}};
  std::erase_if(context.session->publishes, [&](const Session::WaitingPublish& waiting) {
    if (waiting.reply.handle() != request.requestHandle) return false;
    waiting.reply.fault(why, context.wallClock);
    ++response.cancelCount;
    return true;
  });
  for (auto& waiting : waiting_)
    if (const auto answer = waiting.answer.lock();
        answer && waiting.session == context.session->token && answer->handle() == request.requestHandle) {
      answer->giveUp(why);
      ++response.cancelCount;
    }
  announcer_.requestsCancelled(context.actor(), request.requestHandle);
  return response;
}

void Server::endSession(Session& session, const Error& why, Subscriptions subscriptions) {
  spdlog::info("session '{}' ended: {}", session.name.view(), why.cause);
  answerPublishes(session, why);
  while (!session.subscriptions.empty()) {
    const auto id = session.subscriptions.begin()->first;
    if (subscriptions == Subscriptions::Delete)
      dropSubscription(session, id);
    else
      orphans_[id] = {std::move(session.subscriptions.extract(id).mapped()), session.client.applicationUri,
                      session.userName};
  }
  if (diagnosticsOn_) hideSession(session);
  announcer_.sessionClosed(session, why.code == status::BadSessionClosed ? "CloseSession" : "Shutdown");
  sessions_.erase(NodeId(session.token));
}

}  // namespace zunth::server
