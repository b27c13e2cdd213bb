#pragma once

#include <algorithm>
#include <string>
#include <string_view>

/// Upper and lower case of ASCII's letters, whatever the machine's language is; all else stays as it is.
namespace zunth::ua {

constexpr char lower(char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + ('a' - 'A')) : c; }

inline std::string lower(std::string_view text) {
  std::string out(text);
  std::ranges::transform(out, out.begin(), [](char c) { return lower(c); });
  return out;
}

inline bool isSameButCase(std::string_view a, std::string_view b) {
  return std::ranges::equal(a, b, [](char x, char y) { return lower(x) == lower(y); });
}

}  // namespace zunth::ua
