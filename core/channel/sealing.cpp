#include "core/channel/sealing.hpp"

namespace zunth::channel {

using namespace ua;
using secure::kCipherBlock;
using secure::kSignatureSize;

namespace {

constexpr std::size_t kSequenceHeaderSize = 8;
constexpr std::size_t kSmallKey = 256;  // octets; larger ones need a second octet to tell the padding

const Error kRefused{status::BadSecurityChecksFailed, "the signature or the encryption of a message is wrong", {}};

void patchSize(Bytes& chunk, std::size_t size) {
  const auto number = static_cast<std::uint32_t>(size);
  std::memcpy(chunk.data() + 4, &number, sizeof number);
}

/// Octets of what follows `from`, without padding: its last octets say how many there are. Nothing when they lie.
std::optional<std::size_t> withoutPadding(BytesView padded, bool hasExtra) {
  const std::size_t own = hasExtra ? 2 : 1;
  if (padded.size() < own) return std::nullopt;
  const auto low = static_cast<std::size_t>(padded[padded.size() - own]);
  const std::size_t padding = low | (hasExtra ? static_cast<std::size_t>(padded.back()) << 8 : 0);
  if (padded.size() < padding + own) return std::nullopt;
  const std::size_t left = padded.size() - padding - own;
  for (std::size_t i = left; i < padded.size() - (own - 1); ++i)
    if (static_cast<std::size_t>(padded[i]) != low) return std::nullopt;
  return left;
}

}  // namespace

std::size_t Sealing::mostBody(std::size_t chunkSize) const {
  if (!keys) return chunkSize - kPlainHeaderSize - kSequenceHeaderSize;
  if (!encrypts) return chunkSize - kPlainHeaderSize - kSequenceHeaderSize - kSignatureSize;
  const std::size_t blocks = (chunkSize - kPlainHeaderSize) / kCipherBlock * kCipherBlock;
  return blocks - kSequenceHeaderSize - 1 - kSignatureSize;
}

void seal(Bytes& chunk, const Sealing& sealing) {
  if (!sealing.keys) return;
  if (sealing.encrypts) {
    const std::size_t before = chunk.size() - kPlainHeaderSize + 1 + kSignatureSize;
    const std::size_t padding = (kCipherBlock - before % kCipherBlock) % kCipherBlock;
    chunk.insert(chunk.end(), padding + 1, static_cast<std::byte>(padding));
  }
  const std::size_t signedSize = chunk.size();
  chunk.resize(signedSize + kSignatureSize);
  patchSize(chunk, chunk.size());
  sealing.keys->sign(BytesView(chunk).first(signedSize), chunk.data() + signedSize);
  if (sealing.encrypts) sealing.keys->encrypt(std::span(chunk).subspan(kPlainHeaderSize));
}

Result<BytesView> unseal(std::span<std::byte> chunk, const Sealing& sealing) {
  if (!sealing.keys) return BytesView(chunk.subspan(kPlainHeaderSize));
  if (chunk.size() < kPlainHeaderSize + kSequenceHeaderSize + kSignatureSize) return kRefused;
  if (sealing.encrypts) {
    const auto secret = chunk.subspan(kPlainHeaderSize);
    if (secret.size() % kCipherBlock != 0) return kRefused;
    sealing.keys->decrypt(secret);
  }
  const BytesView whole = chunk, content = whole.first(whole.size() - kSignatureSize);
  if (!sealing.keys->verify(content, whole.last(kSignatureSize))) return kRefused;
  const BytesView numbered = content.subspan(kPlainHeaderSize);
  if (!sealing.encrypts) return numbered;
  const auto size = withoutPadding(numbered, false);
  if (!size) return kRefused;
  return numbered.first(*size);
}

void sealOpen(Bytes& chunk, std::size_t headerSize, const OpenSealing& sealing) {
  if (!sealing.policy) return patchSize(chunk, chunk.size());
  const std::size_t signatureSize = secure::keySize(sealing.own->certificate);
  const std::size_t cipherBlock = secure::keySize(*sealing.peer);
  const std::size_t plainBlock = secure::plainBlockSize(*sealing.policy, *sealing.peer);
  const bool hasExtra = cipherBlock > kSmallKey;
  const std::size_t before = chunk.size() - headerSize + (hasExtra ? 2 : 1) + signatureSize;
  const std::size_t padding = (plainBlock - before % plainBlock) % plainBlock;
  chunk.insert(chunk.end(), padding + 1, static_cast<std::byte>(padding & 0xFF));
  if (hasExtra) chunk.push_back(static_cast<std::byte>(padding >> 8));
  // The size is signed as it will stand on the wire.
  patchSize(chunk, headerSize + (before + padding) / plainBlock * cipherBlock);
  const ByteString signature = secure::sign(*sealing.policy, sealing.own->key, chunk);
  const auto* octets = reinterpret_cast<const std::byte*>(signature.data());
  chunk.insert(chunk.end(), octets, octets + signature.size());
  const Bytes secret = secure::encrypt(*sealing.policy, *sealing.peer, BytesView(chunk).subspan(headerSize));
  chunk.resize(headerSize);
  chunk.insert(chunk.end(), secret.begin(), secret.end());
}

Result<BytesView> unsealOpen(BytesView chunk, std::size_t headerSize, const OpenSealing& sealing, Bytes& plain) {
  if (!sealing.policy) return chunk.subspan(headerSize);
  auto secret = secure::decrypt(*sealing.policy, sealing.own->key, chunk.subspan(headerSize));
  if (!secret) return secret.error();
  plain.assign(chunk.begin(), chunk.begin() + static_cast<std::ptrdiff_t>(headerSize));
  plain.insert(plain.end(), secret->begin(), secret->end());
  const std::size_t signatureSize = secure::keySize(*sealing.peer);
  if (plain.size() < headerSize + kSequenceHeaderSize + signatureSize) return kRefused;
  const BytesView whole = plain, content = whole.first(whole.size() - signatureSize);
  if (!secure::verify(*sealing.policy, *sealing.peer, content, whole.last(signatureSize))) return kRefused;
  const BytesView numbered = content.subspan(headerSize);
  const auto size = withoutPadding(numbered, secure::keySize(sealing.own->certificate) > kSmallKey);
  if (!size) return kRefused;
  return numbered.first(*size);
}

}  // namespace zunth::channel
