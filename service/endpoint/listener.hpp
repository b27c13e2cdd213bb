#pragma once

#include "service/endpoint/connection.hpp"
#include "service/net/tcp_link.hpp"
#include "service/net/url.hpp"

#include <deque>
#include <mutex>

#include <boost/asio/awaitable.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/thread_pool.hpp>

namespace zunth::endpoint {

/// Listens on the endpoints, gives each connection a channel to the server, and keeps the server's time: runs tick()
/// when something is due. Everything runs on the loop it is given.
class Listener final : House {
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
  void served() override;
  /// Somebody may be trusted no longer: ends the connections of those.
  void trustChanged();
  std::size_t connectionCount() const { return guests_.size(); }

 private:
  struct Door;
  void accept(Door& door);
  void connected(std::shared_ptr<net::Link> link, const server::Entrance& entrance,
                 std::optional<channel::ReverseHello> said = {});
  net::asio::awaitable<void> keepReaching(net::Url client);
  void schedule();

  // House
  server::Server& server() override { return server_; }
  Guests& guests() override { return guests_; }
  void queued() override;
  /// Work with keys has a thread of its own, and queues of limited length: who opens channels by the hundred keeps
  /// nobody waiting who has one, as renewals come first. BadTcpServerTooBusy when it is full, unless the channel is
  /// open already.
  ua::Result<void> offload(std::function<void()> work, bool isOpen, std::function<void()> done) override;
  void workOnKeys();

  static constexpr std::size_t kMostHandshakes = 64;  // that wait; each takes a millisecond or two
  struct KeyWork {
    std::function<void()> work, done;
  };
  net::asio::io_context& loop_;
  server::Server& server_;
  std::vector<std::unique_ptr<Door>> doors_;
  Guests guests_;
  net::asio::steady_timer timer_;
  ua::Instant timerDue_ = ua::Instant::max();
  ua::Instant guestsSeen_{};
  bool isQueuePosted_ = false;
  std::uint32_t lastChannelId_ = 0;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
  std::mutex keyWorkGuard_;
  std::deque<KeyWork> renewals_, handshakesWaiting_;  // under keyWorkGuard_
  net::asio::thread_pool handshakes_{1};              // the last member: it ends before what its work uses
};

}  // namespace zunth::endpoint
