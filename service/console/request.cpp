#include "service/console/request.hpp"

#include "core/ua/status.hpp"

#include <algorithm>
#include <charconv>

namespace zunth::console {

using namespace ua;

namespace {

int digitOf(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  const char lower = static_cast<char>(c | 0x20);
  return lower >= 'a' && lower <= 'f' ? lower - 'a' + 10 : -1;
}

/// "a%20b" as "a b"; nothing for half an escape or a zero octet.
std::optional<std::string> decoded(std::string_view text, bool plusIsSpace) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    char c = text[i];
    if (c == '+' && plusIsSpace) c = ' ';
    if (c == '%') {
      if (i + 2 >= text.size()) return std::nullopt;
      const int high = digitOf(text[i + 1]), low = digitOf(text[i + 2]);
      if (high < 0 || low < 0) return std::nullopt;
      c = static_cast<char>(high * 16 + low);
      i += 2;
    }
    if (c == '\0') return std::nullopt;
    out += c;
  }
  return out;
}

}  // namespace

std::string Request::value(const std::string& name, std::string otherwise) const {
  const auto found = query.find(name);
  return found == query.end() ? std::move(otherwise) : found->second;
}

std::vector<std::string> Request::values(const std::string& name) const {
  std::vector<std::string> out;
  for (auto [at, end] = query.equal_range(name); at != end; ++at) out.push_back(at->second);
  return out;
}

std::size_t Request::number(const std::string& name, std::size_t otherwise, std::size_t most) const {
  const std::string text = value(name);
  std::size_t number = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (text.empty() || error != std::errc() || end != text.data() + text.size()) return otherwise;
  return std::min(number, most);
}

Result<void> readTarget(std::string_view target, Request& request) {
  const Error bad{status::BadSyntaxError, "the address is none", {}};
  const auto mark = std::min(target.find('?'), target.size());
  auto path = decoded(target.substr(0, mark), false);
  if (!path || !path->starts_with('/')) return bad;
  request.path = std::move(*path);
  constexpr std::size_t kMostParameters = 2'000;
  for (auto rest = target.substr(std::min(mark + 1, target.size())); !rest.empty();) {
    const auto end = std::min(rest.find('&'), rest.size());
    const auto pair = rest.substr(0, end);
    rest.remove_prefix(std::min(end + 1, rest.size()));
    const auto equals = std::min(pair.find('='), pair.size());
    auto name = decoded(pair.substr(0, equals), true);
    auto value = decoded(pair.substr(std::min(equals + 1, pair.size())), true);
    if (!name || !value) return bad;
    if (request.query.size() >= kMostParameters) return Error{status::BadRequestTooLarge, "too many parameters", {}};
    request.query.emplace(std::move(*name), std::move(*value));
  }
  return {};
}

std::optional<DateTime> momentOf(const std::string& text) {
  std::int64_t ms = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), ms);
  constexpr std::int64_t kFarthest = 253'402'300'800'000;  // the year 10,000
  if (error == std::errc() && end == text.data() + text.size() && ms > -kFarthest && ms < kFarthest)
    return DateTime::from(std::chrono::system_clock::time_point(std::chrono::milliseconds(ms)));
  auto parsed = DateTime::parse(text);
  return parsed ? std::optional(*parsed) : std::nullopt;
}

std::string cookieNamed(std::string_view header, std::string_view name) {
  while (!header.empty()) {
    const auto end = std::min(header.find(';'), header.size());
    auto pair = header.substr(0, end);
    header.remove_prefix(std::min(end + 1, header.size()));
    while (pair.starts_with(' ')) pair.remove_prefix(1);
    if (pair.size() > name.size() && pair.starts_with(name) && pair[name.size()] == '=')
      return std::string(pair.substr(name.size() + 1));
  }
  return {};
}

}  // namespace zunth::console
