#pragma once

#include "service/net/web_link.hpp"
#include "service/server/server.hpp"

#include <boost/asio/awaitable.hpp>
#include <boost/asio/io_context.hpp>

namespace zunth::endpoint {

/// Serves what comes over TLS on one port: WebSockets that carry secure channels ("opcua+uacp") or JSON messages
/// ("opcua+uajson"), and messages posted over HTTPS in binary or JSON (Part 6, 7.4 and 7.5).
class WebEndpoint {
 public:
  struct Callbacks {
    /// A WebSocket asks for a secure channel.
    std::function<void(std::shared_ptr<net::Link>)> channel;
    /// Work was done; see Listener::served().
    std::function<void()> served;
    std::function<std::uint32_t()> nextChannelId;
  };
  WebEndpoint(net::asio::io_context& loop, server::Server& server, Callbacks callbacks);

  /// Takes a connection that was just accepted.
  void accept(net::Tcp::socket socket);
  std::size_t connectionCount() const { return *connections_; }

 private:
  class Caller;
  class JsonCaller;
  class HttpCaller;
  net::asio::awaitable<void> converse(net::Tcp::socket socket);

  net::asio::io_context& loop_;
  server::Server& server_;
  Callbacks callbacks_;
  std::shared_ptr<const secure::Identity> identity_;  // that tls_ was made with
  std::shared_ptr<net::TlsContext> tls_;
  std::shared_ptr<std::size_t> connections_ = std::make_shared<std::size_t>(0);
};

}  // namespace zunth::endpoint
