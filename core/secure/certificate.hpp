#pragma once

#include "core/secure/policy.hpp"
#include "core/ua/basic_types.hpp"
#include "core/ua/bytes.hpp"

#include <memory>
#include <optional>
#include <string>
#include <vector>

struct evp_pkey_st;
struct x509_st;

namespace zunth::secure {

/// A private key: RSA, or one of the curves that policies use. Its octets are wiped when the last copy goes.
class PrivateKey {
 public:
  static PrivateKey generate(int bits = 2048);
  /// An RSA key of 2048 bits, or one on the curve.
  static PrivateKey generate(KeyKind kind);
  /// BadCertificateInvalid for what is no key.
  static ua::Result<PrivateKey> fromPem(std::string_view pem);
  std::string pem() const;
  KeyKind kind() const;
  evp_pkey_st* handle() const { return key_.get(); }

 private:
  explicit PrivateKey(std::shared_ptr<evp_pkey_st> key) : key_(std::move(key)) {}
  std::shared_ptr<evp_pkey_st> key_;
};

/// An application instance certificate (Part 6, 6.2.2), read from its DER octets; immutable and shared.
class Certificate {
 public:
  /// The first certificate of `der`, which may go on with the rest of its chain. BadCertificateInvalid.
  static ua::Result<Certificate> fromDer(const ua::ByteString& der);
  /// From a file's octets, PEM or DER.
  static ua::Result<Certificate> fromFile(std::string_view octets);
  /// All of a file's certificates in their order, at least one; with what isn't one between them passed over.
  static ua::Result<std::vector<Certificate>> chainFromFile(std::string_view octets);

  struct Wish {
    std::string commonName, organization;
    std::string applicationUri;
    std::vector<std::string> hosts;  // names and addresses
    ua::DateTime validFrom, validTo;
  };
  /// Signed by its own key, with the key usages of Part 6.
  static Certificate selfSigned(const Wish& wish, const PrivateKey& key);

  /// A request to an authority to sign a certificate as wished (PKCS #10, DER).
  static std::string signingRequest(const Wish& wish, const PrivateKey& key);
  /// Whether it is for this key.
  bool fits(const PrivateKey& key) const;

  /// This certificate alone, without what followed it.
  const ua::ByteString& der() const { return facts_->der; }
  std::string pem() const;
  /// SHA-1 of the octets, as messages name certificates; 20 octets.
  const ua::ByteString& thumbprint() const { return facts_->thumbprint; }
  /// The same in upper-case hexadecimal, as role rules name certificates (Part 18, 4.4.4).
  std::string thumbprintText() const;
  /// SHA-256 of the octets in hexadecimal pairs, as people compare them: "3F:A0:...".
  const std::string& fingerprint() const { return facts_->fingerprint; }
  const std::string& subject() const { return facts_->subject; }
  const std::string& issuer() const { return facts_->issuer; }
  ua::DateTime validFrom() const { return facts_->validFrom; }
  ua::DateTime validTo() const { return facts_->validTo; }
  /// The URI in the subject's alternative names; empty when there is none.
  const std::string& applicationUri() const { return facts_->applicationUri; }
  const std::vector<std::string>& hosts() const { return facts_->hosts; }
  KeyKind keyKind() const { return facts_->keyKind; }
  int keyBits() const { return facts_->keyBits; }
  bool isSelfSigned() const { return facts_->isSelfSigned; }
  bool isAuthority() const { return facts_->isAuthority; }
  x509_st* handle() const { return facts_->x509.get(); }
  evp_pkey_st* publicKey() const;

  bool operator==(const Certificate& other) const { return der().view() == other.der().view(); }

 private:
  struct Facts {
    std::shared_ptr<x509_st> x509;
    ua::ByteString der, thumbprint;
    std::string fingerprint, subject, issuer, applicationUri;
    std::vector<std::string> hosts;
    ua::DateTime validFrom, validTo;
    KeyKind keyKind = KeyKind::Other;
    int keyBits = 0;
    bool isSelfSigned = false, isAuthority = false;
  };
  explicit Certificate(std::shared_ptr<const Facts> facts) : facts_(std::move(facts)) {}
  static ua::Result<Certificate> of(std::shared_ptr<x509_st> x509);
  std::shared_ptr<const Facts> facts_;
};

/// Who an application is: its certificate and the key to it.
struct Identity {
  Certificate certificate;
  PrivateKey key;
  ua::ByteString issuers = {};  // DER one after the other, for those who don't have them; empty for none

  /// What others are shown: the certificate with its issuers behind it (Part 6, 6.2.6).
  ua::ByteString chain() const;
};

/// An application's identities, one for each kind of key that policies need.
class Identities {
 public:
  Identities() = default;
  /// Only this one. Implicit, as most applications have just one.
  Identities(std::shared_ptr<const Identity> only) { add(std::move(only)); }
  void add(std::shared_ptr<const Identity> identity) {
    if (identity) all_.push_back(std::move(identity));
  }
  /// Null when there is none for this kind.
  std::shared_ptr<const Identity> of(KeyKind kind) const;
  /// The one for RSA, which an unsecured channel and TLS go by, too.
  std::shared_ptr<const Identity> main() const { return of(KeyKind::Rsa); }
  explicit operator bool() const { return main() != nullptr; }

 private:
  std::vector<std::shared_ptr<const Identity>> all_;
};

}  // namespace zunth::secure
