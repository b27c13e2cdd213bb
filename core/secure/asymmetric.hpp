#pragma once

#include "core/secure/certificate.hpp"
#include "core/secure/policy.hpp"

/// Signing and encrypting with keys and certificates, as a policy has it (Part 6, 6.7.2; Part 7, 6.6).
namespace zunth::secure {

/// With curves the two numbers of a signature stand side by side, each as long as the curve's (Part 6, 6.8.1).
ua::ByteString sign(const Policy& policy, const PrivateKey& key, ua::BytesView data);
bool verify(const Policy& policy, const Certificate& signer, ua::BytesView data, ua::BytesView signature);

/// What sessions sign: the other side's certificate and the nonce that it gave (Part 4, 5.6.2).
ua::Bytes sessionProof(const ua::ByteString& certificate, const ua::ByteString& nonce);
inline ua::BytesView view(const ua::ByteString& octets) {
  return {reinterpret_cast<const std::byte*>(octets.data()), octets.size()};
}

/// Octets of a signature by this certificate's key.
std::size_t signatureSize(const Policy& policy, const Certificate& certificate);
/// Octets of one block that is encrypted for this certificate's RSA key.
std::size_t keySize(const Certificate& certificate);
/// Octets of plain text that fit into one encrypted block.
std::size_t plainBlockSize(const Policy& policy, const Certificate& certificate);

/// Block by block; `plain` must be whole blocks.
ua::Bytes encrypt(const Policy& policy, const Certificate& receiver, ua::BytesView plain);
/// One block of at most plainBlockSize() octets and more, cut as needed: what user tokens need.
ua::Bytes encryptText(const Policy& policy, const Certificate& receiver, ua::BytesView plain);
/// BadSecurityChecksFailed, whatever is wrong: an error that said more would help to guess.
ua::Result<ua::Bytes> decrypt(const Policy& policy, const PrivateKey& key, ua::BytesView cipher);

}  // namespace zunth::secure
