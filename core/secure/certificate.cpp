#include "core/secure/certificate.hpp"

#include <ctime>
#include <stdexcept>

#include <fmt/format.h>
#include <openssl/core_names.h>
#include <openssl/err.h>
#include <openssl/evp.h>
#include <openssl/pem.h>
#include <openssl/rand.h>
#include <openssl/rsa.h>
#include <openssl/x509v3.h>

namespace zunth::secure {

using namespace ua;

namespace {

constexpr const char *kCurveP256 = "prime256v1", *kCurveP384 = "secp384r1";

template <auto Free>
struct Deleter {
  template <class T>
  void operator()(T* at) const {
    Free(at);
  }
};
using Bio = std::unique_ptr<BIO, Deleter<BIO_free>>;

std::shared_ptr<EVP_PKEY> sharedKey(EVP_PKEY* key) { return {key, Deleter<EVP_PKEY_free>{}}; }
std::shared_ptr<X509> sharedX509(X509* x509) { return {x509, Deleter<X509_free>{}}; }

std::string textOf(BIO* bio) {
  char* data = nullptr;
  const long size = BIO_get_mem_data(bio, &data);
  return {data, static_cast<std::size_t>(size)};
}

std::string nameOf(const X509_NAME* name) {
  Bio bio(BIO_new(BIO_s_mem()));
  X509_NAME_print_ex(bio.get(), name, 0, XN_FLAG_ONELINE & ~ASN1_STRFLGS_ESC_MSB);
  return textOf(bio.get());
}

DateTime timeOf(const ASN1_TIME* time) {
  std::tm parts{};
  if (!time || ASN1_TIME_to_tm(time, &parts) != 1) return {};
  // Not by way of system_clock, which ends in 2262: a stranger may write any year.
  constexpr std::int64_t kFrom1601To1970 = 11'644'473'600, kTicksPerSecond = 10'000'000;
  return {(static_cast<std::int64_t>(::timegm(&parts)) + kFrom1601To1970) * kTicksPerSecond};
}

void setTime(ASN1_TIME* to, DateTime time) { ASN1_TIME_set(to, std::chrono::system_clock::to_time_t(time.time())); }

/// "127.0.0.1" of four octets, groups of sixteen.
std::string addressText(const ASN1_OCTET_STRING* address) {
  const unsigned char* data = ASN1_STRING_get0_data(address);
  if (ASN1_STRING_length(address) == 4) return fmt::format("{}.{}.{}.{}", data[0], data[1], data[2], data[3]);
  std::string out;
  for (int i = 0; i + 1 < ASN1_STRING_length(address); i += 2)
    out += fmt::format("{}{:x}", i ? ":" : "", data[i] << 8 | data[i + 1]);
  return out;
}

void addExtension(X509* x509, int nid, const std::string& value) {
  X509V3_CTX context;
  X509V3_set_ctx_nodb(&context);
  X509V3_set_ctx(&context, x509, x509, nullptr, nullptr, 0);
  std::unique_ptr<X509_EXTENSION, Deleter<X509_EXTENSION_free>> extension(
      X509V3_EXT_conf_nid(nullptr, &context, nid, value.c_str()));
  if (!extension) throw std::invalid_argument("a certificate can't say '" + value + "'");
  X509_add_ext(x509, extension.get(), -1);
}

bool isAddress(const std::string& host) {
  std::unique_ptr<ASN1_OCTET_STRING, Deleter<ASN1_OCTET_STRING_free>> parsed(a2i_IPADDRESS(host.c_str()));
  ERR_clear_error();
  return parsed != nullptr;
}

}  // namespace

namespace {

KeyKind kindOf(const EVP_PKEY* key) {
  if (EVP_PKEY_get_base_id(key) == EVP_PKEY_RSA) return KeyKind::Rsa;
  char curve[32] = "";
  if (EVP_PKEY_get_group_name(key, curve, sizeof curve, nullptr) != 1) ERR_clear_error();
  const std::string_view name = curve;
  return name == kCurveP256 ? KeyKind::NistP256 : name == kCurveP384 ? KeyKind::NistP384 : KeyKind::Other;
}

/// Keys that cost more to work with than anybody's real one does; they are turned away before they are used. Numbers of
/// RSA up to 8192 bits, with an exponent up to 2^32, as usual ones have 17 bits; curves only by their names.
bool isCostly(const EVP_PKEY* key) {
  constexpr int kMostBits = 8192, kMostExponentBits = 33;
  const int kind = EVP_PKEY_get_base_id(key);
  if (kind == EVP_PKEY_RSA) {
    BIGNUM* exponent = nullptr;
    const bool has = EVP_PKEY_get_bn_param(key, OSSL_PKEY_PARAM_RSA_E, &exponent) == 1;
    const bool isLarge = !has || BN_num_bits(exponent) > kMostExponentBits;
    BN_free(exponent);
    return isLarge || EVP_PKEY_get_bits(key) > kMostBits;
  }
  if (kind == EVP_PKEY_EC) {
    char curve[64] = "";
    return EVP_PKEY_get_group_name(key, curve, sizeof curve, nullptr) != 1;
  }
  return kind != EVP_PKEY_ED25519 && kind != EVP_PKEY_ED448;
}

/// Curves with longer numbers are signed with a longer hash (Part 7, 6.6).
const EVP_MD* digestFor(KeyKind kind) { return kind == KeyKind::NistP384 ? EVP_sha384() : EVP_sha256(); }

/// Keys on curves can't encrypt (Part 6, 6.2.2).
std::string usageOf(KeyKind kind, bool isSelfSigned) {
  return std::string("critical,digitalSignature,nonRepudiation") +
         (kind == KeyKind::Rsa ? ",keyEncipherment,dataEncipherment" : "") + (isSelfSigned ? ",keyCertSign" : "");
}

}  // namespace

KeyKind PrivateKey::kind() const { return kindOf(key_.get()); }

PrivateKey PrivateKey::generate(KeyKind kind) {
  if (kind == KeyKind::Rsa) return generate(2048);
  EVP_PKEY* key = EVP_EC_gen(kind == KeyKind::NistP384 ? kCurveP384 : kCurveP256);
  if (!key) throw std::runtime_error("no key could be made");
  return PrivateKey(sharedKey(key));
}

PrivateKey PrivateKey::generate(int bits) {
  EVP_PKEY* key = EVP_RSA_gen(static_cast<unsigned>(bits));
  if (!key) throw std::runtime_error("no key could be made");
  return PrivateKey(sharedKey(key));
}

Result<PrivateKey> PrivateKey::fromPem(std::string_view pem) {
  Bio bio(BIO_new_mem_buf(pem.data(), static_cast<int>(pem.size())));
  // No passphrase is asked for on the terminal.
  EVP_PKEY* key = PEM_read_bio_PrivateKey(
      bio.get(), nullptr, [](char*, int, int, void*) { return 0; }, nullptr);
  ERR_clear_error();
  if (!key || kindOf(key) == KeyKind::Other) {
    EVP_PKEY_free(key);
    return Error{status::BadCertificateInvalid,
                 "there is no RSA, NIST P-256 or NIST P-384 key in it, or it has a passphrase",
                 {}};
  }
  return PrivateKey(sharedKey(key));
}

std::string PrivateKey::pem() const {
  Bio bio(BIO_new(BIO_s_secmem()));
  PEM_write_bio_PKCS8PrivateKey(bio.get(), key_.get(), nullptr, nullptr, 0, nullptr, nullptr);
  return textOf(bio.get());
}

Result<Certificate> Certificate::of(std::shared_ptr<X509> x509) {
  auto facts = std::make_shared<Facts>();
  unsigned char* octets = nullptr;
  const int size = i2d_X509(x509.get(), &octets);
  if (size <= 0) return Error{status::BadCertificateInvalid, "the certificate can't be read", {}};
  facts->der = ByteString(octets, static_cast<std::size_t>(size));
  OPENSSL_free(octets);
  unsigned char digest[EVP_MAX_MD_SIZE];
  unsigned length = 0;
  X509_digest(x509.get(), EVP_sha1(), digest, &length);
  facts->thumbprint = ByteString(digest, length);
  X509_digest(x509.get(), EVP_sha256(), digest, &length);
  for (unsigned i = 0; i < length; ++i) facts->fingerprint += fmt::format("{}{:02X}", i ? ":" : "", digest[i]);
  facts->subject = nameOf(X509_get_subject_name(x509.get()));
  facts->issuer = nameOf(X509_get_issuer_name(x509.get()));
  facts->validFrom = timeOf(X509_get0_notBefore(x509.get()));
  facts->validTo = timeOf(X509_get0_notAfter(x509.get()));
  EVP_PKEY* key = X509_get0_pubkey(x509.get());
  if (!key) return Error{status::BadCertificateInvalid, "the certificate's key can't be read", {}};
  facts->keyKind = kindOf(key);
  facts->keyBits = EVP_PKEY_get_bits(key);
  if (isCostly(key))
    return Error{status::BadCertificateInvalid, "the certificate's key is of a kind or size that nobody needs", {}};
  facts->isSelfSigned = X509_check_issued(x509.get(), x509.get()) == X509_V_OK && X509_verify(x509.get(), key) == 1;
  facts->isAuthority = X509_check_ca(x509.get()) == 1;
  if (auto* names = static_cast<GENERAL_NAMES*>(X509_get_ext_d2i(x509.get(), NID_subject_alt_name, nullptr, nullptr))) {
    for (int i = 0; i < sk_GENERAL_NAME_num(names); ++i) {
      const GENERAL_NAME* name = sk_GENERAL_NAME_value(names, i);
      auto text = [](const ASN1_STRING* s) {
        return std::string(reinterpret_cast<const char*>(ASN1_STRING_get0_data(s)),
                           static_cast<std::size_t>(ASN1_STRING_length(s)));
      };
      if (name->type == GEN_URI && facts->applicationUri.empty())
        facts->applicationUri = text(name->d.uniformResourceIdentifier);
      else if (name->type == GEN_DNS)
        facts->hosts.push_back(text(name->d.dNSName));
      else if (name->type == GEN_IPADD)
        facts->hosts.push_back(addressText(name->d.iPAddress));
    }
    GENERAL_NAMES_free(names);
  }
  ERR_clear_error();
  facts->x509 = std::move(x509);
  return Certificate(std::move(facts));
}

Result<Certificate> Certificate::fromDer(const ByteString& der) {
  const auto* at = reinterpret_cast<const unsigned char*>(der.data());
  X509* x509 = der.empty() ? nullptr : d2i_X509(nullptr, &at, static_cast<long>(der.size()));
  ERR_clear_error();
  if (!x509) return Error{status::BadCertificateInvalid, "what was sent is no certificate", {}};
  return of(sharedX509(x509));
}

Result<Certificate> Certificate::fromFile(std::string_view octets) {
  if (octets.find("-----BEGIN") == std::string_view::npos) return fromDer(ByteString(octets.data(), octets.size()));
  Bio bio(BIO_new_mem_buf(octets.data(), static_cast<int>(octets.size())));
  X509* x509 = PEM_read_bio_X509(bio.get(), nullptr, nullptr, nullptr);
  ERR_clear_error();
  if (!x509) return Error{status::BadCertificateInvalid, "there is no certificate in it", {}};
  return of(sharedX509(x509));
}

Result<std::vector<Certificate>> Certificate::chainFromFile(std::string_view octets) {
  std::vector<Certificate> out;
  const bool isPem = octets.find("-----BEGIN") != std::string_view::npos;
  const Bio bio(BIO_new_mem_buf(octets.data(), static_cast<int>(octets.size())));
  while (X509* x509 =
             isPem ? PEM_read_bio_X509(bio.get(), nullptr, nullptr, nullptr) : d2i_X509_bio(bio.get(), nullptr)) {
    auto one = of(sharedX509(x509));
    if (!one) return one.error();
    out.push_back(std::move(*one));
  }
  ERR_clear_error();
  if (out.empty()) return Error{status::BadCertificateInvalid, "there is no certificate in it", {}};
  return out;
}

namespace {

void putName(X509_NAME* name, const Certificate::Wish& wish) {
  auto entry = [&](const char* field, const std::string& text) {
    if (!text.empty())
      X509_NAME_add_entry_by_txt(name, field, MBSTRING_UTF8, reinterpret_cast<const unsigned char*>(text.data()),
                                 static_cast<int>(text.size()), -1, 0);
  };
  entry("CN", wish.commonName);
  entry("O", wish.organization);
}

std::string namesOf(const Certificate::Wish& wish) {
  std::string names = "URI:" + wish.applicationUri;
  for (const auto& host : wish.hosts) names += (isAddress(host) ? ",IP:" : ",DNS:") + host;
  return names;
}

}  // namespace

std::string Certificate::signingRequest(const Wish& wish, const PrivateKey& key) {
  std::unique_ptr<X509_REQ, Deleter<X509_REQ_free>> request(X509_REQ_new());
  X509_REQ_set_pubkey(request.get(), key.handle());
  putName(X509_REQ_get_subject_name(request.get()), wish);
  STACK_OF(X509_EXTENSION)* extensions = sk_X509_EXTENSION_new_null();
  for (const auto& [kind, value] : {std::pair<int, std::string>{NID_key_usage, usageOf(key.kind(), false)},
                                    std::pair<int, std::string>{NID_ext_key_usage, "serverAuth,clientAuth"},
                                    std::pair<int, std::string>{NID_subject_alt_name, namesOf(wish)}})
    if (X509_EXTENSION* extension = X509V3_EXT_conf_nid(nullptr, nullptr, kind, value.c_str()))
      sk_X509_EXTENSION_push(extensions, extension);
  X509_REQ_add_extensions(request.get(), extensions);
  sk_X509_EXTENSION_pop_free(extensions, X509_EXTENSION_free);
  if (X509_REQ_sign(request.get(), key.handle(), digestFor(key.kind())) == 0)
    throw std::runtime_error("a signing request can't be signed");
  unsigned char* der = nullptr;
  const int size = i2d_X509_REQ(request.get(), &der);
  std::string octets(reinterpret_cast<const char*>(der), size > 0 ? static_cast<std::size_t>(size) : 0);
  OPENSSL_free(der);
  return octets;
}

bool Certificate::fits(const PrivateKey& key) const {
  const bool same = EVP_PKEY_eq(publicKey(), key.handle()) == 1;
  ERR_clear_error();
  return same;
}

Certificate Certificate::selfSigned(const Wish& wish, const PrivateKey& key) {
  auto x509 = sharedX509(X509_new());
  X509_set_version(x509.get(), X509_VERSION_3);
  unsigned char serial[16];
  if (RAND_bytes(serial, sizeof serial) != 1) throw std::runtime_error("the system gives no random numbers");
  serial[0] &= 0x7F;
  std::unique_ptr<BIGNUM, Deleter<BN_free>> number(BN_bin2bn(serial, sizeof serial, nullptr));
  BN_to_ASN1_INTEGER(number.get(), X509_get_serialNumber(x509.get()));
  setTime(X509_getm_notBefore(x509.get()), wish.validFrom);
  setTime(X509_getm_notAfter(x509.get()), wish.validTo);
  X509_set_pubkey(x509.get(), key.handle());
  X509_NAME* name = X509_get_subject_name(x509.get());
  putName(name, wish);
  X509_set_issuer_name(x509.get(), name);
  addExtension(x509.get(), NID_basic_constraints, "critical,CA:FALSE");
  addExtension(x509.get(), NID_key_usage, usageOf(key.kind(), true));
  addExtension(x509.get(), NID_ext_key_usage, "serverAuth,clientAuth");
  addExtension(x509.get(), NID_subject_alt_name, namesOf(wish));
  addExtension(x509.get(), NID_subject_key_identifier, "hash");
  addExtension(x509.get(), NID_authority_key_identifier, "keyid:always");
  if (X509_sign(x509.get(), key.handle(), digestFor(key.kind())) == 0)
    throw std::runtime_error("a certificate can't be signed");
  return *of(std::move(x509));
}

ByteString Identity::chain() const {
  if (issuers.empty()) return certificate.der();
  const std::string octets = std::string(certificate.der().view()) + std::string(issuers.view());
  return ByteString(octets.data(), octets.size());
}

std::shared_ptr<const Identity> Identities::of(KeyKind kind) const {
  for (const auto& identity : all_)
    if (identity->key.kind() == kind) return identity;
  return nullptr;
}

std::string Certificate::thumbprintText() const {
  std::string out;
  for (const char octet : thumbprint().view()) out += fmt::format("{:02X}", static_cast<unsigned char>(octet));
  return out;
}

std::string Certificate::pem() const {
  Bio bio(BIO_new(BIO_s_mem()));
  PEM_write_bio_X509(bio.get(), facts_->x509.get());
  return textOf(bio.get());
}

evp_pkey_st* Certificate::publicKey() const { return X509_get0_pubkey(facts_->x509.get()); }

}  // namespace zunth::secure
