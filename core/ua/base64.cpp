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
  for (char c : text)  // the decoder below would skip blanks
    if (c <= ' ') return std::nullopt;
  Bytes out(text.size() / 4 * 3);
  const int n = EVP_DecodeBlock(reinterpret_cast<unsigned char*>(out.data()),
                                reinterpret_cast<const unsigned char*>(text.data()), static_cast<int>(text.size()));
  if (n < 0) return std::nullopt;
  std::size_t padding = 0;
  while (padding < 2 && padding < text.size() && text[text.size() - 1 - padding] == '=') ++padding;
  out.resize(static_cast<std::size_t>(n) - padding);
  return out;
}

}  // namespace zunth::ua
