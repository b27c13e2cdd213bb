#include "core/secure/policy.hpp"

#include <algorithm>
#include <array>

namespace zunth::secure {

namespace {

constexpr std::string_view kPkcs1Sha256 = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256";
constexpr std::string_view kPssSha256 = "http://opcfoundation.org/UA/security/rsa-pss-sha2-256";
constexpr std::string_view kEcdsaSha256 = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256";
constexpr std::string_view kEcdsaSha384 = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha384";
constexpr std::string_view kOaepSha1 = "http://www.w3.org/2001/04/xmlenc#rsa-oaep";
constexpr std::string_view kOaepSha256 = "http://opcfoundation.org/UA/security/rsa-oaep-sha2-256";

// Those with RSA keys first: theirs is the certificate that everybody has, and one is enough to be trusted.
constexpr std::array<Policy, 5> kPolicies{{
    {"Aes256_Sha256_RsaPss", "http://opcfoundation.org/UA/SecurityPolicy#Aes256_Sha256_RsaPss",
     Policy::Signature::PssSha256, Policy::Encryption::OaepSha256, kPssSha256, kOaepSha256, 32},
    {"Aes128_Sha256_RsaOaep", "http://opcfoundation.org/UA/SecurityPolicy#Aes128_Sha256_RsaOaep",
     Policy::Signature::Pkcs1Sha256, Policy::Encryption::OaepSha1, kPkcs1Sha256, kOaepSha1, 16},
    {"Basic256Sha256", "http://opcfoundation.org/UA/SecurityPolicy#Basic256Sha256", Policy::Signature::Pkcs1Sha256,
     Policy::Encryption::OaepSha1, kPkcs1Sha256, kOaepSha1, 32},
    {"ECC_nistP384", "http://opcfoundation.org/UA/SecurityPolicy#ECC_nistP384", Policy::Signature::Ecdsa,
     Policy::Encryption::None, kEcdsaSha384, "", 32, KeyKind::NistP384, Policy::Hash::Sha384, 48, 48, 96},
    {"ECC_nistP256", "http://opcfoundation.org/UA/SecurityPolicy#ECC_nistP256", Policy::Signature::Ecdsa,
     Policy::Encryption::None, kEcdsaSha256, "", 16, KeyKind::NistP256, Policy::Hash::Sha256, 32, 32, 64},
}};

struct KeyName {
  KeyKind kind;
  std::string_view name, file;
};
constexpr std::array<KeyName, 3> kKeyNames{{{KeyKind::Rsa, "RSA", "rsa"},
                                            {KeyKind::NistP256, "NIST P-256", "nistP256"},
                                            {KeyKind::NistP384, "NIST P-384", "nistP384"}}};

}  // namespace

std::string_view nameOf(KeyKind kind) {
  const auto found = std::ranges::find(kKeyNames, kind, &KeyName::kind);
  return found == kKeyNames.end() ? "another kind of key" : found->name;
}

KeyKind keyKindNamed(std::string_view name) {
  const auto found = std::ranges::find(kKeyNames, name, &KeyName::file);
  return found == kKeyNames.end() ? KeyKind::Other : found->kind;
}

std::string_view fileNameOf(KeyKind kind) {
  const auto found = std::ranges::find(kKeyNames, kind, &KeyName::kind);
  return found == kKeyNames.end() ? "" : found->file;
}

std::span<const Policy> policies() { return kPolicies; }

const Policy* policyOf(std::string_view uri) {
  const auto found = std::ranges::find(kPolicies, uri, &Policy::uri);
  return found == kPolicies.end() ? nullptr : &*found;
}

const Policy* policyNamed(std::string_view name) {
  const auto found = std::ranges::find(kPolicies, name, &Policy::name);
  return found == kPolicies.end() ? nullptr : &*found;
}

const Policy* policyFor(KeyKind kind) {
  if (kind == KeyKind::Rsa) return policyNamed("Basic256Sha256");
  const auto found = std::ranges::find(kPolicies, kind, &Policy::key);
  return found == kPolicies.end() ? nullptr : &*found;
}

}  // namespace zunth::secure
