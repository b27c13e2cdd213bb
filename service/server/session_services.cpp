#include "service/server/server.hpp"

#include <algorithm>
#include <array>

#include <openssl/rand.h>
#include <spdlog/spdlog.h>

namespace zunth::server {

using namespace ua;

namespace {

ByteString randomOctets() {
  std::array<std::byte, 32> octets;
  if (RAND_bytes(reinterpret_cast<unsigned char*>(octets.data()), octets.size()) != 1)
    throw std::runtime_error("the system gives no random numbers");
  return ByteString(octets);
}

}  // namespace

Result<CreateSessionResponse> Server::createSession(const CreateSessionRequest& request, Context& context) {
  const auto mode = context.peer->security().mode;
  if (!settings_.allowUnsecured && mode != MessageSecurityMode::Sign && mode != MessageSecurityMode::SignAndEncrypt)
    return Error{status::BadSecurityModeInsufficient, "this server takes signed or encrypted connections only",
                 "set 'unsecured: on' in its site.yaml"};
  if (sessions_.size() >= settings_.limits.maxSessions)
    return Error{
        status::BadTooManySessions, "all " + std::to_string(settings_.limits.maxSessions) + " sessions are taken", {}};
  auto session = std::make_unique<Session>();
  session->sessionId = NodeId(1, ++lastSessionId_);
  session->token = NodeId(0, randomOctets());
  session->name = request.sessionName.isNull() ? String(session->sessionId.text()) : request.sessionName;
  session->client = request.clientDescription;
  session->timeout = request.requestedSessionTimeout > 0
                         ? std::clamp(request.requestedSessionTimeout, settings_.limits.leastSessionTimeout,
                                      settings_.limits.mostSessionTimeout)
                         : settings_.limits.mostSessionTimeout;
  session->lastContact = context.now;
  session->peer = context.peer;
  session->channelId = context.peer->channelId();

  CreateSessionResponse response;
  response.sessionId = session->sessionId;
  response.authenticationToken = session->token;
  response.revisedSessionTimeout = session->timeout;
  response.serverNonce = randomOctets();
  response.serverEndpoints = endpoints(request.endpointUrl);
  response.maxRequestMessageSize = settings_.maxMessageSize;
  spdlog::info("session '{}' created by {} at {}", session->name.view(), session->client.applicationUri.view(),
               context.peer->address());
  sessions_.emplace(session->token, std::move(session));
  return response;
}

Result<ActivateSessionResponse> Server::activateSession(const ActivateSessionRequest& request, Context& context) {
  Session& session = *context.session;
  if (!session.isActivated && session.channelId != context.peer->channelId())
    return Error{
        status::BadSecureChannelIdInvalid, "a session must first be activated on the channel that created it", {}};
  const auto& token = request.userIdentityToken;
  const bool isAnonymous = token.isNull() || token.is<AnonymousIdentityToken>();
  if (!isAnonymous) return Error{status::BadIdentityTokenRejected, "this server takes anonymous users only", {}};
  if (!settings_.allowAnonymous)
    return Error{status::BadIdentityTokenRejected, "this server takes no anonymous users",
                 "set 'anonymous: on' in site.yaml"};
  if (!token.isNull()) {
    auto anonymous = token.as<AnonymousIdentityToken>();
    if (!anonymous) return Error{status::BadIdentityTokenInvalid, anonymous.error().cause, {}};
    if (!anonymous->policyId.empty() && anonymous->policyId.view() != "anonymous")
      return Error{status::BadIdentityTokenInvalid, "the user token policy is not offered here", {}};
  }
  session.isActivated = true;
  session.peer = context.peer;
  session.channelId = context.peer->channelId();
  if (!request.localeIds.empty()) session.locales = request.localeIds;
  ActivateSessionResponse response;
  response.serverNonce = randomOctets();
  return response;
}

Result<CloseSessionResponse> Server::closeSession(const CloseSessionRequest&, Context& context) {
  if (context.session->channelId != context.peer->channelId())
    return Error{status::BadSecureChannelIdInvalid, "the session belongs to another secure channel", {}};
  endSession(*context.session, {status::BadSessionClosed, "the client closed the session", {}});
  return CloseSessionResponse{};
}

void Server::endSession(Session& session, const Error& why) {
  spdlog::info("session '{}' ended: {}", session.name.view(), why.cause);
  answerPublishes(session, why);
  while (!session.subscriptions.empty()) dropSubscription(session, session.subscriptions.begin()->first);
  sessions_.erase(NodeId(session.token));
}

}  // namespace zunth::server
