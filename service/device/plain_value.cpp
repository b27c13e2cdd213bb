#include "service/device/plain_value.hpp"

#include "core/model/utf8.hpp"
#include "core/ua/text.hpp"

#include <charconv>

namespace zunth::device {

using namespace ua;

std::string_view trimmed(std::string_view text) {
  constexpr std::string_view kSpace(" \t\r\n\0", 5);
  const auto from = text.find_first_not_of(kSpace);
  if (from == std::string_view::npos) return {};
  return text.substr(from, text.find_last_not_of(kSpace) - from + 1);
}

String textOf(std::string_view octets) {
  model::Findings ignored;
  if (model::checkUtf8({}, octets, ignored)) return String(std::string(octets));
  std::string out;
  for (const char c : octets) {
    const auto octet = static_cast<unsigned char>(c);
    if (octet >= 0x80) out += static_cast<char>(0xC0 | octet >> 6);
    out += static_cast<char>(octet >= 0x80 ? 0x80 | (octet & 0x3F) : octet);
  }
  return String(out);
}

Variant plainValue(std::string_view text) {
  text = trimmed(text);
  if (text == "true" || text == "false") return Variant(text == "true");
  // "nan" and "inf" are words to a device that sends text.
  std::string_view number = text.starts_with('+') ? text.substr(1) : text;
  const bool isNumber = number.find_first_not_of("0123456789.eE+-") == std::string_view::npos &&
                        number.find_first_of("0123456789") != std::string_view::npos;
  if (isNumber) {
    const char* const end = number.data() + number.size();
    std::int64_t whole = 0;
    if (const auto read = std::from_chars(number.data(), end, whole); read.ec == std::errc() && read.ptr == end)
      return Variant(whole);
    double real = 0;
    if (const auto read = std::from_chars(number.data(), end, real); read.ec == std::errc() && read.ptr == end)
      return Variant(real);
  }
  return Variant(textOf(text));
}

double widened(float value) {
  char digits[32];
  const auto written = std::to_chars(digits, digits + sizeof digits, value);
  double out = value;
  std::from_chars(digits, written.ptr, out);
  return out;
}

std::string plainText(const Variant& value) {
  if (const auto* text = value.get<String>()) return text->str();
  return format(value);
}

}  // namespace zunth::device
