#include "core/secure/key_exchange.hpp"

#include "core/secure/asymmetric.hpp"
#include "core/secure/openssl.hpp"

#include <stdexcept>

#include <fmt/format.h>
#include <openssl/core_names.h>
#include <openssl/crypto.h>
#include <openssl/err.h>

namespace zunth::secure {

using namespace ua;
using openssl::Free;

namespace {

using Key = std::unique_ptr<EVP_PKEY, Free>;

constexpr unsigned char kUncompressed = 4;  // what OpenSSL has before a point's two numbers, and Part 6 has not

ByteString pointOf(EVP_PKEY* key) {
  unsigned char* encoded = nullptr;
  const std::size_t size = EVP_PKEY_get1_encoded_public_key(key, &encoded);
  if (size == 0 || encoded[0] != kUncompressed) throw std::runtime_error("a key has no public half");
  const ByteString out(encoded + 1, size - 1);
  OPENSSL_free(encoded);
  return out;
}

/// The point as a key on the same curve; null when it is none of the curve's.
Key keyAt(EVP_PKEY* likeThis, const ByteString& point) {
  Key key(EVP_PKEY_new());
  std::vector<unsigned char> encoded(1, kUncompressed);
  for (const char octet : point.view()) encoded.push_back(static_cast<unsigned char>(octet));
  const bool fits = EVP_PKEY_copy_parameters(key.get(), likeThis) == 1 &&
                    EVP_PKEY_set1_encoded_public_key(key.get(), encoded.data(), encoded.size()) == 1;
  ERR_clear_error();
  return fits ? std::move(key) : nullptr;
}

/// The x of what both come to; empty when they don't.
Bytes sharedSecret(EVP_PKEY* own, EVP_PKEY* other) {
  const std::unique_ptr<EVP_PKEY_CTX, Free> context(EVP_PKEY_CTX_new(own, nullptr));
  std::size_t size = 0;
  Bytes out;
  if (context && EVP_PKEY_derive_init(context.get()) == 1 && EVP_PKEY_derive_set_peer(context.get(), other) == 1 &&
      EVP_PKEY_derive(context.get(), nullptr, &size) == 1) {
    out.resize(size);
    if (EVP_PKEY_derive(context.get(), reinterpret_cast<unsigned char*>(out.data()), &size) != 1) out.clear();
  }
  ERR_clear_error();
  return out;
}

/// Part 6, 6.8.1: how many octets are derived, whose they are, and both nonces, the owner's first.
Bytes saltOf(std::size_t size, std::string_view owner, const ByteString& own, const ByteString& other) {
  Bytes out{static_cast<std::byte>(size & 0xFF), static_cast<std::byte>(size >> 8)};
  for (const std::string_view part : {owner, own.view(), other.view()})
    for (const char octet : part) out.push_back(static_cast<std::byte>(octet));
  return out;
}

}  // namespace

Bytes expand(Policy::Hash hash, BytesView secret, BytesView salt, std::size_t size) {
  static EVP_KDF* const hkdf = EVP_KDF_fetch(nullptr, "HKDF", nullptr);
  const std::unique_ptr<EVP_KDF_CTX, Free> context(EVP_KDF_CTX_new(hkdf));
  char sha256[] = "SHA256", sha384[] = "SHA384";
  auto* key = const_cast<std::byte*>(secret.data());
  auto* extra = const_cast<std::byte*>(salt.data());
  const OSSL_PARAM parameters[] = {
      OSSL_PARAM_construct_utf8_string(OSSL_KDF_PARAM_DIGEST, hash == Policy::Hash::Sha384 ? sha384 : sha256, 0),
      OSSL_PARAM_construct_octet_string(OSSL_KDF_PARAM_KEY, key, secret.size()),
      OSSL_PARAM_construct_octet_string(OSSL_KDF_PARAM_SALT, extra, salt.size()),
      OSSL_PARAM_construct_octet_string(OSSL_KDF_PARAM_INFO, extra, salt.size()), OSSL_PARAM_construct_end()};
  Bytes out(size);
  if (EVP_KDF_derive(context.get(), reinterpret_cast<unsigned char*>(out.data()), size, parameters) != 1)
    throw std::runtime_error("a channel's keys can't be derived");
  return out;
}

KeyExchange::KeyExchange(const Policy& policy, const std::function<ByteString(std::size_t)>& random)
    : policy_(&policy) {
  if (!policy.usesCurves()) {
    nonce_ = random(policy.nonceSize);
    return;
  }
  ephemeral_ = PrivateKey::generate(policy.key);
  nonce_ = pointOf(ephemeral_->handle());
}

KeyExchange::KeyExchange(const Policy& policy, PrivateKey ephemeral)
    : policy_(&policy), nonce_(pointOf(ephemeral.handle())), ephemeral_(std::move(ephemeral)) {}

Result<KeyExchange::Keys> KeyExchange::finish(Side own, const ByteString& other) const {
  const Policy& policy = *policy_;
  if (other.size() != policy.nonceSize)
    return Error{status::BadNonceInvalid,
                 fmt::format("{} takes nonces of {} octets, not of {}", policy.name, policy.nonceSize, other.size()),
                 {}};
  if (!policy.usesCurves())
    return Keys{ChannelKeys::derive(policy, other, nonce_), ChannelKeys::derive(policy, nonce_, other)};
  const Key point = keyAt(ephemeral_->handle(), other);
  Bytes secret = point ? sharedSecret(ephemeral_->handle(), point.get()) : Bytes();
  if (secret.empty())
    return Error{
        status::BadNonceInvalid, fmt::format("the nonce is no public key on the curve of {}", policy.name), {}};
  const std::size_t size = ChannelKeys::sizeFor(policy);
  const bool isClient = own == Side::Client;
  auto keysOf = [&](std::string_view owner, const ByteString& first, const ByteString& second) {
    return ChannelKeys::from(policy, expand(policy.hash, secret, saltOf(size, owner, first, second), size));
  };
  Keys keys{keysOf(isClient ? "opcua-client" : "opcua-server", nonce_, other),
            keysOf(isClient ? "opcua-server" : "opcua-client", other, nonce_)};
  OPENSSL_cleanse(secret.data(), secret.size());
  return keys;
}

}  // namespace zunth::secure
