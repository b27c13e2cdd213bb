#pragma once

#include "core/secure/trust.hpp"
#include "core/ua/generated/structures.hpp"

#include <array>
#include <filesystem>
#include <memory>
#include <mutex>

namespace zunth::admin {

/// An application's certificate and the certificates of others that it knows, in plain folders of DER and PEM files:
///   own/        certificate.der, key.pem; chain.der with its issuers, where there are any; in nistP256/ and nistP384/
///               the same for policies with curves
///   trusted/    whom it trusts; revocation lists lie beside
///   issuers/    who completes chains, without being trusted
///   rejected/   who was refused; the newest twenty
///   users/      certificates that users log in with, or their issuers
///   token-issuers/   certificates of those whose tokens are believed
/// A file that is put there or taken away counts from the next connection on.
class TrustStore {
 public:
  explicit TrustStore(std::filesystem::path folder) : folder_(std::move(folder)) {}

  /// The identity in own/ for this kind of key; a new one when there is none yet: its own key, self-signed for two
  /// years.
  ua::Result<secure::Identity> identity(const std::string& commonName, const std::string& applicationUri,
                                        const std::vector<std::string>& hosts,
                                        secure::KeyKind kind = secure::KeyKind::Rsa) const;

  /// Those of all kinds, each made when it isn't there yet.
  ua::Result<secure::Identities> identities(const std::string& commonName, const std::string& applicationUri,
                                            const std::vector<std::string>& hosts) const;
  static constexpr std::array kKinds{secure::KeyKind::Rsa, secure::KeyKind::NistP256, secure::KeyKind::NistP384};

  /// What lies in the folders now; files that are no certificates are passed over.
  secure::TrustList load() const;
  /// The same, read again only when a file has come, gone or changed. From any thread.
  std::shared_ptr<const secure::TrustList> current() const;
  /// Whose certificates users may log in with.
  secure::TrustList loadUsers() const;
  /// Whose tokens are believed: the certificates in token-issuers/.
  std::vector<secure::Certificate> loadTokenIssuers() const;

  /// A window in which one client that isn't known yet is taken at its first contact.
  struct FirstContact {
    ua::DateTime until;
    std::string applicationUri;  // of the one that is awaited; empty for whoever comes first
  };
  std::optional<FirstContact> firstContact() const;
  ua::Result<void> openFirstContact(const FirstContact& window) const;
  void endFirstContact() const;

  /// Keeps a refused certificate for someone to look at.
  void reject(const secure::Certificate& certificate) const;

  enum class Kind { Trusted, Issuer, Rejected };
  struct Entry {
    Kind kind;
    secure::Certificate certificate;
    std::filesystem::path file;
  };
  std::vector<Entry> entries() const;
  /// The entries whose fingerprint begins or whose subject or URI goes on with `words`.
  std::vector<Entry> find(const std::string& words) const;
  /// Writes it to trusted/ and out of rejected/.
  ua::Result<void> trust(const secure::Certificate& certificate) const;
  ua::Result<void> remove(const Entry& entry) const;

  /// The lists as administrators push and pull them (Part 12, 7.8.2), those that `masks` names.
  ua::TrustListDataType lists(std::uint32_t masks) const;
  /// Puts the lists that it specifies in the place of what is there; all of them or, when a part of one is no
  /// certificate or revocation list (BadCertificateInvalid), none.
  ua::Result<void> replace(const ua::TrustListDataType& lists) const;
  /// When the list of trusted certificates was last changed, or looked through.
  ua::DateTime updated() const;
  /// Says that it was looked through just now.
  ua::Result<void> review() const;
  /// Adds a certificate to trusted/ or issuers/.
  ua::Result<void> add(const secure::Certificate& certificate, Kind kind) const;

  const std::filesystem::path& folder() const { return folder_; }
  std::filesystem::path ownCertificateFile(secure::KeyKind kind = secure::KeyKind::Rsa) const {
    return ownFolder(kind) / "certificate.der";
  }

  /// Makes the identity in own/ anew: another key, self-signed as wished. The one before is kept as *.old.
  ua::Result<secure::Identity> renew(const secure::Certificate::Wish& wish,
                                     secure::KeyKind kind = secure::KeyKind::Rsa) const;
  /// A signing request (PKCS #10, DER) for the key in own/; with `newKey` for a new one, which waits beside it until
  /// its certificate is imported.
  ua::Result<std::string> signingRequest(const secure::Certificate::Wish& wish, bool newKey,
                                         secure::KeyKind kind = secure::KeyKind::Rsa) const;
  /// Takes a certificate that an authority made for the key in own/, or for the one that waits; or for `keyPem`, when
  /// that is given. The certificates behind it are its issuers and are shown together with it.
  /// BadCertificateInvalid when it fits none of them.
  ua::Result<secure::Certificate> import(std::string_view certificate, std::string_view keyPem = {}) const;
  /// What import() would say, without doing it.
  ua::Result<void> checkImport(std::string_view certificate, std::string_view keyPem = {}) const;

 private:
  std::filesystem::path ownFolder(secure::KeyKind kind) const;
  ua::Result<secure::PrivateKey> keyFor(const secure::Certificate& certificate, std::string_view keyPem) const;
  struct Cache {
    std::mutex guard;
    std::string seen;
    std::shared_ptr<const secure::TrustList> list;
  };
  std::filesystem::path folder_;
  std::shared_ptr<Cache> cache_ = std::make_shared<Cache>();
};

std::string_view nameOf(TrustStore::Kind kind);

}  // namespace zunth::admin
