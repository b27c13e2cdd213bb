#include "core/secure/asymmetric.hpp"
#include "service/server/random.hpp"
#include "service/server/request_checks.hpp"
#include "service/server/server.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::server {

using namespace ua;

namespace {

/// The client's certificate, on a channel with a policy.
Result<secure::Certificate> certificateOf(const Peer& peer) {
  return secure::Certificate::fromDer(peer.security().peerCertificate);
}

/// Whether it is over what the server gave last, by this certificate's key. Part 4, 5.6.3: over the server's own
/// certificate, without its issuers; some sign what they were sent.
bool signsSession(const secure::Policy& policy, const secure::Certificate& signer, const SignatureData& signature,
                  const Session& session) {
  const auto fits = [&](const ByteString& certificate) {
    return secure::verify(policy, signer, secure::sessionProof(certificate, session.serverNonce),
                          secure::view(signature.signature));
  };
  return fits(session.identity->certificate.der()) ||
         (!session.identity->issuers.empty() && fits(session.identity->chain()));
}

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
  const auto& shown = context.peer->security().own;
  session->identity = shown ? shown : settings_.identities.main();
  if (session->identity) response.serverCertificate = session->identity->chain();
  if (const auto* policy = context.peer->security().policy()) {
    response.serverSignature.algorithm = String(policy->signatureUri);
    response.serverSignature.signature = secure::sign(
        *policy, session->identity->key, secure::sessionProof(certificateOf(*context.peer)->der(), request.clientNonce));
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
  if (!certificate || !signsSession(*policy, *certificate, request.clientSignature, *context.session))
    return Error{status::BadApplicationSignatureInvalid, "the client's signature does not fit its certificate", {}};
  return {};
}

void Server::checkIdentity(const ActivateSessionRequest& request, const Context& context, const TellUser& tell) {
  const auto& token = request.userIdentityToken;
  const bool isAnonymous = token.isNull() || token.is<AnonymousIdentityToken>();
  if (isAnonymous) {
    if (!settings_.allowAnonymous)
      return tell(
          Error{status::BadIdentityTokenRejected, "this server takes no anonymous users",
                settings_.checkPassword ? "log in with a name and password" : "set 'anonymous: on' in site.yaml"});
    if (token.isNull()) return tell(User{});
    auto anonymous = token.as<AnonymousIdentityToken>();
    if (!anonymous) return tell(Error{status::BadIdentityTokenInvalid, anonymous.error().cause, {}});
    if (!anonymous->policyId.empty() && anonymous->policyId.view() != "anonymous")
      return tell(Error{status::BadIdentityTokenInvalid, "the user token policy is not offered here", {}});
    return tell(User{});
  }
  const bool hasIdentity = context.session->identity != nullptr;
  const bool isNamed = token.is<UserNameIdentityToken>() && settings_.checkPassword && hasIdentity;
  const bool isCertified = token.is<X509IdentityToken>() && settings_.checkUserCertificate && hasIdentity;
  const bool isIssued = token.is<IssuedIdentityToken>() && settings_.checkToken && hasIdentity;
  if (!isNamed && !isCertified && !isIssued)
    return tell(Error{status::BadIdentityTokenRejected, "this server takes no users of this kind", {}});
  if (const double wait = loginGuard_.wait(context.now); wait > 0)
    return tell(Error{
        status::BadUserAccessDenied, fmt::format("too many logins have failed: wait {:.0f} s", wait / 1000 + 0.5), {}});
  const TellUser guarded = [this, tell](Result<User> user) {
    // Who came when too many were waiting has not guessed anything.
    if (user)
      loginGuard_.succeeded();
    else if (user.code() != status::BadTooManyOperations)
      loginGuard_.failed(clock_.now());
    tell(std::move(user));
  };
  if (isNamed) {
    auto named = token.as<UserNameIdentityToken>();
    if (!named) return guarded(Error{status::BadIdentityTokenInvalid, named.error().cause, {}});
    return checkPassword(*named, context, guarded);
  }
  if (isIssued) {
    auto issued = token.as<IssuedIdentityToken>();
    if (!issued) return guarded(Error{status::BadIdentityTokenInvalid, issued.error().cause, {}});
    return guarded(checkIssuedToken(*issued, context));
  }
  auto certified = token.as<X509IdentityToken>();
  if (!certified) return guarded(Error{status::BadIdentityTokenInvalid, certified.error().cause, {}});
  guarded(checkUserCertificate(*certified, request.userTokenSignature, context));
}

namespace {

/// What protects a user's secret or signature: the channel's policy, or on an unsecured channel one of the token's own.
const secure::Policy& tokenPolicy(const Peer& peer) {
  const auto* policy = peer.security().policy();
  return policy ? *policy : *secure::policyNamed("Basic256Sha256");
}

}  // namespace

/// Part 4, 7.41.2: a secret is a length, the password or token, and the nonce that the server gave last.
Result<std::string> Server::decryptSecret(const ByteString& encrypted, const String& algorithm,
                                          const Context& context) const {
  const auto& policy = tokenPolicy(*context.peer);
  // What the channel encrypts need not be encrypted twice; with curves it can't be (Part 4, 7.41.2).
  if (policy.usesCurves() && algorithm.empty() && context.peer->security().mode == MessageSecurityMode::SignAndEncrypt)
    return std::string(encrypted.view());
  if (policy.usesCurves())
    return Error{status::BadIdentityTokenInvalid,
                 "on this channel passwords and tokens are only taken where it encrypts, and then as they are",
                 "the same with --security encrypt"};
  if (algorithm.view() != policy.encryptionUri)
    return Error{status::BadIdentityTokenInvalid,
                 "what identifies the user must be encrypted with " + std::string(policy.encryptionUri),
                 {}};
  const auto secret = secure::decrypt(policy, context.session->identity->key, secure::view(encrypted));
  const Error unreadable{status::BadIdentityTokenInvalid, "what identifies the user can't be decrypted", {}};
  if (!secret) return unreadable;
  BinaryReader reader(*secret);
  const auto length = reader.next<std::uint32_t>();
  const auto& nonce = context.session->serverNonce;
  if (!reader.ok() || length < nonce.size() || length > reader.remaining()) return unreadable;
  const std::string_view text(reinterpret_cast<const char*>(reader.rest().data()), length);
  // An old token that is replayed carries an old nonce.
  if (text.substr(length - nonce.size()) != nonce.view()) return unreadable;
  return std::string(text.substr(0, length - nonce.size()));
}

Result<User> Server::checkIssuedToken(const IssuedIdentityToken& token, const Context& context) const {
  if (!token.policyId.empty() && token.policyId.view() != "token")
    return Error{status::BadIdentityTokenInvalid, "the user token policy is not offered here", {}};
  auto text = decryptSecret(token.tokenData, token.encryptionAlgorithm, context);
  if (!text) return text.error();
  return settings_.checkToken(*text);
}

void Server::checkPassword(const UserNameIdentityToken& token, const Context& context, const TellUser& tell) {
  if (!token.policyId.empty() && token.policyId.view() != "password")
    return tell(Error{status::BadIdentityTokenInvalid, "the user token policy is not offered here", {}});
  auto password = decryptSecret(token.password, token.encryptionAlgorithm, context);
  if (!password) return tell(password.error());
  settings_.checkPassword(token.userName.str(), std::move(*password),
                          [tell, name = token.userName](Result<Account> account) {
                            if (!account) return tell(account.error());
                            User user;
                            user.name = name;
                            user.mechanism = "UserName";
                            user.caller.isAnonymous = false;
                            user.caller.userName = name.str();
                            user.ownRoles = std::move(account->roles);
                            tell(std::move(user));
                          });
}

/// Part 4, 7.41.4: who has the key signs what the server gave last.
Result<User> Server::checkUserCertificate(const X509IdentityToken& token, const SignatureData& signature,
                                          const Context& context) const {
  const auto id = token.policyId.view();
  if (!id.empty() && id != "certificate" && id != "certificate-ec")
    return Error{status::BadIdentityTokenInvalid, "the user token policy is not offered here", {}};
  auto certificate = secure::Certificate::fromDer(token.certificateData);
  if (!certificate) return Error{status::BadIdentityTokenInvalid, certificate.error().cause, {}};
  // The channel's policy, where the user's key is of its kind.
  const auto* policy = &tokenPolicy(*context.peer);
  if (policy->key != certificate->keyKind()) policy = secure::policyFor(certificate->keyKind());
  if (!policy || !signsSession(*policy, *certificate, signature, *context.session))
    return Error{status::BadUserSignatureInvalid, "the user's signature does not fit their certificate", {}};
  auto account = settings_.checkUserCertificate(token.certificateData);
  if (!account) return account.error();
  User user;
  user.name = String(certificate->subject());
  user.mechanism = "Certificate";
  user.caller.isAnonymous = false;
  user.caller.userThumbprint = certificate->thumbprintText();
  user.caller.userSubject = certificate->subject();
  user.ownRoles = std::move(account->roles);
  user.certificate = token.certificateData;
  return user;
}

void Server::endRunOut() {
  std::vector<Session*> ended;
  for (const auto& [token, session] : sessions_)
    if (const auto& until = session->user.validTo;
        session->isActivated && !until.isNull() && until < clock_.wallClock())
      ended.push_back(session.get());
  for (Session* session : ended)
    endSession(*session, {status::BadIdentityTokenRejected, "what the user logged in with has run out", {}},
               Subscriptions::Keep);
}

std::vector<secure::RoleRule> rolesForEveryone(StandardId role) {
  secure::RoleRule rule;
  rule.role = NodeId(role);
  rule.identities = List<IdentityMappingRuleType>(
      {{IdentityCriteriaType::Anonymous, {}}, {IdentityCriteriaType::AuthenticatedUser, {}}});
  return {rule};
}

void Server::grant(Session& session) {
  const auto peer = session.peer.lock();
  if (!peer) return;
  auto& caller = session.user.caller;
  caller.endpoint = {session.endpointUrl, peer->security().mode, peer->security().policyUri, {}};
  if (auto certificate = secure::Certificate::fromDer(peer->security().peerCertificate))
    caller.applicationUri = certificate->applicationUri();
  auto roles = secure::rolesOf(caller, settings_.roles);
  for (const auto& role : session.user.ownRoles)
    if (std::ranges::find(roles, role) == roles.end()) roles.push_back(role);
  session.rights = space::Rights(std::move(roles), peer->security().mode, peer->isEncryptedBelow());
  session.rights.setLocales(session.locales);
  for (const auto& [id, subscription] : session.subscriptions)
    for (const auto& [itemId, item] : subscription->items()) {
      if (item->node() == space::kNoNode) continue;
      const auto code = space_.check(session.rights, item->node(), permissionToWatch(item->attribute()));
      if (code.isGood()) continue;
      if (item->takesEvents())
        events_.remove(*item);
      else
        sampling_.end(*item, code, clock_.wallClock());
    }
}

void Server::accountsChanged(const std::function<Result<Account>(const User& user)>& accountOf) {
  std::vector<Session*> ended;
  for (auto& [token, session] : sessions_) {
    if (!session->isActivated) continue;
    if (!session->user.name.empty()) {
      auto account = accountOf(session->user);
      if (!account) {
        ended.push_back(session.get());
        continue;
      }
      session->user.ownRoles = std::move(account->roles);
    }
    grant(*session);
  }
  for (Session* session : ended)
    endSession(*session, {status::BadUserAccessDenied, "the user may log in no longer", {}}, Subscriptions::Delete);
}

/// What is needed to go on once the user is known; the session may have ended meanwhile.
struct Server::Activation {
  std::shared_ptr<Peer> peer;
  ActivateSessionRequest request;
  Reply reply;
};

Result<void> Server::activateSession(const ActivateSessionRequest& request, Context& context) {
  Session& session = *context.session;
  if (!session.isActivated && session.channelId != context.peer->channelId())
    return Error{
        status::BadSecureChannelIdInvalid, "a session must first be activated on the channel that created it", {}};
  // The server's certificate may have been renewed since: what counts is the one that this channel was opened with.
  if (const auto& shown = context.peer->security().own) session.identity = shown;
  if (auto fine = checkClientSignature(request, context); !fine) {
    ++summary_.securityRejectedSessionCount;
    announcer_.sessionActivated(context.actor(), request, fine.code());
    return fine.error();
  }
  auto activation = std::make_shared<Activation>(Activation{context.peer, request, context.reply});
  checkIdentity(request, context,
                [this, activation](Result<User> user) { finishActivation(*activation, std::move(user)); });
  return {};
}

void Server::finishActivation(const Activation& activation, Result<User> user) {
  const DateTime wallClock = clock_.wallClock();
  const auto& request = activation.request;
  const auto found = sessions_.find(request.requestHeader.authenticationToken);
  if (found == sessions_.end())
    return activation.reply.fault({status::BadSessionIdInvalid, "the session has ended", {}}, wallClock);
  Session& session = *found->second;
  if (!user) {
    announcer_.sessionActivated({&session, request.requestHeader, *activation.peer}, request, user.code());
    ++summary_.securityRejectedSessionCount;
    return activation.reply.fault(user.error(), wallClock);
  }
  session.isActivated = true;
  session.peer = activation.peer;
  session.channelId = activation.peer->channelId();
  session.user = std::move(*user);
  if (!request.localeIds.empty()) session.locales = request.localeIds;
  grant(session);
  announcer_.sessionActivated({&session, request.requestHeader, *activation.peer}, request, status::Good);
  const String name = session.user.name.empty() ? String("Anonymous") : session.user.name;
  session.security.clientUserIdOfSession = name;
  if (session.security.clientUserIdHistory.empty() || !(session.security.clientUserIdHistory.back() == name))
    session.security.clientUserIdHistory.push_back(name);
  session.security.authenticationMechanism = session.user.mechanism;
  ActivateSessionResponse response;
  response.serverNonce = session.serverNonce = randomOctets();
  activation.reply.send(std::move(response), wallClock);
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
                      session.user.name};
  }
  if (diagnosticsOn_) hideSession(session);
  announcer_.sessionClosed(session, why.code == status::BadSessionClosed ? "CloseSession" : "Shutdown");
  sessions_.erase(NodeId(session.token));
}

}  // namespace zunth::server
