#pragma once

#include "core/ua/result.hpp"

#include <cstdint>
#include <string>
#include <string_view>

namespace zunth::net {

/// An endpoint URL, "opc.tcp://HOST[:PORT][/PATH]"; the port is 4840 when none is written.
struct Url {
  std::string host;
  std::uint16_t port = 4840;
  std::string path;

  /// BadTcpEndpointUrlInvalid, saying what is wrong.
  static ua::Result<Url> parse(std::string_view text);
  std::string text() const;
};

}  // namespace zunth::net
