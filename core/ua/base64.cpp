#include "core/ua/base64.hpp"

#include <openssl/evp.h>

namespace zunth::ua {

std::string toBase64(BytesView octets) {
  std::string out((octets.size() + 2) / 3 * 4, '\0');
  EVP_EncodeBlock(reinterpret_cast<unsigned char*>(out.data()), reinterpret_cast<const unsigned char*>(octets.data()),
                  static_cast<int>(octets.size()));
  return out;
}

std::optional<Bytes> fromBase64(std::string_view text) {
  if (text.size() % 4 != 0) return std::nullopt;
  const std::size_t padding = text.ends_with("==") ? 2 : text.ends_with('=') ? 1 : 0;
  for (char c :
       text.substr(0, text.size() - padding))  // the decoder below would skip blanks, and take padding for zeros
    if (c <= ' ' || c == '=') return std::nullopt;
  Bytes out(text.size() / 4 * 3);
  const int n = EVP_DecodeBlock(reinterpret_cast<unsigned char*>(out.data()),
                                reinterpret_cast<const unsigned char*>(text.data()), static_cast<int>(text.size()));
  if (n < 0) return std::nullopt;
  out.resize(static_cast<std::size_t>(n) - padding);
  return out;
}

}  // namespace zunth::ua
