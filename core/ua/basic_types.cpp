#include "core/ua/basic_types.hpp"

#include <algorithm>
#include <charconv>

#include <fmt/format.h>

namespace zunth::ua {
namespace {

constexpr std::int64_t kTicksPerSecond = 10'000'000;
constexpr std::int64_t kSecondsFrom1601To1970 = 11'644'473'600;
using Ticks = std::chrono::duration<std::int64_t, std::ratio<1, kTicksPerSecond>>;

}  // namespace

DateTime DateTime::from(std::chrono::system_clock::time_point time) {
  return {std::chrono::duration_cast<Ticks>(time.time_since_epoch()).count() +
          kSecondsFrom1601To1970 * kTicksPerSecond};
}

std::chrono::system_clock::time_point DateTime::time() const {
  // system_clock counts nanoseconds in 64 bits, which ends in 2262; later times saturate.
  const std::int64_t since1970 = ticks - kSecondsFrom1601To1970 * kTicksPerSecond;
  constexpr std::int64_t most = INT64_MAX / 100;
  return std::chrono::system_clock::time_point(std::chrono::nanoseconds(std::clamp(since1970, -most, most) * 100));
}

std::string DateTime::text() const {
  using namespace std::chrono;
  std::int64_t seconds = ticks / kTicksPerSecond;
  std::int64_t fraction = ticks % kTicksPerSecond;
  if (fraction < 0) {
    fraction += kTicksPerSecond;
    --seconds;
  }
  const sys_seconds instant{std::chrono::seconds(seconds - kSecondsFrom1601To1970)};
  const auto day = floor<days>(instant);
  const year_month_day date{day};
  const hh_mm_ss time{instant - day};
  std::string out = fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}", static_cast<int>(date.year()),
                                static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day()),
                                time.hours().count(), time.minutes().count(), time.seconds().count());
  if (fraction) {
    std::string digits = fmt::format(".{:07}", fraction);
    digits.erase(digits.find_last_not_of('0') + 1);
    out += digits;
  }
  return out + "Z";
}

Result<DateTime> DateTime::parse(std::string_view text) {
  using namespace std::chrono;
  const Error wrong{status::BadSyntaxError, fmt::format("'{}' is not a time", text),
                    "write it as 2026-05-04T07:30:00Z"};
  auto number = [&](std::size_t at, std::size_t n, int& out) {
    if (at + n > text.size()) return false;
    const auto [end, failure] = std::from_chars(text.data() + at, text.data() + at + n, out);
    return failure == std::errc() && end == text.data() + at + n && text[at] != '-';
  };
  int y = 0, mo = 0, d = 0, h = 0, mi = 0, s = 0;
  if (text.size() < 20 || text[4] != '-' || text[7] != '-' || text[10] != 'T' || text[13] != ':' || text[16] != ':' ||
      text.back() != 'Z' || !number(0, 4, y) || !number(5, 2, mo) || !number(8, 2, d) || !number(11, 2, h) ||
      !number(14, 2, mi) || !number(17, 2, s))
    return wrong;
  const year_month_day date{year(y), month(static_cast<unsigned>(mo)), day(static_cast<unsigned>(d))};
  if (!date.ok() || h > 23 || mi > 59 || s > 60) return wrong;
  std::int64_t fraction = 0;
  if (text[19] == '.') {
    std::int64_t unit = kTicksPerSecond;
    for (std::size_t i = 20; i + 1 < text.size(); ++i) {
      if (text[i] < '0' || text[i] > '9') return wrong;
      unit /= 10;
      fraction += unit * (text[i] - '0');
    }
  } else if (text.size() != 20) {
    return wrong;
  }
  const auto instant = sys_days(date) + hours(h) + minutes(mi) + std::chrono::seconds(s);
  return DateTime{(instant.time_since_epoch().count() + kSecondsFrom1601To1970) * kTicksPerSecond + fraction};
}

std::string QualifiedName::text() const {
  return namespaceIndex ? fmt::format("{}:{}", namespaceIndex, name.view()) : name.str();
}

QualifiedName QualifiedName::parse(std::string_view text) {
  std::uint16_t ns = 0;
  const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), ns);
  if (failure == std::errc() && end != text.data() + text.size() && *end == ':')
    return {ns, String(text.substr(static_cast<std::size_t>(end - text.data()) + 1))};
  return {0, String(text)};
}

}  // namespace zunth::ua
