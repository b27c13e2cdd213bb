#include "core/secure/asymmetric.hpp"

#include "core/secure/openssl.hpp"

#include <stdexcept>

#include <openssl/err.h>
#include <openssl/rsa.h>

namespace zunth::secure {

using namespace ua;
using openssl::Free;
using openssl::raw;

namespace {

using DigestContext = std::unique_ptr<EVP_MD_CTX, Free>;
using KeyContext = std::unique_ptr<EVP_PKEY_CTX, Free>;

[[noreturn]] void fail(const char* what) {
  ERR_clear_error();
  throw std::runtime_error(what);
}

void setPadding(const Policy& policy, EVP_PKEY_CTX* context) {
  if (policy.signature != Policy::Signature::PssSha256) return;
  EVP_PKEY_CTX_set_rsa_padding(context, RSA_PKCS1_PSS_PADDING);
  EVP_PKEY_CTX_set_rsa_pss_saltlen(context, RSA_PSS_SALTLEN_DIGEST);
  EVP_PKEY_CTX_set_rsa_mgf1_md(context, EVP_sha256());
}

void setOaep(const Policy& policy, EVP_PKEY_CTX* context) {
  const EVP_MD* digest = policy.encryption == Policy::Encryption::OaepSha256 ? EVP_sha256() : EVP_sha1();
  EVP_PKEY_CTX_set_rsa_padding(context, RSA_PKCS1_OAEP_PADDING);
  EVP_PKEY_CTX_set_rsa_oaep_md(context, digest);
  EVP_PKEY_CTX_set_rsa_mgf1_md(context, digest);
}

const EVP_MD* digestOf(const Policy& policy) {
  return policy.hash == Policy::Hash::Sha384 ? EVP_sha384() : EVP_sha256();
}

/// Octets of each of the two numbers of a signature on the policy's curve.
std::size_t numberSize(const Policy& policy) { return policy.nonceSize / 2; }

ByteString sideBySide(const Policy& policy, const std::vector<std::byte>& der) {
  const auto* at = reinterpret_cast<const unsigned char*>(der.data());
  const std::unique_ptr<ECDSA_SIG, Free> numbers(d2i_ECDSA_SIG(nullptr, &at, static_cast<long>(der.size())));
  const int size = static_cast<int>(numberSize(policy));
  std::vector<unsigned char> out(2 * numberSize(policy));
  if (!numbers || BN_bn2binpad(ECDSA_SIG_get0_r(numbers.get()), out.data(), size) != size ||
      BN_bn2binpad(ECDSA_SIG_get0_s(numbers.get()), out.data() + size, size) != size)
    fail("a key can't sign");
  return ByteString(out.data(), out.size());
}

/// As OpenSSL wants it; empty when it is none of the policy's.
std::vector<unsigned char> derOf(const Policy& policy, BytesView signature) {
  const std::size_t size = numberSize(policy);
  if (signature.size() != 2 * size) return {};
  const std::unique_ptr<ECDSA_SIG, Free> numbers(ECDSA_SIG_new());
  ECDSA_SIG_set0(numbers.get(), BN_bin2bn(raw(signature), static_cast<int>(size), nullptr),
                 BN_bin2bn(raw(signature) + size, static_cast<int>(size), nullptr));
  unsigned char* der = nullptr;
  const int length = i2d_ECDSA_SIG(numbers.get(), &der);
  const std::vector<unsigned char> out(der, der + std::max(length, 0));
  OPENSSL_free(der);
  return out;
}

}  // namespace

ByteString sign(const Policy& policy, const PrivateKey& key, BytesView data) {
  DigestContext context(EVP_MD_CTX_new());
  EVP_PKEY_CTX* inner = nullptr;
  std::size_t size = 0;
  if (EVP_DigestSignInit(context.get(), &inner, digestOf(policy), nullptr, key.handle()) != 1) fail("a key can't sign");
  setPadding(policy, inner);
  if (EVP_DigestSign(context.get(), nullptr, &size, raw(data), data.size()) != 1) fail("a key can't sign");
  std::vector<std::byte> signature(size);
  if (EVP_DigestSign(context.get(), raw(signature.data()), &size, raw(data), data.size()) != 1)
    fail("a key can't sign");
  signature.resize(size);
  return policy.usesCurves() ? sideBySide(policy, signature) : ByteString(signature.data(), size);
}

bool verify(const Policy& policy, const Certificate& signer, BytesView data, BytesView signature) {
  if (signer.keyKind() != policy.key) return false;
  std::vector<unsigned char> der;
  if (policy.usesCurves()) {
    der = derOf(policy, signature);
    if (der.empty()) return false;
    signature = std::as_bytes(std::span(der));
  }
  DigestContext context(EVP_MD_CTX_new());
  EVP_PKEY_CTX* inner = nullptr;
  if (EVP_DigestVerifyInit(context.get(), &inner, digestOf(policy), nullptr, signer.publicKey()) != 1) {
    ERR_clear_error();
    return false;
  }
  setPadding(policy, inner);
  const bool fits = EVP_DigestVerify(context.get(), raw(signature), signature.size(), raw(data), data.size()) == 1;
  ERR_clear_error();
  return fits;
}

Bytes sessionProof(const ByteString& certificate, const ByteString& nonce) {
  Bytes out(view(certificate).begin(), view(certificate).end());
  out.insert(out.end(), view(nonce).begin(), view(nonce).end());
  return out;
}

std::size_t signatureSize(const Policy& policy, const Certificate& certificate) {
  return policy.usesCurves() ? 2 * numberSize(policy) : keySize(certificate);
}

std::size_t keySize(const Certificate& certificate) {
  return static_cast<std::size_t>(EVP_PKEY_get_size(certificate.publicKey()));
}

std::size_t plainBlockSize(const Policy& policy, const Certificate& certificate) {
  const std::size_t digest = policy.encryption == Policy::Encryption::OaepSha256 ? 32 : 20;
  return keySize(certificate) - 2 * digest - 2;
}

Bytes encryptText(const Policy& policy, const Certificate& receiver, BytesView plain) {
  KeyContext context(EVP_PKEY_CTX_new(receiver.publicKey(), nullptr));
  if (!context || EVP_PKEY_encrypt_init(context.get()) != 1) fail("a key can't encrypt");
  setOaep(policy, context.get());
  const std::size_t plainSize = plainBlockSize(policy, receiver), cipherSize = keySize(receiver);
  Bytes out;
  for (std::size_t at = 0; at < plain.size(); at += plainSize) {
    const BytesView block = plain.subspan(at, std::min(plainSize, plain.size() - at));
    out.resize(out.size() + cipherSize);
    std::size_t size = cipherSize;
    if (EVP_PKEY_encrypt(context.get(), raw(out.data() + out.size() - cipherSize), &size, raw(block), block.size()) !=
        1)
      fail("a key can't encrypt");
  }
  return out;
}

Bytes encrypt(const Policy& policy, const Certificate& receiver, BytesView plain) {
  if (plain.size() % plainBlockSize(policy, receiver) != 0) throw std::logic_error("encrypt() takes whole blocks");
  return encryptText(policy, receiver, plain);
}

Result<Bytes> decrypt(const Policy& policy, const PrivateKey& key, BytesView cipher) {
  const Error refused{status::BadSecurityChecksFailed, "what was encrypted for this side can't be decrypted here", {}};
  if (policy.usesCurves() || key.kind() != KeyKind::Rsa) return refused;
  const auto cipherSize = static_cast<std::size_t>(EVP_PKEY_get_size(key.handle()));
  if (cipher.empty() || cipher.size() % cipherSize != 0) return refused;
  KeyContext context(EVP_PKEY_CTX_new(key.handle(), nullptr));
  if (!context || EVP_PKEY_decrypt_init(context.get()) != 1) return refused;
  setOaep(policy, context.get());
  Bytes out;
  for (std::size_t at = 0; at < cipher.size(); at += cipherSize) {
    const std::size_t before = out.size();
    out.resize(before + cipherSize);
    std::size_t size = cipherSize;
    if (EVP_PKEY_decrypt(context.get(), raw(out.data() + before), &size, raw(cipher.subspan(at)), cipherSize) != 1) {
      ERR_clear_error();
      return refused;
    }
    out.resize(before + size);
  }
  return out;
}

}  // namespace zunth::secure
