#include "core/channel/sealing.hpp"

namespace zunth::channel {

using namespace ua;
using secure::kCipherBlock;

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
  if (!encrypts) return chunkSize - kPlainHeaderSize - kSequenceHeaderSize - keys->signatureSize();
  const std::size_t blocks = (chunkSize - kPlainHeaderSize) / kCipherBlock * kCipherBlock;
  return blocks - kSequenceHeaderSize - 1 - keys->signatureSize();
}

void seal(Bytes& chunk, const Sealing& sealing) {
  if (!sealing.keys) return;
  const std::size_t signatureSize = sealing.keys->signatureSize();
  if (sealing.encrypts) {
    const std::size_t before = chunk.size() - kPlainHeaderSize + 1 + signatureSize;
    const std::size_t padding = (kCipherBlock - before % kCipherBlock) % kCipherBlock;
    chunk.insert(chunk.end(), padding + 1, static_cast<std::byte>(padding));
  }
  const std::size_t signedSize = chunk.size();
  chunk.resize(signedSize + signatureSize);
  patchSize(chunk, chunk.size());
  sealing.keys->sign(BytesView(chunk).first(signedSize), chunk.data() + signedSize);
  if (sealing.encrypts) sealing.keys->encrypt(std::span(chunk).subspan(kPlainHeaderSize));
}

Result<BytesView> unseal(std::span<std::byte> chunk, const Sealing& sealing) {
  if (!sealing.keys) return BytesView(chunk.subspan(kPlainHeaderSize));
  const std::size_t signatureSize = sealing.keys->signatureSize();
  if (chunk.size() < kPlainHeaderSize + kSequenceHeaderSize + signatureSize) return kRefused;
  if (sealing.encrypts) {
    const auto secret = chunk.subspan(kPlainHeaderSize);
    if (secret.size() % kCipherBlock != 0) return kRefused;
    sealing.keys->decrypt(secret);
  }
  const BytesView whole = chunk, content = whole.first(whole.size() - signatureSize);
  if (!sealing.keys->verify(content, whole.last(signatureSize))) return kRefused;
  const BytesView numbered = content.subspan(kPlainHeaderSize);
  if (!sealing.encrypts) return numbered;
  const auto size = withoutPadding(numbered, false);
  if (!size) return kRefused;
  return numbered.first(*size);
}

namespace {

void appendSignature(Bytes& chunk, const OpenSealing& sealing) {
  const ByteString signature = secure::sign(*sealing.policy, sealing.own->key, chunk);
  const auto octets = secure::view(signature);
  chunk.insert(chunk.end(), octets.begin(), octets.end());
}

/// What was signed, when the peer signed it. Nothing otherwise.
std::optional<BytesView> verified(BytesView whole, std::size_t headerSize, const OpenSealing& sealing) {
  const std::size_t signatureSize = secure::signatureSize(*sealing.policy, *sealing.peer);
  if (whole.size() < headerSize + kSequenceHeaderSize + signatureSize) return std::nullopt;
  const BytesView content = whole.first(whole.size() - signatureSize);
  if (!secure::verify(*sealing.policy, *sealing.peer, content, whole.last(signatureSize))) return std::nullopt;
  return content;
}

}  // namespace

void sealOpen(Bytes& chunk, std::size_t headerSize, const OpenSealing& sealing) {
  if (!sealing.policy) return patchSize(chunk, chunk.size());
  const std::size_t signatureSize = secure::signatureSize(*sealing.policy, sealing.own->certificate);
  if (sealing.policy->usesCurves()) {
    patchSize(chunk, chunk.size() + signatureSize);
    return appendSignature(chunk, sealing);
  }
  const std::size_t cipherBlock = secure::keySize(*sealing.peer);
  const std::size_t plainBlock = secure::plainBlockSize(*sealing.policy, *sealing.peer);
  const bool hasExtra = cipherBlock > kSmallKey;
  const std::size_t before = chunk.size() - headerSize + (hasExtra ? 2 : 1) + signatureSize;
  const std::size_t padding = (plainBlock - before % plainBlock) % plainBlock;
  chunk.insert(chunk.end(), padding + 1, static_cast<std::byte>(padding & 0xFF));
  if (hasExtra) chunk.push_back(static_cast<std::byte>(padding >> 8));
  // The size is signed as it will stand on the wire.
  patchSize(chunk, headerSize + (before + padding) / plainBlock * cipherBlock);
  appendSignature(chunk, sealing);
  const Bytes secret = secure::encrypt(*sealing.policy, *sealing.peer, BytesView(chunk).subspan(headerSize));
  chunk.resize(headerSize);
  chunk.insert(chunk.end(), secret.begin(), secret.end());
}

Result<BytesView> unsealOpen(BytesView chunk, std::size_t headerSize, const OpenSealing& sealing, Bytes& plain) {
  if (!sealing.policy) return chunk.subspan(headerSize);
  if (sealing.policy->usesCurves()) {
    const auto content = verified(chunk, headerSize, sealing);
    return content ? Result<BytesView>(content->subspan(headerSize)) : kRefused;
  }
  auto secret = secure::decrypt(*sealing.policy, sealing.own->key, chunk.subspan(headerSize));
  if (!secret) return secret.error();
  plain.assign(chunk.begin(), chunk.begin() + static_cast<std::ptrdiff_t>(headerSize));
  plain.insert(plain.end(), secret->begin(), secret->end());
  const auto content = verified(plain, headerSize, sealing);
  if (!content) return kRefused;
  const BytesView numbered = content->subspan(headerSize);
  const auto size = withoutPadding(numbered, secure::keySize(sealing.own->certificate) > kSmallKey);
  if (!size) return kRefused;
  return numbered.first(*size);
}

}  // namespace zunth::channel
