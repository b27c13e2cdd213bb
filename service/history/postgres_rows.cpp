#include "service/history/postgres_rows.hpp"

#include "core/ua/binary_reader.hpp"
#include "core/ua/binary_writer.hpp"
#include "core/ua/foreign.hpp"

#include <charconv>
#include <cmath>

#include <fmt/format.h>

namespace zunth::history {

using namespace ua;

namespace {

constexpr std::int64_t kTicksPerMicro = 10;
constexpr std::int64_t kMicrosTo1970 = 11'644'473'600'000'000;  // since 1601
constexpr int kOther = 255;
constexpr std::size_t kMostWords = 1000;
constexpr double kMostExact = 9'007'199'254'740'992;  // 2^53: a Double has every whole number up to here

/// Calls `use` with the number of a single value; nothing for what is none.
template <class Use>
bool withNumber(const Variant& value, Use&& use) {
  if (value.isArray() || value.isNull() || value.type() > BuiltInType::Double) return false;
  visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) {
    if constexpr (std::is_arithmetic_v<T>) use(*value.get<T>());
  });
  return true;
}

template <class T>
std::string digits(T number) {
  char out[40];
  const auto end = std::to_chars(out, out + sizeof out, number).ptr;
  return {out, end};
}

std::string digitsOf(double number) {
  if (std::isnan(number)) return "NaN";
  if (std::isinf(number)) return number < 0 ? "-Infinity" : "Infinity";
  return digits(number);
}

std::string hexOf(const Variant& value) {
  Bytes octets;
  BinaryWriter(octets).write(value);
  return history::hexOf(octets);
}

template <class T>
Result<Variant> numberFrom(const std::string& text) {
  double number = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (error != std::errc() || end != text.data() + text.size())
    return Error{status::BadDecodingError, fmt::format("'{}' is no number", shown(text)), {}};
  if constexpr (std::is_same_v<T, bool>) {
    return Variant(number != 0);
  } else {
    // What was changed by other hands may not fit; what is beyond 2^53 has its exact value.
    if (std::is_integral_v<T> &&
        !(number >= std::max(static_cast<double>(std::numeric_limits<T>::min()), -kMostExact) &&
          number <= std::min(static_cast<double>(std::numeric_limits<T>::max()), kMostExact)))
      return Error{status::BadDecodingError, fmt::format("{} doesn't fit its type", shown(text)), {}};
    return Variant(static_cast<T>(number));
  }
}

}  // namespace

RowTime RowTime::of(DateTime time) {
  using namespace std::chrono;
  const std::int64_t ticks = std::clamp(time.ticks, kFirstRow.ticks, kLastRow.ticks);
  const sys_time<microseconds> moment(microseconds(ticks / kTicksPerMicro - kMicrosTo1970));
  const auto day = floor<days>(moment);
  const year_month_day date(day);
  const hh_mm_ss clock(moment - day);
  return {fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02}.{:06}+00", static_cast<int>(date.year()),
                      static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day()), clock.hours().count(),
                      clock.minutes().count(), clock.seconds().count(), clock.subseconds().count()),
          static_cast<int>(ticks % kTicksPerMicro)};
}

DateTime timeFrom(std::int64_t micros, int tick) { return {(micros + kMicrosTo1970) * kTicksPerMicro + tick}; }

std::string hexOf(BytesView octets) {
  static constexpr char kDigits[] = "0123456789abcdef";
  std::string out = "\\x";
  out.reserve(2 + 2 * octets.size());
  for (const auto octet : octets) {
    out += kDigits[std::to_integer<unsigned>(octet) >> 4];
    out += kDigits[std::to_integer<unsigned>(octet) & 15];
  }
  return out;
}

std::optional<Bytes> octetsOf(std::string_view hex) {
  if (!hex.starts_with("\\x") || hex.size() % 2) return std::nullopt;
  Bytes out;
  out.reserve(hex.size() / 2 - 1);
  for (std::size_t i = 2; i < hex.size(); i += 2) {
    unsigned octet = 0;
    const auto [end, error] = std::from_chars(&hex[i], &hex[i] + 2, octet, 16);
    if (error != std::errc() || end != &hex[i] + 2) return std::nullopt;
    out.push_back(static_cast<std::byte>(octet));
  }
  return out;
}

RowValue RowValue::of(const Variant& value) {
  RowValue out;
  if (value.isNull()) return out;
  const bool isNumber = withNumber(value, [&]<class T>(T number) {
    out.type = static_cast<int>(value.type());
    if constexpr (std::is_same_v<T, float>) {
      // The shortest digits of a Float are those of its own.
      out.number = std::isfinite(number) ? digits(number) : digitsOf(number);
    } else {
      out.number = digitsOf(static_cast<double>(number));
    }
    if constexpr (sizeof(T) == 8 && std::is_integral_v<T>) {
      constexpr T kMost = T{1} << 53;
      if (number > kMost || (std::is_signed_v<T> && number < -kMost)) out.exact = hexOf(value);
    }
  });
  if (isNumber) return out;
  out.type = value.isArray() ? kOther : static_cast<int>(value.type());
  out.exact = hexOf(value);
  if (const auto* words = value.get<String>()) out.words = shown(words->view(), kMostWords);
  return out;
}

Result<Variant> RowValue::value() const {
  if (exact) {
    const auto octets = octetsOf(*exact);
    if (!octets) return Error{status::BadDecodingError, "its exact value is no octets", {}};
    BinaryReader reader(*octets);
    auto out = reader.next<Variant>();
    if (!reader.ok()) return Error{status::BadDecodingError, "its exact value is none", {}};
    return out;
  }
  if (!number) return Variant();
  if (type < static_cast<int>(BuiltInType::Boolean) || type > static_cast<int>(BuiltInType::Double))
    return Error{status::BadDecodingError, fmt::format("{} is no type of numbers", type), {}};
  Result<Variant> out = Variant();
  visitBuiltIn(static_cast<BuiltInType>(type), [&]<class T>(std::type_identity<T>) {
    if constexpr (std::is_arithmetic_v<T>) out = numberFrom<T>(*number);
  });
  return out;
}

}  // namespace zunth::history
