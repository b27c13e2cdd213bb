#include "core/channel/url.hpp"

#include <algorithm>
#include <charconv>

#include <fmt/format.h>

namespace zunth::channel {

namespace {

struct SchemeName {
  std::string_view text;
  Url::Scheme scheme;
};
/// The first of each scheme is the one that is written.
constexpr SchemeName kSchemes[] = {{"opc.tcp://", Url::Scheme::Tcp},
                                   {"opc.wss://", Url::Scheme::WebSocket},
                                   {"opc.https://", Url::Scheme::Https},
                                   {"https://", Url::Scheme::Https}};

}  // namespace

ua::Result<Url> Url::parse(std::string_view text) {
  auto invalid = [text](std::string_view why) {
    return ua::Error{ua::status::BadTcpEndpointUrlInvalid, fmt::format("'{}' is not an endpoint URL: {}", text, why),
                     "write opc.tcp://HOST:PORT"};
  };
  constexpr std::string_view kAwait = "await+";
  const bool isAwaited = text.starts_with(kAwait);
  if (isAwaited) text.remove_prefix(kAwait.size());
  const auto named = std::ranges::find_if(kSchemes, [text](const auto& each) { return text.starts_with(each.text); });
  if (named == std::end(kSchemes)) return invalid("it doesn't start with opc.tcp://, opc.wss:// or opc.https://");
  std::string_view rest = text.substr(named->text.size());
  Url url;
  url.scheme = named->scheme;
  url.isAwaited = isAwaited;
  if (isAwaited && url.isOverTls()) return invalid("servers connect to clients by opc.tcp only");
  if (url.isOverTls()) url.port = 4843;
  const auto slash = rest.find('/');
  if (slash != std::string_view::npos) url.path = rest.substr(slash);
  std::string_view authority = rest.substr(0, slash);
  const auto bracket = authority.rfind(']');
  const auto colon = authority.rfind(':');
  if (colon != std::string_view::npos && (bracket == std::string_view::npos || colon > bracket)) {
    const auto port = authority.substr(colon + 1);
    const auto [end, failure] = std::from_chars(port.data(), port.data() + port.size(), url.port);
    if (failure != std::errc() || end != port.data() + port.size()) return invalid("its port is no number up to 65535");
    authority = authority.substr(0, colon);
  }
  if (authority.starts_with('[') && authority.ends_with(']')) authority = authority.substr(1, authority.size() - 2);
  if (authority.empty()) return invalid("it names no host");
  url.host = authority;
  return url;
}

std::string Url::text() const {
  const bool isV6 = host.find(':') != std::string::npos;
  const auto* named = std::ranges::find(kSchemes, scheme, &SchemeName::scheme);
  return fmt::format("{}{}{}{}{}:{}{}", isAwaited ? "await+" : "", named->text, isV6 ? "[" : "", host, isV6 ? "]" : "",
                     port, path);
}

}  // namespace zunth::channel
