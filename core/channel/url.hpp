#pragma once

#include "core/ua/result.hpp"

#include <cstdint>
#include <string>
#include <string_view>

namespace zunth::channel {

/// An endpoint URL, "SCHEME://HOST[:PORT][/PATH]" with one of the standard's transports (Part 6, 7). Without a port it
/// is 4840, or 4843 over TLS.
struct Url {
  enum class Scheme { Tcp, WebSocket, Https };
  Scheme scheme = Scheme::Tcp;
  std::string host;
  std::uint16_t port = 4840;
  std::string path;
  bool isAwaited = false;  // "await+opc.tcp://...": a client listens there until the server connects

  /// BadTcpEndpointUrlInvalid, saying what is wrong.
  static ua::Result<Url> parse(std::string_view text);
  std::string text() const;
  bool isOverTls() const { return scheme != Scheme::Tcp; }
};

}  // namespace zunth::channel
