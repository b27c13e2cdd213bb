#include "service/server/sessions.hpp"

#include "core/channel/url.hpp"
#include "core/secure/asymmetric.hpp"
#include "core/secure/trust.hpp"
#include "core/ua/foreign.hpp"
#include "service/logs/logs.hpp"
#include "service/server/random.hpp"
#include "service/server/request_checks.hpp"

#include <algorithm>

#include <fmt/format.h>

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

Result<CreateSessionResponse> Sessions::createSession(const CreateSessionRequest& request, Context& context) {
  auto response = newSession(request, context);
  if (!response) ++core_.summary.rejectedSessionCount;
  if (response.code() == status::BadSecurityModeInsufficient) ++core_.summary.securityRejectedSessionCount;
  announcer_.sessionCreated(context.actor(), request, response.code());
  return response;
}

/// Part 4, 5.6.2.1: sessions that were never activated give way when all are taken. False when there is none.
bool Sessions::makeRoom() {
  Session* oldest = nullptr;
  for (const auto& [token, session] : core_.sessions)
    if (!session->isActivated && !session->isActivating && (!oldest || session->createdAt < oldest->createdAt))
      oldest = session.get();
  if (!oldest) return false;
  end(*oldest, {status::BadSessionClosed, "the session was not activated, and others wait", {}}, Keep::Nothing);
  return true;
}

/// What a client writes about itself is kept, shown and sent back as long as its session lasts.
Result<void> Sessions::checkTexts(const CreateSessionRequest& request) const {
  const auto& limits = settings_.limits;
  const auto& client = request.clientDescription;
  if (request.endpointUrl.size() > limits.maxUrl)
    return Error{status::BadTcpEndpointUrlInvalid, "the endpoint URL is too long", {}};
  std::size_t octets = request.sessionName.size() + client.applicationUri.size() + client.productUri.size() +
                       client.applicationName.text.size() + client.applicationName.locale.size() +
                       client.gatewayServerUri.size() + client.discoveryProfileUri.size();
  for (const auto& url : client.discoveryUrls) octets += url.size() + sizeof url;
  if (octets > 4 * limits.maxUrl || request.clientNonce.size() > limits.maxName)
    return Error{status::BadInvalidArgument, "the client tells more of itself than anybody wants to know", {}};
  return {};
}

Result<void> Sessions::checkShares(const Context& context) {
  const auto& limits = settings_.limits;
  const auto tooMany = [](std::string_view whose, std::uint32_t most) {
    return Error{status::BadTooManySessions, fmt::format("{} has {} sessions, as many as it may", whose, most), {}};
  };
  const auto channel = context.peer->channelId();
  if (channel && ofConnections_.of(std::to_string(channel)) >= limits.maxSessionsPerConnection)
    return tooMany("this connection", limits.maxSessionsPerConnection);
  const std::string host = hostOf(context.peer->address());
  if (ofAddresses_.of(host) >= limits.maxSessionsPerAddress) return tooMany(host, limits.maxSessionsPerAddress);
  if (core_.sessions.size() >= limits.maxSessions && !makeRoom())
    return Error{status::BadTooManySessions, fmt::format("all {} sessions are taken", limits.maxSessions), {}};
  return {};
}

namespace {

/// Whether a server that shows this certificate is found by the URL, as far as one is told.
bool isNamed(const secure::Identity& identity, const String& url) {
  if (url.empty()) return true;
  const auto parsed = channel::Url::parse(url.view());
  return parsed && secure::matchesHost(identity.certificate.hosts(), parsed->host);
}

}  // namespace

Result<CreateSessionResponse> Sessions::newSession(const CreateSessionRequest& request, Context& context) {
  const auto& limits = settings_.limits;
  if (auto fine = discovery_.isPrivate(*context.peer); !fine) return fine.error();
  if (!request.serverUri.empty() && request.serverUri.view() != settings_.applicationUri)
    return Error{
        status::BadServerUriInvalid,
        fmt::format("this is the server {}, not {}", settings_.applicationUri, shown(request.serverUri.view())),
        {}};
  if (auto fine = checkTexts(request); !fine) return fine.error();
  if (auto fine = checkClientCertificate(request, context); !fine) return fine.error();
  if (auto fine = checkShares(context); !fine) return fine.error();
  auto session = std::make_unique<Session>();
  session->sessionId = newSessionId();
  ++lastSessionId_;
  session->token = NodeId(0, randomOctets());
  session->name = request.sessionName.empty() ? String("session " + std::to_string(lastSessionId_))
                                              : String(cut(request.sessionName.view(), limits.maxName));
  session->client = request.clientDescription;
  session->endpointUrl = request.endpointUrl;
  session->proof = Proof::of(*context.peer);
  session->queued = std::make_unique<Allowance>(limits.maxQueuedPerSession, &core_.queued);
  session->maxResponseSize = request.maxResponseMessageSize;
  session->timeout =
      request.requestedSessionTimeout > 0
          ? revised(request.requestedSessionTimeout, limits.leastSessionTimeout, limits.mostSessionTimeout)
          : limits.mostSessionTimeout;
  session->createdAt = session->lastContact = context.now;
  session->diagnostics.clientConnectionTime = session->diagnostics.clientLastContactTime = context.wallClock;
  session->peer = context.peer;
  session->channelId = context.peer->channelId();
  session->security.clientCertificate = session->proof.certificate;

  CreateSessionResponse response;
  response.sessionId = session->sessionId;
  response.authenticationToken = session->token;
  response.revisedSessionTimeout = session->timeout;
  response.serverNonce = session->serverNonce = randomOctets();
  response.serverEndpoints = discovery_.endpoints(request.endpointUrl);
  const auto& own = context.peer->security().own;
  session->identity = own ? own : settings_.identities.main();
  if (session->identity) response.serverCertificate = session->identity->chain();
  if (const auto* policy = context.peer->security().policy()) {
    response.serverSignature.algorithm = String(policy->signatureUri);
    response.serverSignature.signature = secure::sign(
        *policy, session->identity->key, secure::sessionProof(session->proof.client->der(), request.clientNonce));
  }
  const auto mostHere = context.peer->mostRequest();
  response.maxRequestMessageSize = mostHere ? static_cast<std::uint32_t>(mostHere) : settings_.maxMessageSize;
  logs::clients().info("session '{}' created by {} at {}", shown(session->name.view()),
                       shown(session->client.applicationUri.view()), context.peer->address());
  ++core_.summary.cumulatedSessionCount;
  ofAddresses_.add(session->proof.host);
  if (session->channelId) ofConnections_.add(std::to_string(session->channelId));
  session->creatingChannel = session->channelId;
  context.session = session.get();
  core_.sessions.emplace(session->token, std::move(session));
  reschedule(*context.session);
  if (const auto& shown = context.session->identity; shown && !isNamed(*shown, request.endpointUrl))
    announcer_.urlMismatched(context.actor(), request);
  return response;
}

Result<void> Sessions::checkClientCertificate(const CreateSessionRequest& request, const Context& context) const {
  const auto& security = context.peer->security();
  if (!security.policy()) return {};
  if (request.clientNonce.size() < 32)
    return Error{status::BadNonceInvalid, "a session needs a nonce of 32 octets or more", {}};
  // The channel has proved one certificate; that is the one.
  const auto& proved = security.peer;
  const auto leaf = proved ? proved->der().view() : std::string_view();
  if (!proved || request.clientCertificate.view().substr(0, leaf.size()) != leaf)
    return Error{status::BadSecurityChecksFailed, "the session names another certificate than the channel", {}};
  // Part 4, 5.6.2: who the client says it is must be who its certificate is of.
  if (proved->applicationUri() != request.clientDescription.applicationUri.str())
    return Error{status::BadCertificateUriInvalid,
                 fmt::format("the client calls itself {}, its certificate {}",
                             shown(request.clientDescription.applicationUri.view()), shown(proved->applicationUri())),
                 {}};
  return {};
}

Result<void> Sessions::checkClientSignature(const ActivateSessionRequest& request, const Context& context) const {
  const auto& security = context.peer->security();
  const auto* policy = security.policy();
  if (!policy) return {};
  if (!security.peer || !signsSession(*policy, *security.peer, request.clientSignature, *context.session))
    return Error{status::BadApplicationSignatureInvalid, "the client's signature does not fit its certificate", {}};
  return {};
}

namespace {

/// How well what is said is kept from others.
int strengthOf(MessageSecurityMode mode, bool isEncryptedBelow) {
  if (isEncryptedBelow || mode == MessageSecurityMode::SignAndEncrypt) return 2;
  return mode == MessageSecurityMode::Sign ? 1 : 0;
}

bool isSameUser(const User& a, const User& b) {
  return a.mechanism == b.mechanism && a.name == b.name && a.caller.userThumbprint == b.caller.userThumbprint;
}

}  // namespace

Result<void> Sessions::checkChannel(const Session& session, const Peer& peer) const {
  if (session.channelId == peer.channelId()) return {};
  if (!session.isActivated)
    return Error{
        status::BadSecureChannelIdInvalid, "a session must first be activated on the channel that created it", {}};
  if (auto fine = discovery_.isPrivate(peer); !fine) return fine;
  const Proof& proof = session.proof;
  const auto& now = peer.security().peer;
  if (static_cast<bool>(proof.client) != static_cast<bool>(now) || (now && !(*now == *proof.client)))
    return Error{status::BadSecurityChecksFailed, "the session was created with another certificate", {}};
  if (strengthOf(peer.security().mode, peer.isEncryptedBelow()) < strengthOf(proof.mode, proof.isEncryptedBelow))
    return Error{status::BadSecurityModeInsufficient, "the session was created on a channel that is better secured",
                 "open the new channel as the one before"};
  return {};
}

Result<Session*> Sessions::of(const NodeId& token, Needs needs, const Peer& peer) {
  if (needs == Needs::Nothing) return nullptr;
  const auto found = core_.sessions.find(token);
  if (found == core_.sessions.end())
    return Error{status::BadSessionIdInvalid, "the server knows no such session: it ended or timed out", {}};
  Session& session = *found->second;
  const auto touch = [&] {
    session.lastContact = clock_.now();
    session.diagnostics.clientLastContactTime = clock_.wallClock();
  };
  if (needs == Needs::Session) {
    if (session.channelId == peer.channelId()) touch();
    return &session;
  }
  if (session.channelId != peer.channelId())
    return Error{status::BadSecureChannelIdInvalid, "the session belongs to another secure channel", {}};
  if (!session.isActivated) {
    const Error why{status::BadSessionNotActivated, "the session was used before it was activated, and is closed", {}};
    if (!session.isActivating) end(session, why, Keep::Nothing);
    return why;
  }
  touch();
  return &session;
}

void Sessions::endRunOut() {
  std::vector<Session*> ended;
  for (const auto& [token, session] : core_.sessions)
    if (const auto& until = session->user.validTo;
        session->isActivated && !until.isNull() && until < clock_.wallClock())
      ended.push_back(session.get());
  for (Session* session : ended)
    end(*session, {status::BadIdentityTokenRejected, "what the user logged in with has run out", {}},
        Keep::Subscriptions);
}

std::vector<secure::RoleRule> rolesForEveryone(StandardId role) {
  secure::RoleRule rule;
  rule.role = NodeId(role);
  rule.identities = List<IdentityMappingRuleType>(
      {{IdentityCriteriaType::Anonymous, {}}, {IdentityCriteriaType::AuthenticatedUser, {}}});
  return {rule};
}

void Sessions::grant(Session& session) {
  // Only what was proved counts, and it is the session's own: there may be no connection just now.
  auto& caller = session.user.caller;
  const Proof& proof = session.proof;
  caller.endpoint = {proof.entrance.url, proof.mode, proof.policyUri, proof.entrance.transportProfileUri};
  caller.applicationUri = proof.applicationUri();
  auto roles = session.user.isVouchedFor ? std::vector<NodeId>() : secure::rolesOf(caller, settings_.roles);
  for (const auto& role : session.user.ownRoles)
    if (std::ranges::find(roles, role) == roles.end()) roles.push_back(role);
  session.rights = space::Rights(std::move(roles), proof.mode, proof.isEncryptedBelow);
  session.rights.setLocales(session.locales);
  for (const auto& [id, subscription] : session.subscriptions) {
    subscription->setListener(&session.rights);
    for (const auto& [itemId, item] : subscription->items()) {
      // Of events, each is asked for when it comes.
      if (item->node() == space::kNoNode || item->takesEvents()) continue;
      const auto code = space_.check(session.rights, item->node(), permissionToWatch(item->attribute()));
      if (code.isBad()) core_.sampling.end(*item, code, clock_.wallClock());
    }
  }
}

void Sessions::grantAll() {
  for (const auto& [token, session] : core_.sessions)
    if (session->isActivated) grant(*session);
}

void Sessions::accountsChanged(const std::function<Result<Account>(const User& user)>& accountOf) {
  std::vector<Session*> ended;
  for (auto& [token, session] : core_.sessions) {
    if (!session->isActivated) continue;
    const auto& settings = core_.settings;
    const auto* policy = secure::policyOf(session->proof.policyUri.view());
    const bool isEncrypted = session->proof.mode == MessageSecurityMode::SignAndEncrypt;
    if ((session->user.mechanism.view() == "Anonymous" && !settings.allowAnonymous) ||
        (policy && !settings.offer.has(*policy, isEncrypted)) ||
        (session->proof.mode == MessageSecurityMode::None && !session->proof.isEncryptedBelow &&
         !settings.allowUnsecured && !session->user.isVouchedFor)) {
      ended.push_back(session.get());
      continue;
    }
    if (!session->user.name.empty() && !session->user.isVouchedFor) {
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
    end(*session, {status::BadUserAccessDenied, "the user may log in no longer", {}}, Keep::Nothing);
}

/// What is needed to go on once the user is known; the session may have ended meanwhile.
struct Sessions::Activation {
  std::shared_ptr<Peer> peer;
  ActivateSessionRequest request;
  Reply reply;
  String auditEntryId;
};

Result<void> Sessions::activateSession(const ActivateSessionRequest& request, Context& context) {
  Session& session = *context.session;
  const auto refuse = [&](const Error& why) {
    ++core_.summary.securityRejectedSessionCount;
    announcer_.sessionActivated(context.actor(), request, why.code);
    return why;
  };
  if (auto fine = checkChannel(session, *context.peer); !fine) return refuse(fine.error());
  if (session.isActivating) return refuse({status::BadTooManyOperations, "the session is being activated already", {}});
  std::size_t octets = 0;
  for (const auto& locale : request.localeIds) octets += locale.size() + sizeof locale;
  if (octets > settings_.limits.maxUrl) return refuse({status::BadInvalidArgument, "too many languages", {}});
  // The server's certificate may have been renewed since: what counts is the one that this channel was opened with.
  if (const auto& own = context.peer->security().own) session.identity = own;
  if (auto fine = checkClientSignature(request, context); !fine) return refuse(fine.error());
  auto activation =
      std::make_shared<Activation>(Activation{context.peer, request, context.reply, context.auditEntryId});
  session.isActivating = true;
  logins_.check(request, context,
                [this, activation](Result<User> user) { finishActivation(*activation, std::move(user)); });
  return {};
}

void Sessions::finishActivation(const Activation& activation, Result<User> user) {
  const DateTime wallClock = clock_.wallClock();
  const auto& request = activation.request;
  const auto found = core_.sessions.find(request.requestHeader.authenticationToken);
  if (found == core_.sessions.end())
    return activation.reply.fault({status::BadSessionIdInvalid, "the session has ended", {}}, wallClock);
  Session& session = *found->second;
  session.isActivating = false;
  const auto audit = [&](StatusCode code) {
    announcer_.sessionActivated({&session, activation.auditEntryId, *activation.peer}, request, code);
  };
  const bool moves = session.isActivated && session.channelId != activation.peer->channelId();
  if (user && moves && !isSameUser(session.user, *user))
    user = Error{status::BadIdentityTokenRejected, "the session is another user's: it moves with its user only", {}};
  const std::string name = user && !user->name.empty() ? user->name.str() : "Anonymous";
  const bool isCounted = session.isActivated && session.userName() == name;
  if (user && !isCounted && ofUsers_.of(name) >= settings_.limits.maxSessionsPerUser)
    user = Error{
        status::BadTooManySessions,
        fmt::format("{} has {} sessions, as many as a user may", shown(name), settings_.limits.maxSessionsPerUser),
        {}};
  if (!user) {
    audit(user.code());
    ++core_.summary.securityRejectedSessionCount;
    return activation.reply.fault(user.error(), wallClock);
  }
  if (!isCounted) {
    if (session.isActivated) ofUsers_.remove(session.userName());
    ofUsers_.add(name);
    subscriptions_.changeUser(session, name);
  }
  // Who doesn't log in leaves no trace in the address space.
  if (!std::exchange(session.isActivated, true) && core_.diagnosticsOn) object_.showSession(session);
  session.peer = activation.peer;
  activation.peer->activated();
  session.channelId = activation.peer->channelId();
  const std::string host = session.proof.host;
  session.proof = Proof::of(*activation.peer);
  session.proof.host = host;  // on whose account it stands
  session.user = std::move(*user);
  session.lastContact = clock_.now();
  if (!request.localeIds.empty()) session.locales = request.localeIds;
  grant(session);
  reschedule(session);
  audit(status::Good);
  logs::clients().debug("session '{}' is used by {}", shown(session.name.view()), shown(name));
  session.security.clientUserIdOfSession = String(name);
  auto& history = session.security.clientUserIdHistory;
  constexpr std::size_t kMostRemembered = 20;
  if (history.empty() || !(history.back().view() == name)) history.push_back(String(name));
  if (history.size() > kMostRemembered) history.erase(history.begin());
  session.security.authenticationMechanism = session.user.mechanism;
  ActivateSessionResponse response;
  response.serverNonce = session.serverNonce = randomOctets();
  activation.reply.send(std::move(response), wallClock);
}

Result<CloseSessionResponse> Sessions::closeSession(const CloseSessionRequest& request, Context& context) {
  if (context.session->channelId != context.peer->channelId())
    return Error{status::BadSecureChannelIdInvalid, "the session belongs to another secure channel", {}};
  end(*context.session, {status::BadSessionClosed, "the client closed the session", {}},
      request.deleteSubscriptions ? Keep::Nothing : Keep::Subscriptions, "CloseSession");
  context.session = nullptr;
  return CloseSessionResponse{};
}

Result<CancelResponse> Sessions::cancel(const CancelRequest& request, Context& context) {
  CancelResponse response;
  const Error why{status::BadRequestCancelledByClient, "the client cancelled the request", {}};
  std::erase_if(context.session->publishes, [&](const Session::WaitingPublish& waiting) {
    if (waiting.reply.handle() != request.requestHandle) return false;
    waiting.reply.fault(why, context.wallClock);
    ++response.cancelCount;
    return true;
  });
  for (const auto& waiting : std::vector(context.session->outstanding))
    if (const auto answer = waiting.lock(); answer && answer->handle() == request.requestHandle) {
      answer->giveUp(why);
      ++response.cancelCount;
    }
  announcer_.requestsCancelled(context.actor(), request.requestHandle);
  return response;
}

void Sessions::end(Session& session, const Error& why, Keep keep, std::string_view how) {
  logs::clients().info("session '{}' ended: {}", shown(session.name.view()), why.cause);
  subscriptions_.answerPublishes(session, why);
  while (!session.subscriptions.empty()) {
    const auto id = session.subscriptions.begin()->first;
    if (keep == Keep::Subscriptions && session.isActivated)
      subscriptions_.orphan(session, id);
    else
      subscriptions_.drop(session, id);
  }
  core_.turns.drop(session.token, why, clock_.wallClock());
  for (const auto& waiting : std::vector(session.outstanding))
    if (const auto answer = waiting.lock()) answer->giveUp(why);
  if (core_.diagnosticsOn) object_.hideSession(session);
  announcer_.sessionClosed(session, how);
  ofAddresses_.remove(session.proof.host);
  if (session.creatingChannel) ofConnections_.remove(std::to_string(session.creatingChannel));
  if (session.isActivated) ofUsers_.remove(session.userName());
  core_.sessionsDue.remove(session);
  core_.sessions.erase(NodeId(session.token));
}

void Sessions::reschedule(Session& session) {
  const auto silent = session.lastContact + milliseconds(session.timeout + 1);
  const auto unused = session.createdAt + milliseconds(settings_.limits.timeToActivate);
  const bool isNew = !session.isActivated && !session.isActivating;
  core_.sessionsDue.put(session, isNew ? std::min(silent, unused) : silent);
}

void Sessions::tick(Instant now) {
  while (Session* session = core_.sessionsDue.take(now)) {
    // It may have said something since it was put there.
    reschedule(*session);
    if (session->dueAt > now) continue;
    ++core_.summary.sessionTimeoutCount;
    end(*session, {status::BadSessionClosed, "the session timed out", {}}, Keep::Subscriptions, "Timeout");
  }
}

void Sessions::shutdown() {
  while (!core_.sessions.empty())
    end(*core_.sessions.begin()->second, {status::BadShutdown, "the server is shutting down", {}}, Keep::Nothing);
}

}  // namespace zunth::server
