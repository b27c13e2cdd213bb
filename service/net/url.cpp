#include "service/net/url.hpp"

#include <charconv>

#include <fmt/format.h>

namespace zunth::net {

ua::Result<Url> Url::parse(std::string_view text) {
  auto invalid = [text](std::string_view why) {
    return ua::Error{ua::status::BadTcpEndpointUrlInvalid, fmt::format("'{}' is not an endpoint URL: {}", text, why),
                     "write opc.tcp://HOST:PORT"};
  };
  constexpr std::string_view scheme = "opc.tcp://";
  if (!text.starts_with(scheme)) return invalid("it doesn't start with opc.tcp://");
  std::string_view rest = text.substr(scheme.size());
  Url url;
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
  return fmt::format("opc.tcp://{}{}{}:{}{}", isV6 ? "[" : "", host, isV6 ? "]" : "", port, path);
}

}  // namespace zunth::net
