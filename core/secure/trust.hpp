#pragma once

#include "core/secure/certificate.hpp"

#include <algorithm>

namespace zunth::secure {

/// A revocation list of an issuer.
class RevocationList {
 public:
  /// From a file's octets, PEM or DER. BadCertificateInvalid.
  static ua::Result<RevocationList> fromFile(std::string_view octets);
  bool isOf(const Certificate& issuer) const;
  ua::ByteString der() const;
  bool revokes(const Certificate& certificate) const;
  /// Whether its issuer has not promised a newer one by now.
  bool isCurrent(ua::DateTime now) const;

 private:
  explicit RevocationList(std::shared_ptr<void> list) : list_(std::move(list)) {}
  std::shared_ptr<void> list_;
};

/// Whom an application trusts (Part 12, 7.8): certificates themselves, and issuers that vouch for others.
struct TrustList {
  std::vector<Certificate> trusted;
  std::vector<Certificate> issuers;  // only to complete chains
  std::vector<RevocationList> revocations;
};

/// What is expected of the certificate beside being sound and trusted.
struct Expected {
  ua::DateTime now;
  std::string host;            // the one that was connected to; empty to leave it out
  std::string applicationUri;  // as the application calls itself; empty to leave it out
  /// Faults that are overlooked: of time, host name, use, and unknown revocation, as the standard allows.
  std::vector<ua::StatusCode> tolerated = {};
  bool tolerates(ua::StatusCode code) const {
    return std::find(tolerated.begin(), tolerated.end(), code) != tolerated.end();
  }
};

/// Whether a host is one of those that a certificate names; addresses are compared, not how they are written.
bool matchesHost(const std::vector<std::string>& hosts, const std::string& host);

/// Checks a certificate in the order of Part 4, 6.1.3, each failure with its own code and words that say what to do:
/// BadCertificateInvalid, BadCertificateChainIncomplete, BadCertificatePolicyCheckFailed, BadCertificateUntrusted,
/// BadCertificateTimeInvalid, BadCertificateIssuerTimeInvalid, BadCertificateHostNameInvalid, BadCertificateUriInvalid,
/// BadCertificateUseNotAllowed, BadCertificateIssuerUseNotAllowed, BadCertificateRevocationUnknown,
/// BadCertificateIssuerRevocationUnknown, BadCertificateRevoked, BadCertificateIssuerRevoked.
/// `chain` is the certificate with what was sent after it.
ua::Result<void> validate(const ua::ByteString& chain, const TrustList& list, const Expected& expected);

}  // namespace zunth::secure
