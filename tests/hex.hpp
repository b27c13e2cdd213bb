#pragma once

#include "core/ua/bytes.hpp"

#include <string>
#include <string_view>

namespace zunth::test {

/// Octets from "0a ff 10"; blanks are skipped.
inline ua::Bytes unhex(std::string_view text) {
  ua::Bytes out;
  int high = -1;
  for (char c : text) {
    const int digit = c >= '0' && c <= '9'   ? c - '0'
                      : c >= 'a' && c <= 'f' ? c - 'a' + 10
                      : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                             : -1;
    if (digit < 0) continue;
    if (high < 0) {
      high = digit;
    } else {
      out.push_back(static_cast<std::byte>(high * 16 + digit));
      high = -1;
    }
  }
  return out;
}

inline std::string hex(ua::BytesView octets) {
  std::string out;
  for (std::byte b : octets) {
    out += "0123456789abcdef"[std::to_integer<int>(b) >> 4];
    out += "0123456789abcdef"[std::to_integer<int>(b) & 15];
  }
  return out;
}

}  // namespace zunth::test
