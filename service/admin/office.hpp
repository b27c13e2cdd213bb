#pragma once

#include "service/admin/control.hpp"
#include "service/admin/trust_store.hpp"
#include "service/admin/user_store.hpp"
#include "service/server/audit_record.hpp"

namespace zunth::admin {

/// What an administrator may see and change at a site beside its model, once for all ways to it: whom it trusts, who
/// may log in, what it shows as its own certificate, who did what. Each verb acts, and has recorded who did what with
/// what outcome. Calls one at a time, on any thread; those with keys take their time.
class Office {
 public:
  using Record = std::function<void(server::AuditRecord)>;
  Office(const std::filesystem::path& site, Record record)
      : trust_(site / "state/trust"),
        users_(site / "state/users.yaml"),
        auditFolder_(site / "state/audit"),
        record_(std::move(record)) {}

  ua::Result<void> trust(const Actor& actor, const secure::Certificate& certificate);
  /// By the whole fingerprint; BadNotFound.
  ua::Result<void> distrust(const Actor& actor, const std::string& fingerprint);
  /// Somebody has looked through the list of trusted certificates.
  ua::Result<void> reviewTrust(const Actor& actor);
  ua::Result<void> awaitContact(const Actor& actor, const TrustStore::FirstContact& window);

  enum class UserChange { Add, Password, Roles, Disable, Enable, Remove };
  /// What of `wanted` counts depends on the change. BadEntryExists, BadNotFound.
  ua::Result<void> changeUser(const Actor& actor, UserChange change, const std::string& name,
                              const UserStore::User& wanted);

  ua::Result<secure::Certificate> renew(const Actor& actor, const secure::Certificate::Wish& wish,
                                        secure::KeyKind kind);
  /// The request, PKCS #10 in DER.
  ua::Result<std::string> request(const Actor& actor, const secure::Certificate::Wish& wish, bool newKey,
                                  secure::KeyKind kind);
  ua::Result<secure::Certificate> import(const Actor& actor, std::string_view certificate, std::string_view keyPem);

  /// One of these as the control door is asked for it: {"verb": "trust", "certificate": base64} and so on.
  ua::Result<Json> perform(const Actor& actor, const Json& asked);
  static const std::vector<std::string>& verbs();

 private:
  template <class Outcome>
  Outcome recorded(const char* what, const Actor& actor, Outcome outcome, std::string about);

  ua::Result<Json> listCertificates() const;
  ua::Result<Json> listUsers() const;
  ua::Result<Json> listAudit(const Json& asked) const;

  TrustStore trust_;
  UserStore users_;
  std::filesystem::path auditFolder_;
  Record record_;
};

/// Has it done by the service of the site, or here where nobody serves it: with the same outcome, and the same line in
/// the site's audit log. BadTimeout, or what the verb is refused with.
ua::Result<Json> administer(const std::filesystem::path& site, const Json& asked, ua::Duration patience);

Json jsonOf(const secure::Certificate::Wish& wish);

}  // namespace zunth::admin
