#include "core/secure/channel_keys.hpp"

#include "core/secure/asymmetric.hpp"
#include "core/secure/openssl.hpp"

#include <stdexcept>

#include <openssl/core_names.h>
#include <openssl/crypto.h>
#include <openssl/hmac.h>

namespace zunth::secure {

using namespace ua;
using openssl::Free;
using openssl::raw;

namespace {}  // namespace

Bytes pseudoRandom(BytesView secret, BytesView seed, std::size_t size) {
  auto hash = [secret](BytesView data) {
    Bytes out(32);
    unsigned length = 0;
    HMAC(EVP_sha256(), secret.data(), static_cast<int>(secret.size()), raw(data), data.size(),
         reinterpret_cast<unsigned char*>(out.data()), &length);
    return out;
  };
  Bytes out;
  Bytes a(seed.begin(), seed.end());
  while (out.size() < size) {
    a = hash(a);
    Bytes both = a;
    both.insert(both.end(), seed.begin(), seed.end());
    const Bytes piece = hash(both);
    out.insert(out.end(), piece.begin(), piece.end());
  }
  out.resize(size);
  return out;
}

/// Contexts are set up once a channel and only given their start for each message.
struct ChannelKeys::State {
  Bytes octets;  // signing key, encrypting key, initialization vector
  std::size_t signingSize = 0, encryptingSize = 0, signatureSize = 0;
  std::unique_ptr<EVP_MAC_CTX, Free> mac;
  std::unique_ptr<EVP_CIPHER_CTX, Free> encryptor{EVP_CIPHER_CTX_new()}, decryptor{EVP_CIPHER_CTX_new()};
};

ChannelKeys::ChannelKeys() : state_(std::make_unique<State>()) {}
ChannelKeys::~ChannelKeys() { OPENSSL_cleanse(state_->octets.data(), state_->octets.size()); }

std::unique_ptr<ChannelKeys> ChannelKeys::derive(const Policy& policy, const ByteString& secret,
                                                 const ByteString& seed) {
  return from(policy, pseudoRandom(view(secret), view(seed), sizeFor(policy)));
}

std::size_t ChannelKeys::sizeFor(const Policy& policy) {
  return policy.signingKeySize + policy.encryptingKeySize + kCipherBlock;
}

std::unique_ptr<ChannelKeys> ChannelKeys::from(const Policy& policy, Bytes octets) {
  std::unique_ptr<ChannelKeys> keys(new ChannelKeys());
  State& state = *keys->state_;
  state.signingSize = policy.signingKeySize;
  state.encryptingSize = policy.encryptingKeySize;
  state.signatureSize = policy.signatureSize;
  state.octets = std::move(octets);
  static EVP_MAC* const hmac = EVP_MAC_fetch(nullptr, "HMAC", nullptr);
  state.mac.reset(EVP_MAC_CTX_new(hmac));
  char sha256[] = "SHA256", sha384[] = "SHA384";
  char* digest = policy.hash == Policy::Hash::Sha384 ? sha384 : sha256;
  const OSSL_PARAM parameters[] = {OSSL_PARAM_construct_utf8_string(OSSL_MAC_PARAM_DIGEST, digest, 0),
                                   OSSL_PARAM_construct_end()};
  const EVP_CIPHER* cipher = policy.encryptingKeySize == 16 ? EVP_aes_128_cbc() : EVP_aes_256_cbc();
  const unsigned char *key = raw(keys->encryptingKey()), *start = raw(keys->initializationVector());
  if (EVP_MAC_init(state.mac.get(), raw(keys->signingKey()), state.signingSize, parameters) != 1 ||
      EVP_EncryptInit_ex(state.encryptor.get(), cipher, nullptr, key, start) != 1 ||
      EVP_DecryptInit_ex(state.decryptor.get(), cipher, nullptr, key, start) != 1)
    throw std::runtime_error("a channel's keys can't be set up");
  EVP_CIPHER_CTX_set_padding(state.encryptor.get(), 0);
  EVP_CIPHER_CTX_set_padding(state.decryptor.get(), 0);
  return keys;
}

BytesView ChannelKeys::signingKey() const { return BytesView(state_->octets).first(state_->signingSize); }
BytesView ChannelKeys::encryptingKey() const {
  return BytesView(state_->octets).subspan(state_->signingSize, state_->encryptingSize);
}
BytesView ChannelKeys::initializationVector() const { return BytesView(state_->octets).last(kCipherBlock); }

std::size_t ChannelKeys::signatureSize() const { return state_->signatureSize; }

void ChannelKeys::sign(BytesView data, std::byte* signature) const {
  std::size_t size = 0;
  if (EVP_MAC_init(state_->mac.get(), nullptr, 0, nullptr) != 1 ||
      EVP_MAC_update(state_->mac.get(), raw(data), data.size()) != 1 ||
      EVP_MAC_final(state_->mac.get(), reinterpret_cast<unsigned char*>(signature), &size, state_->signatureSize) != 1)
    throw std::runtime_error("a message can't be signed");
}

bool ChannelKeys::verify(BytesView data, BytesView signature) const {
  std::byte expected[kMostSignatureSize];
  sign(data, expected);
  return signature.size() == signatureSize() && CRYPTO_memcmp(expected, signature.data(), signatureSize()) == 0;
}

void ChannelKeys::encrypt(std::span<std::byte> data) const {
  auto* octets = reinterpret_cast<unsigned char*>(data.data());
  int size = 0;
  if (EVP_EncryptInit_ex(state_->encryptor.get(), nullptr, nullptr, nullptr, raw(initializationVector())) != 1 ||
      EVP_EncryptUpdate(state_->encryptor.get(), octets, &size, octets, static_cast<int>(data.size())) != 1)
    throw std::runtime_error("a message can't be encrypted");
}

void ChannelKeys::decrypt(std::span<std::byte> data) const {
  auto* octets = reinterpret_cast<unsigned char*>(data.data());
  int size = 0;
  if (EVP_DecryptInit_ex(state_->decryptor.get(), nullptr, nullptr, nullptr, raw(initializationVector())) != 1 ||
      EVP_DecryptUpdate(state_->decryptor.get(), octets, &size, octets, static_cast<int>(data.size())) != 1)
    throw std::runtime_error("a message can't be decrypted");
}

}  // namespace zunth::secure
