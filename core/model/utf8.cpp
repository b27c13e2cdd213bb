#include "core/model/utf8.hpp"

#include <algorithm>
#include <cstdint>
#include <cstring>

#include <fmt/format.h>

namespace zunth::model {
namespace {

/// Octets of the sequence that begins at `at`; 0 for what is none (RFC 3629: no overlong forms, no surrogates).
std::size_t sequenceAt(std::string_view text, std::size_t at) {
  const auto octet = [&](std::size_t i) {
    return at + i < text.size() ? static_cast<unsigned char>(text[at + i]) : 0u;
  };
  const unsigned first = octet(0), second = octet(1);
  const auto follows = [&](std::size_t count) {
    for (std::size_t i = 1; i <= count; ++i)
      if ((octet(i) & 0xC0u) != 0x80u) return std::size_t{0};
    return count + 1;
  };
  if (first < 0x80) return 1;
  if (first >= 0xC2 && first <= 0xDF) return follows(1);
  if (first >= 0xE0 && first <= 0xEF)
    return (first == 0xE0 && second < 0xA0) || (first == 0xED && second > 0x9F) ? 0 : follows(2);
  if (first >= 0xF0 && first <= 0xF4)
    return (first == 0xF0 && second < 0x90) || (first == 0xF4 && second > 0x8F) ? 0 : follows(3);
  return 0;
}

/// Octets of plain ASCII from `at` on, as far as whole words of eight go: nearly all of a file.
std::size_t plainAt(std::string_view text, std::size_t at) {
  constexpr std::uint64_t kHighBits = 0x8080'8080'8080'8080u;
  std::size_t end = at;
  for (std::uint64_t word = 0; end + sizeof word <= text.size(); end += sizeof word) {
    std::memcpy(&word, text.data() + end, sizeof word);
    if (word & kHighBits) break;
  }
  return end - at;
}

}  // namespace

bool checkUtf8(const std::string& file, std::string_view text, Findings& findings) {
  for (std::size_t at = 0; at < text.size();) {
    if (const std::size_t plain = plainAt(text, at)) {
      at += plain;
      continue;
    }
    const std::size_t length = sequenceAt(text, at);
    if (length) {
      at += length;
      continue;
    }
    const auto before = text.substr(0, at);
    const auto line = static_cast<std::size_t>(std::ranges::count(before, '\n')) + 1;
    const auto start = before.rfind('\n');
    findings.error({file, line, start == std::string_view::npos ? at + 1 : at - start, 1},
                   fmt::format("the octet 0x{:02X} is no UTF-8", static_cast<unsigned char>(text[at])),
                   "save the file as UTF-8");
    return false;
  }
  return true;
}

}  // namespace zunth::model
