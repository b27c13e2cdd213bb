#include "service/server/logins.hpp"

#include "core/secure/asymmetric.hpp"

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;

bool signsSession(const secure::Policy& policy, const secure::Certificate& signer, const SignatureData& signature,
                  const Session& session) {
  const auto fits = [&](const ByteString& certificate) {
    return secure::verify(policy, signer, secure::sessionProof(certificate, session.serverNonce),
                          secure::view(signature.signature));
  };
  return fits(session.identity->certificate.der()) ||
         (!session.identity->issuers.empty() && fits(session.identity->chain()));
}

void Logins::checkAnonymous(const ExtensionObject& token, const Tell& tell) const {
  if (!settings_.allowAnonymous)
    return tell(
        Error{status::BadIdentityTokenRejected, "this server takes no anonymous users",
              settings_.checkPassword ? "log in with a name and password" : "set 'anonymous: on' in site.yaml"});
  if (token.isNull()) return tell(User{});
  auto anonymous = token.as<AnonymousIdentityToken>();
  if (!anonymous) return tell(Error{status::BadIdentityTokenInvalid, anonymous.error().cause, {}});
  if (!anonymous->policyId.empty() && anonymous->policyId.view() != "anonymous")
    return tell(Error{status::BadIdentityTokenInvalid, "the user token policy is not offered here", {}});
  tell(User{});
}

namespace {

/// Whose logins are counted together: a host, with what its channel proved.
std::string originOf(const Session& session, const Peer& peer) {
  const auto& client = peer.security().peer ? peer.security().peer : session.proof.client;
  return hostOf(peer.address()) + (client ? " " + client->thumbprintText() : std::string());
}

/// The name that a login is for, cut as it is only compared.
std::string claimedName(const ExtensionObject& token) {
  constexpr std::size_t kLongest = 128;
  if (auto named = token.as<UserNameIdentityToken>()) return named->userName.str().substr(0, kLongest);
  return token.is<X509IdentityToken>() ? "(certificate)" : "(token)";
}

}  // namespace

void Logins::check(const ActivateSessionRequest& request, const Context& context, const Tell& tell) {
  const auto& token = request.userIdentityToken;
  if (const auto* account = context.peer->account()) {
    User user;
    user.name = context.session->name;
    user.ownRoles = account->roles;
    user.mechanism = "Interface";
    user.isVouchedFor = true;
    return tell(std::move(user));
  }
  if (token.isNull() || token.is<AnonymousIdentityToken>()) return checkAnonymous(token, tell);
  const bool hasIdentity = context.session->identity != nullptr;
  const bool isNamed = token.is<UserNameIdentityToken>() && settings_.checkPassword && hasIdentity;
  const bool isCertified = token.is<X509IdentityToken>() && settings_.checkUserCertificate && hasIdentity;
  const bool isIssued = token.is<IssuedIdentityToken>() && settings_.checkToken && hasIdentity;
  if (!isNamed && !isCertified && !isIssued)
    return tell(Error{status::BadIdentityTokenRejected, "this server takes no users of this kind", {}});
  const std::string name = claimedName(token), origin = originOf(*context.session, *context.peer);
  auto& guard = core_.loginGuard;
  if (const double wait = guard.wait(name, origin, context.now); wait > 0)
    return tell(Error{
        status::BadUserAccessDenied, fmt::format("too many logins have failed: wait {:.0f} s", wait / 1000 + 0.5), {}});
  guard.begun(name, origin, context.now);
  const Tell guarded = [this, &guard, name, origin, tell](Result<User> user) {
    // Who came when too many were waiting has not guessed anything.
    if (user)
      guard.succeeded(name, origin, clock_.now());
    else if (user.code() == status::BadTooManyOperations)
      guard.abandoned(name, origin);
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
Result<std::string> Logins::decryptSecret(const ByteString& encrypted, const String& algorithm,
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

Result<User> Logins::checkIssuedToken(const IssuedIdentityToken& token, const Context& context) const {
  if (!token.policyId.empty() && token.policyId.view() != "token")
    return Error{status::BadIdentityTokenInvalid, "the user token policy is not offered here", {}};
  auto text = decryptSecret(token.tokenData, token.encryptionAlgorithm, context);
  if (!text) return text.error();
  return settings_.checkToken(*text);
}

void Logins::checkPassword(const UserNameIdentityToken& token, const Context& context, const Tell& tell) {
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
Result<User> Logins::checkUserCertificate(const X509IdentityToken& token, const SignatureData& signature,
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

}  // namespace zunth::server
