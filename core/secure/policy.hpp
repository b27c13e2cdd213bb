#pragma once

#include <cstddef>
#include <span>
#include <string_view>

namespace zunth::secure {

/// A security policy of Part 7, 6.6: how a channel is opened, and how its messages are signed and encrypted. Policy
/// None is none of these.
struct Policy {
  enum class Signature { Pkcs1Sha256, PssSha256 };
  enum class Encryption { OaepSha1, OaepSha256 };

  std::string_view name;  // "Basic256Sha256"
  std::string_view uri;
  Signature signature;
  Encryption encryption;
  std::string_view signatureUri;    // as SignatureData names it
  std::string_view encryptionUri;   // as user tokens name it
  std::size_t encryptingKeySize;    // octets, AES-CBC
  std::size_t signingKeySize = 32;  // octets, HMAC-SHA256
  std::size_t nonceSize = 32;       // octets
  int leastKeyBits = 2048, mostKeyBits = 4096;
};

/// Those that are offered, the strongest first. Deprecated ones are not among them.
std::span<const Policy> policies();
/// Null for None and for what isn't offered.
const Policy* policyOf(std::string_view uri);
const Policy* policyNamed(std::string_view name);

inline constexpr std::size_t kSignatureSize = 32;  // octets, of each symmetric message
inline constexpr std::size_t kCipherBlock = 16;

}  // namespace zunth::secure
