#pragma once

#include "core/secure/policy.hpp"
#include "core/ua/bytes.hpp"
#include "core/ua/strings.hpp"

#include <memory>

namespace zunth::secure {

/// The keys by which one side of a channel signs and encrypts what it sends (Part 6, 6.7.5 and 6.8.1). Wiped when they
/// go.
class ChannelKeys {
 public:
  /// The sender's keys: the secret is the other side's nonce, the seed its own.
  static std::unique_ptr<ChannelKeys> derive(const Policy& policy, const ua::ByteString& secret,
                                             const ua::ByteString& seed);
  /// From octets that were derived already: the signing key, the encrypting key, the initialization vector.
  static std::unique_ptr<ChannelKeys> from(const Policy& policy, ua::Bytes octets);
  /// How many octets that takes.
  static std::size_t sizeFor(const Policy& policy);
  ~ChannelKeys();
  ChannelKeys(const ChannelKeys&) = delete;

  /// Octets of each message's signature.
  std::size_t signatureSize() const;
  /// HMAC of `data`, signatureSize() octets.
  void sign(ua::BytesView data, std::byte* signature) const;
  /// In constant time.
  bool verify(ua::BytesView data, ua::BytesView signature) const;
  /// AES-CBC in place; whole blocks of kCipherBlock.
  void encrypt(std::span<std::byte> data) const;
  void decrypt(std::span<std::byte> data) const;

  ua::BytesView signingKey() const;
  ua::BytesView encryptingKey() const;
  ua::BytesView initializationVector() const;

 private:
  ChannelKeys();
  struct State;
  std::unique_ptr<State> state_;
};

/// P_SHA256 of RFC 5246, as Part 6 derives keys.
ua::Bytes pseudoRandom(ua::BytesView secret, ua::BytesView seed, std::size_t size);

}  // namespace zunth::secure
