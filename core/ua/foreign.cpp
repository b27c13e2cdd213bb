#include "core/ua/foreign.hpp"

#include <cstdint>

#include <fmt/format.h>

namespace zunth::ua {

namespace {

struct Character {
  std::uint32_t code = 0;
  std::size_t size = 0;  // octets; 0 where there is none that is UTF-8 (RFC 3629)
};

Character characterAt(std::string_view text) {
  const auto octet = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
  const unsigned char first = octet(0);
  if (first < 0x80) return {first, 1};
  const std::size_t size = first >= 0xF0 ? 4 : first >= 0xE0 ? 3 : 2;
  if (first < 0xC2 || first > 0xF4 || size > text.size()) return {};
  std::uint32_t code = first & (0x7Fu >> size);
  for (std::size_t i = 1; i < size; ++i) {
    if ((octet(i) & 0xC0) != 0x80) return {};
    code = code << 6 | (octet(i) & 0x3F);
  }
  const bool isShortest = code >= (size == 4 ? 0x10000u : size == 3 ? 0x800u : 0x80u);
  const bool isSurrogate = code >= 0xD800 && code <= 0xDFFF;
  return isShortest && !isSurrogate && code <= 0x10FFFF ? Character{code, size} : Character{};
}

/// Controls, line ends, marks of direction, and what shows nothing at all.
bool isHidden(std::uint32_t code) {
  return code < 0x20 || (code >= 0x7F && code <= 0x9F) || code == 0xAD || code == 0x61C || code == 0x180E ||
         (code >= 0x200B && code <= 0x200F) || (code >= 0x2028 && code <= 0x202E) ||
         (code >= 0x2060 && code <= 0x206F) || code == 0xFEFF || (code >= 0xFFF9 && code <= 0xFFFB) ||
         (code >= 0xE0000 && code <= 0xE0FFF);
}

std::string escaped(std::uint32_t code) {
  switch (code) {
    case '\n': return "\\n";
    case '\r': return "\\r";
    case '\t': return "\\t";
    default: return code < 0x100 ? fmt::format("\\x{:02x}", code) : fmt::format("\\u{{{:x}}}", code);
  }
}

}  // namespace

std::string shown(std::string_view foreign, std::size_t most) {
  std::string out;
  while (!foreign.empty()) {
    const Character next = characterAt(foreign);
    const std::string_view itself = foreign.substr(0, next.size);
    const std::string part = !next.size            ? fmt::format("\\x{:02x}", static_cast<unsigned char>(foreign[0]))
                             : isHidden(next.code) ? escaped(next.code)
                                                   : std::string(itself);
    if (out.size() + part.size() > most) return out + "...";
    out += part;
    foreign.remove_prefix(next.size ? next.size : 1);
  }
  return out;
}

std::string_view cut(std::string_view text, std::size_t most) {
  if (text.size() <= most) return text;
  while (most > 0 && (static_cast<unsigned char>(text[most]) & 0xC0) == 0x80) --most;
  return text.substr(0, most);
}

}  // namespace zunth::ua
