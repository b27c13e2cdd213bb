#pragma once

#include "core/secure/certificate.hpp"
#include "core/secure/channel_keys.hpp"

#include <functional>

namespace zunth::secure {

/// One side's part in agreeing on a channel's keys: a random nonce (Part 6, 6.7.5), or with elliptic curves an
/// ephemeral key whose public half is the nonce (Part 6, 6.8.1).
class KeyExchange {
 public:
  enum class Side { Client, Server };
  struct Keys {
    std::unique_ptr<ChannelKeys> sending, receiving;
  };

  KeyExchange() = default;
  KeyExchange(const Policy& policy, const std::function<ua::ByteString(std::size_t)>& random);
  /// With this ephemeral key, on the policy's curve.
  KeyExchange(const Policy& policy, PrivateKey ephemeral);

  /// What the other side is told: policy.nonceSize octets; a public key is x, then y, without a prefix.
  const ua::ByteString& nonce() const { return nonce_; }
  /// The keys, once the other side's nonce is there. BadNonceInvalid when that has the wrong size or is no point of the
  /// curve.
  ua::Result<Keys> finish(Side own, const ua::ByteString& other) const;

 private:
  const Policy* policy_ = nullptr;
  ua::ByteString nonce_;
  std::optional<PrivateKey> ephemeral_;
};

/// HKDF of RFC 5869 with the salt as its info, too, as Part 6 derives keys on curves.
ua::Bytes expand(Policy::Hash hash, ua::BytesView secret, ua::BytesView salt, std::size_t size);

}  // namespace zunth::secure
