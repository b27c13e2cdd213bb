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

inline Result<DateTime> parseDocumentTime(std::string_view text) {
  if (text.starts_with("0001-01-01T00:00:00")) return DateTime{};
  if (text.starts_with("9999-12-31T23:59:59")) return DateTime{std::numeric_limits<std::int64_t>::max()};
  return DateTime::parse(text);
}

}  // namespace zunth::ua
