#include "core/secure/trust.hpp"

#include "core/ua/letters.hpp"

#include <algorithm>
#include <memory>

#include <fmt/format.h>
#include <openssl/err.h>
#include <openssl/pem.h>
#include <openssl/x509v3.h>

namespace zunth::secure {

using namespace ua;

namespace {

constexpr int kLeastKeyBits = 2048;
constexpr std::size_t kLongestChain = 10;

bool isIssuedBy(const Certificate& certificate, const Certificate& issuer) {
  // By name and signature alone: whether it may issue anything is a check of its own, with its own code.
  const bool isIssued =
      X509_NAME_cmp(X509_get_subject_name(issuer.handle()), X509_get_issuer_name(certificate.handle())) == 0 &&
      X509_verify(certificate.handle(), issuer.publicKey()) == 1;
  ERR_clear_error();
  return isIssued;
}

/// The certificates that were sent, the application's own first.
Result<std::vector<Certificate>> sentChain(const ByteString& octets) {
  std::vector<Certificate> out;
  std::size_t at = 0;
  while (at < octets.size() && out.size() < kLongestChain) {
    auto one = Certificate::fromDer(ByteString(octets.data() + at, octets.size() - at));
    if (!one) return one.error();
    at += one->der().size();
    out.push_back(std::move(*one));
  }
  if (out.empty()) return Error{status::BadCertificateInvalid, "no certificate was sent", {}};
  return out;
}

/// "in 3 h", "2 days ago"
std::string distance(DateTime from, DateTime to) {
  const double seconds = static_cast<double>(to.ticks - from.ticks) / 1e7;
  const double s = std::abs(seconds);
  const std::string span = s < 7200      ? fmt::format("{:.0f} min", s / 60)
                           : s < 172'800 ? fmt::format("{:.0f} h", s / 3600)
                                         : fmt::format("{:.0f} days", s / 86'400);
  return seconds > 0 ? "in " + span : span + " ago";
}

Result<void> checkTime(const Certificate& certificate, DateTime now, bool isIssuer) {
  const StatusCode code = isIssuer ? status::BadCertificateIssuerTimeInvalid : status::BadCertificateTimeInvalid;
  if (now < certificate.validFrom())
    return Error{code,
                 fmt::format("the certificate of {} becomes valid {}: is a clock wrong?", certificate.subject(),
                             distance(now, certificate.validFrom())),
                 "compare the clocks of both machines"};
  if (now > certificate.validTo())
    return Error{
        code,
        fmt::format("the certificate of {} ran out {}", certificate.subject(), distance(now, certificate.validTo())),
        "its owner makes a new one"};
  return {};
}

/// Signed with a hash for which a second certificate can be made.
bool isWeaklySigned(const Certificate& certificate) {
  int digest = NID_undef;
  if (X509_get_signature_info(certificate.handle(), &digest, nullptr, nullptr, nullptr) != 1) ERR_clear_error();
  return digest == NID_md5 || digest == NID_md4 || digest == NID_md2 || digest == NID_sha1 || digest == NID_md5_sha1;
}

/// Keys, signatures and what a certificate demands of who reads it, of the whole path.
Result<void> checkPolicy(const std::vector<Certificate>& path) {
  for (std::size_t i = 0; i < path.size(); ++i) {
    const auto& certificate = path[i];
    if (certificate.keyKind() == KeyKind::Rsa && certificate.keyBits() < kLeastKeyBits)
      return Error{status::BadCertificatePolicyCheckFailed,
                   fmt::format("the key of {} has {} bits; {} are the least", certificate.subject(),
                               certificate.keyBits(), kLeastKeyBits),
                   {}};
    // What a root has signed itself says nothing: it is trusted as it is.
    if ((i == 0 || !certificate.isSelfSigned()) && isWeaklySigned(certificate))
      return Error{status::BadCertificatePolicyCheckFailed,
                   fmt::format("the certificate of {} is signed with a hash that is too weak", certificate.subject()),
                   "have it made anew, with SHA-256"};
    if (X509_get_extension_flags(certificate.handle()) & (EXFLAG_CRITICAL | EXFLAG_INVALID))
      return Error{status::BadCertificateInvalid,
                   fmt::format("the certificate of {} demands what is not known here", certificate.subject()),
                   {}};
  }
  return {};
}

/// "::1" and "0:0:0:0:0:0:0:1" are one host.
std::string canonical(const std::string& host) {
  std::unique_ptr<ASN1_OCTET_STRING, decltype(&ASN1_OCTET_STRING_free)> address(a2i_IPADDRESS(host.c_str()),
                                                                                &ASN1_OCTET_STRING_free);
  ERR_clear_error();
  if (!address) return host;
  return {reinterpret_cast<const char*>(ASN1_STRING_get0_data(address.get())),
          static_cast<std::size_t>(ASN1_STRING_length(address.get()))};
}

}  // namespace

bool matchesHost(const std::vector<std::string>& hosts, const std::string& host) {
  return std::ranges::any_of(hosts, [&](const std::string& known) {
    return isSameButCase(known, host) || canonical(known) == canonical(host);
  });
}

Result<RevocationList> RevocationList::fromFile(std::string_view octets) {
  X509_CRL* list = nullptr;
  if (octets.find("-----BEGIN") != std::string_view::npos) {
    BIO* bio = BIO_new_mem_buf(octets.data(), static_cast<int>(octets.size()));
    list = PEM_read_bio_X509_CRL(bio, nullptr, nullptr, nullptr);
    BIO_free(bio);
  } else {
    const auto* at = reinterpret_cast<const unsigned char*>(octets.data());
    list = d2i_X509_CRL(nullptr, &at, static_cast<long>(octets.size()));
  }
  ERR_clear_error();
  if (!list) return Error{status::BadCertificateInvalid, "there is no revocation list in it", {}};
  return RevocationList(std::shared_ptr<void>(list, [](void* at) { X509_CRL_free(static_cast<X509_CRL*>(at)); }));
}

ByteString RevocationList::der() const {
  unsigned char* octets = nullptr;
  const int size = i2d_X509_CRL(static_cast<X509_CRL*>(list_.get()), &octets);
  const ByteString out(octets, size > 0 ? static_cast<std::size_t>(size) : 0);
  OPENSSL_free(octets);
  return out;
}

bool RevocationList::isOf(const Certificate& issuer) const {
  auto* list = static_cast<X509_CRL*>(list_.get());
  const bool fits = X509_NAME_cmp(X509_CRL_get_issuer(list), X509_get_subject_name(issuer.handle())) == 0 &&
                    X509_CRL_verify(list, issuer.publicKey()) == 1;
  ERR_clear_error();
  return fits;
}

bool RevocationList::isCurrent(DateTime now) const {
  const ASN1_TIME* next = X509_CRL_get0_nextUpdate(static_cast<X509_CRL*>(list_.get()));
  if (!next) return true;
  time_t seconds = std::chrono::system_clock::to_time_t(
      std::chrono::time_point_cast<std::chrono::system_clock::duration>(now.time()));
  return X509_cmp_time(next, &seconds) >= 0;
}

bool RevocationList::revokes(const Certificate& certificate) const {
  X509_REVOKED* entry = nullptr;
  return X509_CRL_get0_by_cert(static_cast<X509_CRL*>(list_.get()), &entry, certificate.handle()) == 1;
}

Result<void> validate(const ByteString& chain, const TrustList& list, const Expected& expected) {
  // Structure
  auto sent = sentChain(chain);
  if (!sent) return sent.error();
  const Certificate& own = sent->front();

  // Chain, with its signatures
  std::vector<Certificate> path{own};
  auto isKnown = [](const std::vector<Certificate>& in, const Certificate& c) { return std::ranges::count(in, c) > 0; };
  while (!path.back().isSelfSigned() && path.size() < kLongestChain) {
    const Certificate* issuer = nullptr;
    for (const std::vector<Certificate>* source : {&list.trusted, &list.issuers, &std::as_const(*sent)})
      for (const auto& candidate : *source)
        if (!issuer && !isKnown(path, candidate) && isIssuedBy(path.back(), candidate)) issuer = &candidate;
    if (!issuer) break;
    path.push_back(*issuer);
  }
  const bool isComplete = path.back().isSelfSigned();
  if (!isComplete && !isKnown(list.trusted, own))
    return Error{status::BadCertificateChainIncomplete,
                 fmt::format("the issuer of {} is not known: {}", path.back().subject(), path.back().issuer()),
                 "put the issuer's certificate among the issuers"};

  // Policy
  if (auto fine = checkPolicy(path); !fine) return fine;

  // Trust: the certificate itself, or one that vouches for it
  if (std::ranges::none_of(path, [&](const Certificate& c) { return isKnown(list.trusted, c); }))
    return Error{status::BadCertificateUntrusted,
                 fmt::format("the certificate of {} is not trusted (SHA-256 {})", own.subject(), own.fingerprint()),
                 {}};

  // Time
  for (std::size_t i = 0; i < path.size(); ++i)
    if (auto fine = checkTime(path[i], expected.now, i > 0); !fine && !expected.tolerates(fine.code())) return fine;

  // Names
  if (!expected.host.empty() && !matchesHost(own.hosts(), expected.host) &&
      !expected.tolerates(status::BadCertificateHostNameInvalid))
    return Error{
        status::BadCertificateHostNameInvalid,
        fmt::format("the certificate is not for the host {}, but for {}", expected.host, fmt::join(own.hosts(), ", ")),
        "connect by one of these names, or have the certificate made anew"};
  if (!expected.applicationUri.empty() && own.applicationUri() != expected.applicationUri)
    return Error{status::BadCertificateUriInvalid,
                 fmt::format("the application calls itself {}, its certificate {}", expected.applicationUri,
                             own.applicationUri()),
                 "have the certificate made anew, or correct the application's URI"};

  // Usage
  const auto usage = X509_get_key_usage(own.handle()), extended = X509_get_extended_key_usage(own.handle());
  const bool signs = usage & KU_DIGITAL_SIGNATURE;
  const bool encrypts = own.keyKind() != KeyKind::Rsa || usage & (KU_DATA_ENCIPHERMENT | KU_KEY_ENCIPHERMENT);
  const bool isForPeers = extended == UINT32_MAX || extended & (XKU_SSL_SERVER | XKU_SSL_CLIENT | XKU_ANYEKU);
  if ((!signs || !encrypts || !isForPeers) && !expected.tolerates(status::BadCertificateUseNotAllowed))
    return Error{status::BadCertificateUseNotAllowed, "the certificate is not for signing and encrypting messages", {}};
  for (std::size_t i = 1; i < path.size(); ++i) {
    const long deepest = X509_get_pathlen(path[i].handle());  // of issuers below it; -1 for any
    const bool isTooDeep = deepest >= 0 && static_cast<std::size_t>(deepest) < i - 1;
    if ((!path[i].isAuthority() || isTooDeep) && !expected.tolerates(status::BadCertificateIssuerUseNotAllowed))
      return Error{status::BadCertificateIssuerUseNotAllowed,
                   fmt::format("{} may not issue {}", path[i].subject(),
                               isTooDeep ? "certificates of other issuers" : "certificates"),
                   {}};
  }

  // Revocation: of everything that somebody else vouches for
  for (std::size_t i = 0; i + 1 < path.size(); ++i) {
    // Every list of the issuer is asked: an old one beside a new one takes nothing back. One at least must be current.
    bool isCurrent = false, isRevoked = false;
    for (const auto& revocations : list.revocations) {
      if (!revocations.isOf(path[i + 1])) continue;
      isCurrent |= revocations.isCurrent(expected.now);
      isRevoked |= revocations.revokes(path[i]);
    }
    if (isRevoked)
      return Error{i ? status::BadCertificateIssuerRevoked : status::BadCertificateRevoked,
                   fmt::format("the certificate of {} was revoked", path[i].subject()),
                   {}};
    const auto unknown = i ? status::BadCertificateIssuerRevocationUnknown : status::BadCertificateRevocationUnknown;
    if (!isCurrent && !expected.tolerates(unknown))
      return Error{unknown, fmt::format("there is no current revocation list of {}", path[i + 1].subject()),
                   "put the issuer's newest revocation list beside its certificate"};
  }
  return {};
}

}  // namespace zunth::secure
