#pragma once

#include "core/channel/transport.hpp"
#include "core/secure/asymmetric.hpp"
#include "core/secure/channel_keys.hpp"

/// Signing and encrypting whole chunks in place (Part 6, 6.7.2).
namespace zunth::channel {

/// How one side's symmetric chunks are secured. Without keys they are not: policy None.
struct Sealing {
  const secure::ChannelKeys* keys = nullptr;
  bool encrypts = false;

  /// Octets of a body that fit into a chunk of this size.
  std::size_t mostBody(std::size_t chunkSize) const;
};

/// Octets before what is encrypted: the chunk's header, the channel's and the token's id.
inline constexpr std::size_t kPlainHeaderSize = 16;

/// Completes a chunk whose headers and body stand there: padding, size, signature, encryption.
void seal(ua::Bytes& chunk, const Sealing& sealing);
/// The numbered part (sequence header and body) of a chunk that arrived, decrypted in place. BadSecurityChecksFailed
/// for whatever is wrong.
ua::Result<ua::BytesView> unseal(std::span<std::byte> chunk, const Sealing& sealing);

/// What an OPN chunk is secured with: signed by the sender and, but for policies with curves, encrypted for the
/// receiver.
struct OpenSealing {
  const secure::Policy* policy = nullptr;  // null for None
  const secure::Identity* own = nullptr;
  const secure::Certificate* peer = nullptr;
};

/// Completes an OPN chunk; `headerSize` octets of it stay plain.
void sealOpen(ua::Bytes& chunk, std::size_t headerSize, const OpenSealing& sealing);
/// The numbered part of an OPN chunk, decrypted into `plain`. BadSecurityChecksFailed.
ua::Result<ua::BytesView> unsealOpen(ua::BytesView chunk, std::size_t headerSize, const OpenSealing& sealing,
                                     ua::Bytes& plain);

}  // namespace zunth::channel
