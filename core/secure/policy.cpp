#include "core/secure/policy.hpp"

#include <algorithm>
#include <array>

namespace zunth::secure {

namespace {

constexpr std::string_view kPkcs1Sha256 = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256";
constexpr std::string_view kPssSha256 = "http://opcfoundation.org/UA/security/rsa-pss-sha2-256";
constexpr std::string_view kOaepSha1 = "http://www.w3.org/2001/04/xmlenc#rsa-oaep";
constexpr std::string_view kOaepSha256 = "http://opcfoundation.org/UA/security/rsa-oaep-sha2-256";

constexpr std::array<Policy, 3> kPolicies{{
    {"Aes256_Sha256_RsaPss", "http://opcfoundation.org/UA/SecurityPolicy#Aes256_Sha256_RsaPss",
     Policy::Signature::PssSha256, Policy::Encryption::OaepSha256, kPssSha256, kOaepSha256, 32},
    {"Aes128_Sha256_RsaOaep", "http://opcfoundation.org/UA/SecurityPolicy#Aes128_Sha256_RsaOaep",
     Policy::Signature::Pkcs1Sha256, Policy::Encryption::OaepSha1, kPkcs1Sha256, kOaepSha1, 16},
    {"Basic256Sha256", "http://opcfoundation.org/UA/SecurityPolicy#Basic256Sha256", Policy::Signature::Pkcs1Sha256,
     Policy::Encryption::OaepSha1, kPkcs1Sha256, kOaepSha1, 32},
}};

}  // namespace

std::span<const Policy> policies() { return kPolicies; }

const Policy* policyOf(std::string_view uri) {
  const auto found = std::ranges::find(kPolicies, uri, &Policy::uri);
  return found == kPolicies.end() ? nullptr : &*found;
}

const Policy* policyNamed(std::string_view name) {
  const auto found = std::ranges::find(kPolicies, name, &Policy::name);
  return found == kPolicies.end() ? nullptr : &*found;
}

}  // namespace zunth::secure
