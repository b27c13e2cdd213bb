#pragma once

#include "core/secure/trust.hpp"

#include <functional>
#include <map>
#include <vector>

#include "tests/keys.hpp"
#include <openssl/pem.h>
#include <openssl/x509v3.h>

namespace zunth::test {

/// A certificate authority for tests: issues certificates that are sound but for what a test wants wrong with them.
class Authority {
 public:
  struct Wish {
    std::string name = "Fernhollow device";
    std::string uri = "urn:fernhollow.example:device";
    std::string hosts = "DNS:localhost,IP:127.0.0.1";
    std::string usage = "critical,digitalSignature,nonRepudiation,keyEncipherment,dataEncipherment";
    std::string constraints = "critical,CA:FALSE";
    std::string extended = "serverAuth,clientAuth";
    const EVP_MD* (*digest)() = EVP_sha256;
    long validFrom = -86'400, validTo = 30 * 86'400;  // s from now
    int bits = 2048;
  };

  explicit Authority(Wish wish = root(), const Authority* issuer = nullptr)
      : identity_(issuer ? issuer->issue(wish) : makeSelf(wish)) {}

  static Wish root() {
    Wish wish;
    wish.name = "Fernhollow authority";
    wish.usage = "critical,keyCertSign,cRLSign";
    wish.constraints = "critical,CA:TRUE";
    return wish;
  }
  const secure::Certificate& certificate() const { return identity_.certificate; }

  secure::Identity issue(const Wish& wish) const {
    const auto key = keyOf(wish.bits);
    return {make(wish, key, identity_.certificate.handle(), identity_.key), key};
  }
  /// What it makes of a signing request.
  secure::Certificate sign(X509_REQ* request) const {
    X509* x509 = X509_new();
    X509_set_version(x509, 2);
    ASN1_INTEGER_set(X509_get_serialNumber(x509), 7);
    X509_gmtime_adj(X509_getm_notBefore(x509), -3600);
    X509_gmtime_adj(X509_getm_notAfter(x509), 86'400);
    X509_set_pubkey(x509, X509_REQ_get0_pubkey(request));
    X509_set_subject_name(x509, X509_REQ_get_subject_name(request));
    X509_set_issuer_name(x509, X509_get_subject_name(identity_.certificate.handle()));
    STACK_OF(X509_EXTENSION)* extensions = X509_REQ_get_extensions(request);
    for (int i = 0; i < sk_X509_EXTENSION_num(extensions); ++i)
      X509_add_ext(x509, sk_X509_EXTENSION_value(extensions, i), -1);
    sk_X509_EXTENSION_pop_free(extensions, X509_EXTENSION_free);
    X509_sign(x509, identity_.key.handle(), EVP_sha256());
    return taken(x509);
  }
  static secure::Identity self(const Wish& wish) { return makeSelf(wish); }

  /// Its revocation list with these certificates on it.
  secure::RevocationList revoke(const std::vector<secure::Certificate>& gone, int daysToNext = 30) const {
    X509_CRL* list = X509_CRL_new();
    X509_CRL_set_version(list, 1);
    X509_CRL_set_issuer_name(list, X509_get_subject_name(identity_.certificate.handle()));
    ASN1_TIME* now = ASN1_TIME_adj(nullptr, time(nullptr), 0, -60);
    X509_CRL_set1_lastUpdate(list, now);
    ASN1_TIME* next = ASN1_TIME_adj(nullptr, time(nullptr), daysToNext, 0);
    X509_CRL_set1_nextUpdate(list, next);
    for (const auto& certificate : gone) {
      X509_REVOKED* entry = X509_REVOKED_new();
      X509_REVOKED_set_serialNumber(entry, X509_get_serialNumber(certificate.handle()));
      X509_REVOKED_set_revocationDate(entry, now);
      X509_CRL_add0_revoked(list, entry);
    }
    X509_CRL_sort(list);
    X509_CRL_sign(list, identity_.key.handle(), EVP_sha256());
    BIO* bio = BIO_new(BIO_s_mem());
    PEM_write_bio_X509_CRL(bio, list);
    char* text = nullptr;
    const long size = BIO_get_mem_data(bio, &text);
    auto made = secure::RevocationList::fromFile(std::string_view(text, static_cast<std::size_t>(size)));
    BIO_free(bio);
    ASN1_TIME_free(now);
    ASN1_TIME_free(next);
    X509_CRL_free(list);
    return *made;
  }

 private:
  /// A key of that size. Making them takes its time, so there are a few that go round: an issuer's is not its
  /// certificates'.
  static secure::PrivateKey keyOf(int bits) {
    constexpr std::size_t kKeys = 5;
    static std::map<int, std::pair<std::vector<secure::PrivateKey>, std::size_t>> made;
    auto& [keys, next] = made[bits];
    if (keys.size() < kKeys) keys.push_back(rsaKey("authority " + std::to_string(keys.size()), bits));
    return keys[next++ % kKeys];
  }
  static secure::Identity makeSelf(const Wish& wish) {
    const auto key = keyOf(wish.bits);
    return {make(wish, key, nullptr, key), key};
  }
  static secure::Certificate make(const Wish& wish, const secure::PrivateKey& key, X509* issuer,
                                  const secure::PrivateKey& issuerKey) {
    static long serial = 1000;
    X509* x509 = X509_new();
    X509_set_version(x509, 2);
    ASN1_INTEGER_set(X509_get_serialNumber(x509), ++serial);
    X509_gmtime_adj(X509_getm_notBefore(x509), wish.validFrom);
    X509_gmtime_adj(X509_getm_notAfter(x509), wish.validTo);
    X509_set_pubkey(x509, key.handle());
    X509_NAME_add_entry_by_txt(X509_get_subject_name(x509), "CN", MBSTRING_UTF8,
                               reinterpret_cast<const unsigned char*>(wish.name.c_str()), -1, -1, 0);
    X509_set_issuer_name(x509, X509_get_subject_name(issuer ? issuer : x509));
    X509V3_CTX context;
    X509V3_set_ctx_nodb(&context);
    X509V3_set_ctx(&context, issuer ? issuer : x509, x509, nullptr, nullptr, 0);
    const std::string names = "URI:" + wish.uri + (wish.hosts.empty() ? "" : "," + wish.hosts);
    for (const auto& [kind, value] : {std::pair<int, std::string>{NID_basic_constraints, wish.constraints},
                                      std::pair<int, std::string>{NID_key_usage, wish.usage},
                                      std::pair<int, std::string>{NID_ext_key_usage, wish.extended},
                                      std::pair<int, std::string>{NID_subject_alt_name, names}}) {
      X509_EXTENSION* extension = X509V3_EXT_conf_nid(nullptr, &context, kind, value.c_str());
      X509_add_ext(x509, extension, -1);
      X509_EXTENSION_free(extension);
    }
    X509_sign(x509, issuerKey.handle(), wish.digest());
    return taken(x509);
  }
  static secure::Certificate taken(X509* x509) {
    unsigned char* der = nullptr;
    const int size = i2d_X509(x509, &der);
    auto made = secure::Certificate::fromDer(ua::ByteString(der, static_cast<std::size_t>(size)));
    OPENSSL_free(der);
    X509_free(x509);
    return *made;
  }

  secure::Identity identity_;
};

}  // namespace zunth::test
