#include "core/secure/password.hpp"

#include "core/ua/base64.hpp"

#include <array>
#include <charconv>
#include <cstdint>
#include <stdexcept>
#include <vector>

#include <fmt/format.h>
#include <openssl/crypto.h>
#include <openssl/evp.h>
#include <openssl/rand.h>

namespace zunth::secure {

using namespace ua;

namespace {

// 16 MiB and some 50 ms a guess.
constexpr std::uint64_t kCost = 16'384, kBlock = 8, kParallel = 1;
constexpr std::uint64_t kMostMemory = 64u << 20;
constexpr std::size_t kSaltSize = 16, kHashSize = 32;

using Hash = std::array<unsigned char, kHashSize>;

BytesView view(const Hash& hash) { return std::as_bytes(std::span(hash)); }

bool derive(std::string_view password, BytesView salt, std::uint64_t cost, Hash& out) {
  return EVP_PBE_scrypt(password.data(), password.size(), reinterpret_cast<const unsigned char*>(salt.data()),
                        salt.size(), cost, kBlock, kParallel, kMostMemory, out.data(), out.size()) == 1;
}

}  // namespace

std::string hashPassword(std::string_view password) {
  Bytes salt(kSaltSize);
  Hash hash;
  if (RAND_bytes(reinterpret_cast<unsigned char*>(salt.data()), kSaltSize) != 1 || !derive(password, salt, kCost, hash))
    throw std::runtime_error("a password can't be hashed");
  return fmt::format("scrypt${}${}${}", kCost, toBase64(salt), toBase64(view(hash)));
}

bool verifyPassword(std::string_view stored, std::string_view password) {
  std::array<std::string_view, 4> parts;
  for (std::size_t i = 0; i < parts.size(); ++i) {
    const auto end = std::min(stored.find('$'), stored.size());
    parts[i] = stored.substr(0, end);
    stored.remove_prefix(std::min(end + 1, stored.size()));
  }
  std::uint64_t cost = 0;
  std::from_chars(parts[1].data(), parts[1].data() + parts[1].size(), cost);
  const auto salt = fromBase64(parts[2]), expected = fromBase64(parts[3]);
  Hash hash;
  if (parts[0] != "scrypt" || !salt || !expected || expected->size() != kHashSize ||
      !derive(password, *salt, cost, hash))
    return false;
  return CRYPTO_memcmp(hash.data(), expected->data(), kHashSize) == 0;
}

}  // namespace zunth::secure
