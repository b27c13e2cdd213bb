#pragma once

#include <algorithm>
#include <cstddef>
#include <span>
#include <string_view>
#include <vector>

namespace zunth::secure {

/// What an application's key is, as its certificate's type says (Part 12, 7.8.4).
enum class KeyKind { Rsa, NistP256, NistP384, Other };

/// "RSA", "NIST P-256"
std::string_view nameOf(KeyKind kind);
/// By the name that files and commands have for it, "rsa", "nistP256", "nistP384"; Other for what is none of these.
KeyKind keyKindNamed(std::string_view name);
std::string_view fileNameOf(KeyKind kind);

/// A security policy of Part 7, 6.6: how a channel is opened, and how its messages are signed and encrypted. Policy
/// None is none of these.
struct Policy {
  enum class Signature { Pkcs1Sha256, PssSha256, Ecdsa };
  /// What the messages that open a channel are encrypted with. With elliptic curves they are only signed.
  enum class Encryption { OaepSha1, OaepSha256, None };
  enum class Hash { Sha256, Sha384 };

  std::string_view name;  // "Basic256Sha256"
  std::string_view uri;
  Signature signature;
  Encryption encryption;
  std::string_view signatureUri;   // as SignatureData names it
  std::string_view encryptionUri;  // as user tokens name it; empty where nothing is encrypted with it
  std::size_t encryptingKeySize;   // octets, AES-CBC
  KeyKind key = KeyKind::Rsa;
  Hash hash = Hash::Sha256;                     // of signatures, of the keys' derivation, and of each message's HMAC
  std::size_t signingKeySize = 32;              // octets, HMAC
  std::size_t signatureSize = 32;               // octets, HMAC of each message
  std::size_t nonceSize = 32;                   // octets; with elliptic curves the nonce is an ephemeral public key
  int leastKeyBits = 2048, mostKeyBits = 4096;  // of an RSA key

  /// Whether both sides agree on keys by ephemeral ones (Part 6, 6.8), instead of sending secrets.
  bool usesCurves() const { return encryption == Encryption::None; }
};

/// Those that are offered, the strongest first. Deprecated ones are not among them.
std::span<const Policy> policies();

/// Which policies and modes of secured channels a server takes: all, without another word.
struct Offer {
  std::vector<const Policy*> policies;  // all, when empty
  bool takesSigned = true, takesEncrypted = true;

  bool has(const Policy& policy) const {
    return policies.empty() || std::ranges::find(policies, &policy) != policies.end();
  }
  bool has(const Policy& policy, bool isEncrypted) const {
    return has(policy) && (isEncrypted ? takesEncrypted : takesSigned);
  }
};
/// Null for None and for what isn't offered.
const Policy* policyOf(std::string_view uri);
const Policy* policyNamed(std::string_view name);
/// What a signature by a key of this kind is made with, where no channel says so: null for Other.
const Policy* policyFor(KeyKind kind);

inline constexpr std::size_t kMostSignatureSize = 48;  // octets, of each symmetric message
inline constexpr std::size_t kCipherBlock = 16;

}  // namespace zunth::secure
