#pragma once

#include "core/secure/trust.hpp"

#include <filesystem>

namespace zunth::admin {

/// An application's certificate and the certificates of others that it knows, in plain folders of DER and PEM files:
///   own/        certificate.der, key.pem
///   trusted/    whom it trusts; revocation lists lie beside
///   issuers/    who completes chains, without being trusted
///   rejected/   who was refused; the newest twenty
/// A file that is put there or taken away counts from the next connection on.
class TrustStore {
 public:
  explicit TrustStore(std::filesystem::path folder) : folder_(std::move(folder)) {}

  /// The identity in own/; a new one when there is none yet: its own key, self-signed for two years.
  ua::Result<secure::Identity> identity(const std::string& commonName, const std::string& applicationUri,
                                        const std::vector<std::string>& hosts) const;

  /// What lies in the folders now; files that are no certificates are passed over.
  secure::TrustList load() const;
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

  const std::filesystem::path& folder() const { return folder_; }

 private:
  std::filesystem::path folder_;
};

std::string_view nameOf(TrustStore::Kind kind);

}  // namespace zunth::admin
