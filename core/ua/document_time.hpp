#pragma once

#include "core/ua/basic_types.hpp"

/// Times in JSON and XML documents, which know the years 1 to 9999 (Part 6, 5.3.1.6 and 5.4.2.6): what lies outside is
/// written as the first or the last of them, and these are read as no time and as the end of time.
namespace zunth::ua {

inline constexpr std::string_view kFirstTime = "0001-01-01T00:00:00Z", kLastTime = "9999-12-31T23:59:59Z";
inline constexpr std::int64_t kLastTicks = 2'650'467'743'990'000'000;

inline std::string documentTime(DateTime time) {
  if (time.ticks <= 0) return std::string(kFirstTime);
  return time.ticks >= kLastTicks ? std::string(kLastTime) : time.text();
}

/// Takes an offset from UTC, too, and a time without one as UTC, as xs:dateTime has it.
inline Result<DateTime> parseDocumentTime(std::string_view text) {
  if (text.starts_with("0001-01-01T00:00:00")) return DateTime{};
  if (text.starts_with("9999-12-31T23:59:59")) return DateTime{std::numeric_limits<std::int64_t>::max()};
  const std::size_t kLeast = std::string_view("2026-05-04T07:30:00").size();
  if (text.size() < kLeast || text.ends_with('Z')) return DateTime::parse(text);
  const std::size_t sign = text.find_first_of("+-", kLeast);
  auto time = DateTime::parse(std::string(text.substr(0, sign)) + "Z");
  if (!time || sign == std::string_view::npos) return time;
  const std::string_view offset = text.substr(sign + 1);
  const auto digit = [&](std::size_t at) { return static_cast<unsigned>(offset[at] - '0'); };
  if (offset.size() != 5 || offset[2] != ':' || digit(0) > 9 || digit(1) > 9 || digit(3) > 5 || digit(4) > 9)
    return DateTime::parse(text);  // says what is wrong
  const std::int64_t minutes = (digit(0) * 10 + digit(1)) * 60 + digit(3) * 10 + digit(4);
  if (minutes > 14 * 60) return DateTime::parse(text);
  constexpr std::int64_t kTicksPerMinute = 600'000'000;
  time->ticks += (text[sign] == '+' ? -1 : 1) * minutes * kTicksPerMinute;
  return time;
}

}  // namespace zunth::ua
