#pragma once

#include "service/net/tcp_link.hpp"
#include "service/net/url.hpp"
#include "service/server/server.hpp"

#include <atomic>
#include <set>

#include <boost/asio/awaitable.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/thread_pool.hpp>

namespace zunth::endpoint {

class Connection;
class WebEndpoint;

/// Listens on the endpoints, gives each connection a channel to the server, and keeps the server's time: runs tick()
/// when something is due. Everything runs on the loop it is given.
class Listener {
 public:
  Listener(net::asio::io_context& loop, server::Server& server);
  ~Listener();

  /// Listens on "opc.tcp://HOST:PORT/..." (port 0 takes a free one), or on the same with opc.wss and opc.https, which
  /// may share a port. The URL with the true port, or an error that names the cause: BadTcpEndpointUrlInvalid,
  /// BadCommunicationError when the port is taken.
  ua::Result<std::string> listen(const std::string& url);
  /// Connects to a client that waits at "opc.tcp://HOST:PORT" (Part 6, 7.1.3), and again when the connection ends.
  ua::Result<void> reach(const std::string& clientUrl);
  /// Closes every connection and stops listening.
  void stop();
  /// Work was done: samples, answers or time-outs may be due sooner than planned.
  void served();
  /// Somebody may be trusted no longer: ends the connections of those.
  void trustChanged();
  std::size_t connectionCount() const { return connections_.size(); }

 private:
  friend class Connection;
  struct Door;
  void accept(Door& door);
  void connected(std::shared_ptr<net::Link> link, bool isEncrypted, std::optional<channel::ReverseHello> said = {});
  void makeRoom(const std::shared_ptr<Connection>& newest);
  net::asio::awaitable<void> keepReaching(net::Url client);
  void schedule();
  /// Work with keys has a thread of its own, and a queue of limited length: who opens channels by the hundred keeps
  /// nobody waiting who has one. BadTcpServerTooBusy when it is full, unless the channel is open already.
  ua::Result<void> offload(std::function<void()> work, bool isOpen, std::function<void()> done);

  static constexpr std::size_t kMostConnections = 200;
  static constexpr int kMostHandshakes = 64;  // that wait; each takes a millisecond or two
  net::asio::io_context& loop_;
  server::Server& server_;
  std::vector<std::unique_ptr<Door>> doors_;
  std::set<std::shared_ptr<Connection>> connections_;
  net::asio::steady_timer timer_;
  ua::Instant timerDue_ = ua::Instant::max();
  std::uint32_t lastChannelId_ = 0;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  std::atomic<int> handshakesWaiting_{0};
  net::asio::thread_pool handshakes_{1};  // the last member: it ends before what its work uses
};

}  // namespace zunth::endpoint
