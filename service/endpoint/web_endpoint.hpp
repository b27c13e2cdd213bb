#pragma once

#include "service/endpoint/connections.hpp"
#include "service/net/web_link.hpp"
#include "service/server/services.hpp"

#include <set>

#include <boost/asio/awaitable.hpp>
#include <boost/asio/thread_pool.hpp>
#include <boost/beast/http/message.hpp>
#include <boost/beast/http/string_body.hpp>

namespace zunth::endpoint {

/// Serves what comes over TLS on one port: WebSockets that carry secure channels ("opcua+uacp") or JSON messages
/// ("opcua+uajson"), and messages posted over HTTPS in binary or JSON (Part 6, 7.4 and 7.5). Its connections are guests
/// as all others are; TLS runs on an executor of each, what is asked on the services'.
class WebEndpoint {
 public:
  struct Callbacks {
    /// A WebSocket asks for a secure channel.
    std::function<void(std::shared_ptr<net::Link>, const server::Entrance&)> channel;
    /// Work was done; see Listener::served().
    std::function<void()> served;
    std::function<std::uint32_t()> nextChannelId;
    /// A guest queues.
    std::function<void()> queued;
  };
  WebEndpoint(net::Loops loops, server::Services& services, Guests& guests, Callbacks callbacks);
  ~WebEndpoint() { *alive_ = false; }

  /// Takes a connection that was just accepted.
  void accept(net::Tcp::socket socket);

 private:
  class Visit;
  class Caller;
  class JsonCaller;
  class HttpCaller;
  net::asio::awaitable<void> converse(net::Tcp::socket socket, std::shared_ptr<net::TlsContext> context);
  net::asio::awaitable<bool> shakeHands(net::TlsStream& stream, const std::shared_ptr<Visit>& visit);
  net::asio::awaitable<ua::Bytes> serve(ua::Result<ua::Bytes> message, std::string address, bool isJson,
                                        std::shared_ptr<Visit> visit, net::Executor executor);
  using HttpRequest = boost::beast::http::request<boost::beast::http::string_body>;
  net::asio::awaitable<void> upgrade(net::TlsStream stream, std::shared_ptr<net::TlsContext> context,
                                     const HttpRequest& request, bool isChannel);
  /// Does on a thread of its own what takes long, such as reading and writing large JSON; `done` among the services.
  void convert(std::function<void()> work, std::function<void()> done);
  net::asio::awaitable<void> away(std::function<void()> work);
  server::Entrance entrance(std::string_view profile, bool isWebSocket) const;

  const net::Loops loops_;
  server::Services& services_;
  Guests& guests_;
  Callbacks callbacks_;
  std::shared_ptr<const secure::Identity> identity_;  // that tls_ was made with
  std::shared_ptr<net::TlsContext> tls_;
  std::set<std::shared_ptr<Visit>> shaking_;  // hands
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  net::asio::thread_pool conversions_{1};  // the last member: it ends before what its work uses
};

}  // namespace zunth::endpoint
