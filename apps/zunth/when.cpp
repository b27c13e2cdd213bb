#include "apps/zunth/when.hpp"

#include "core/ua/text.hpp"

#include <ctime>
#include <optional>

#include <fmt/chrono.h>

namespace zunth::cli {

using namespace ua;
using std::chrono::system_clock;

namespace {

Error noMoment(std::string_view text) {
  return {status::BadSyntaxError, fmt::format("'{}' is no moment", text),
          "write -2h, yesterday 06:00, 2026-11-28 06:00 or now"};
}

struct TimeOfDay {
  int hour = 0, minute = 0;
  double second = 0;
};

/// "06:00", "6:30:15.5"
std::optional<TimeOfDay> timeOfDay(std::string_view text) {
  TimeOfDay out;
  int used = 0;
  const std::string words(text);
  const int found = std::sscanf(words.c_str(), "%2d:%2d%n:%lf%n", &out.hour, &out.minute, &used, &out.second, &used);
  const bool fits = found >= 2 && static_cast<std::size_t>(used) == words.size() && out.hour >= 0 && out.hour < 24 &&
                    out.minute >= 0 && out.minute < 60 && out.second >= 0 && out.second < 60;
  return fits ? std::optional(out) : std::nullopt;
}

/// By this machine's clock and zone.
DateTime local(std::tm day, const TimeOfDay& time) {
  day.tm_hour = time.hour;
  day.tm_min = time.minute;
  day.tm_sec = 0;
  day.tm_isdst = -1;
  DateTime out = DateTime::from(system_clock::from_time_t(std::mktime(&day)));
  out.ticks += static_cast<std::int64_t>(time.second * 1e7);
  return out;
}

}  // namespace

Result<double> lengthOf(std::string_view text) {
  const auto end = text.find_first_not_of("0123456789.");
  const auto wrong = Error{status::BadSyntaxError, fmt::format("'{}' is no length of time", text),
                           "write 250ms, 90s, 15min, 2h or 1d"};
  if (end == std::string_view::npos || end == 0) return wrong;
  const auto number = parse(text.substr(0, end), BuiltInType::Double);
  const auto unit = text.substr(text[end] == ' ' ? end + 1 : end);
  const double factor = unit == "ms"                     ? 1
                        : unit == "s"                    ? 1'000
                        : unit == "min" || unit == "m"   ? 60'000
                        : unit == "h"                    ? 3'600'000
                        : unit == "d" || unit == "days"  ? 86'400'000
                        : unit == "w" || unit == "weeks" ? 7 * 86'400'000.0
                                                         : 0;
  if (!number || factor == 0) return wrong;
  return *number->get<double>() * factor;
}

Result<DateTime> momentOf(std::string_view text, system_clock::time_point now) {
  constexpr double kTicksPerMs = 10'000;
  if (text == "now") return DateTime::from(now);
  if (text.starts_with('-')) {
    const auto ago = lengthOf(text.substr(1));
    if (!ago) return noMoment(text);
    return DateTime{DateTime::from(now).ticks - static_cast<std::int64_t>(*ago * kTicksPerMs)};
  }
  std::tm day = fmt::localtime(system_clock::to_time_t(now));
  if (const auto time = timeOfDay(text)) return local(day, *time);
  const auto space = text.find_first_of(" T");
  const std::string_view date = text.substr(0, space);
  const auto time = space == std::string_view::npos ? TimeOfDay() : timeOfDay(text.substr(space + 1));
  if (date == "yesterday" || date == "today") {
    if (!time) return noMoment(text);
    day.tm_mday -= date == "yesterday";
    return local(day, *time);
  }
  if (!time) {
    // A whole one says its zone, too.
    if (auto whole = DateTime::parse(text)) return *whole;
    return noMoment(text);
  }
  const std::string words(date);
  int used = 0;
  if (std::sscanf(words.c_str(), "%4d-%2d-%2d%n", &day.tm_year, &day.tm_mon, &day.tm_mday, &used) != 3 ||
      static_cast<std::size_t>(used) != words.size() || day.tm_mon < 1 || day.tm_mon > 12 || day.tm_mday < 1 ||
      day.tm_mday > 31)
    return noMoment(text);
  day.tm_year -= 1900;
  day.tm_mon -= 1;
  return local(day, *time);
}

}  // namespace zunth::cli
