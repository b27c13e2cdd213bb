#pragma once

#include "core/ua/bytes.hpp"

#include <memory>

#include <openssl/ecdsa.h>
#include <openssl/evp.h>
#include <openssl/kdf.h>

/// What the files of this room need of OpenSSL's C: its objects freed once, and our octets as its own.
namespace zunth::secure::openssl {

struct Free {
  void operator()(EVP_PKEY* at) const { EVP_PKEY_free(at); }
  void operator()(EVP_PKEY_CTX* at) const { EVP_PKEY_CTX_free(at); }
  void operator()(EVP_KDF_CTX* at) const { EVP_KDF_CTX_free(at); }
  void operator()(EVP_MAC_CTX* at) const { EVP_MAC_CTX_free(at); }
  void operator()(EVP_MD_CTX* at) const { EVP_MD_CTX_free(at); }
  void operator()(EVP_CIPHER_CTX* at) const { EVP_CIPHER_CTX_free(at); }
  void operator()(ECDSA_SIG* at) const { ECDSA_SIG_free(at); }
};

inline const unsigned char* raw(ua::BytesView octets) { return reinterpret_cast<const unsigned char*>(octets.data()); }
inline unsigned char* raw(std::byte* octets) { return reinterpret_cast<unsigned char*>(octets); }

}  // namespace zunth::secure::openssl
