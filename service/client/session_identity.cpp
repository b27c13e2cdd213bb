// Whom a session speaks to, and who it says that it is.
#include "core/channel/url.hpp"
#include "core/secure/asymmetric.hpp"
#include "service/client/session.hpp"

#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

/// Asks for the endpoints, takes the best that fits, and makes sure whom it belongs to.
Awaitable<Result<ChannelSecurityChoice>> Session::chooseSecurity() {
  const auto& wish = options_.security;
  ChannelSecurityChoice choice = unsecured(wish, url_);
  if (wish.wish == Security::Wish::None) co_return choice;
  auto connection = co_await Connection::open(url_, options_.timeout, choice);
  if (!connection) co_return connection.error();
  const std::string endpointUrl = (*connection)->endpointUrl();
  auto parsed = channel::Url::parse(endpointUrl);
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
    if (const auto parsed = channel::Url::parse(connection_->endpointUrl()))
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
    auto parsed = channel::Url::parse(connection_->endpointUrl());
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

}  // namespace zunth::client
