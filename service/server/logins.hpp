#pragma once

#include "service/server/core.hpp"

namespace zunth::server {

/// Finds out who a session's user is, by the identity token that they show (Part 4, 7.41).
class Logins : Service {
 public:
  explicit Logins(Core& core) : Service(core) {}

  using Tell = std::function<void(ua::Result<User>)>;
  /// Told now or later. BadIdentityTokenInvalid, BadIdentityTokenRejected, BadUserSignatureInvalid,
  /// BadUserAccessDenied.
  void check(const ua::ActivateSessionRequest& request, const Context& context, const Tell& tell);

 private:
  void checkAnonymous(const ua::ExtensionObject& token, const Tell& tell) const;
  void checkPassword(const ua::UserNameIdentityToken& token, const Context&, const Tell& tell);
  ua::Result<std::string> decryptSecret(const ua::ByteString& encrypted, const ua::String& algorithm,
                                        const Context&) const;
  ua::Result<User> checkIssuedToken(const ua::IssuedIdentityToken& token, const Context&) const;
  ua::Result<User> checkUserCertificate(const ua::X509IdentityToken& token, const ua::SignatureData& signature,
                                        const Context&) const;
};

/// Whether the signature is over what the server gave last, by this certificate's key. Part 4, 5.6.3: over the server's
/// own certificate, without its issuers; some sign what they were sent.
bool signsSession(const secure::Policy& policy, const secure::Certificate& signer, const ua::SignatureData& signature,
                  const Session& session);

}  // namespace zunth::server
