#pragma once

#include "core/channel/url.hpp"
#include "service/endpoint/visitor.hpp"
#include "service/net/tcp_link.hpp"

#include <map>

#include <boost/asio/awaitable.hpp>
#include <boost/asio/steady_timer.hpp>

namespace zunth::endpoint {

/// Listens on the endpoints, gives each connection a channel to the server, and keeps the server's time: runs tick()
/// when something is due. Everything here is on the services' executor; each connection has one of its own.
class Listener final : House {
 public:
  Listener(const net::Loops& loops, server::Services& services);
  ~Listener();

  /// Listens on "opc.tcp://HOST:PORT/..." (port 0 takes a free one), or on the same with opc.wss and opc.https, which
  /// may share a port. The URL with the true port, or an error that names the cause: BadTcpEndpointUrlInvalid,
  /// BadCommunicationError when the port is taken.
  ua::Result<std::string> listen(const std::string& url);
  /// Lets nobody in there any more; who came by it stays.
  void leave(const std::string& url);
  /// Ends the connections of those who came by it.
  void turnOut(const std::string& url, const ua::Error& why);
  /// Connects to a client that waits at "opc.tcp://HOST:PORT" (Part 6, 7.1.3), and again when the connection ends.
  ua::Result<void> reach(const std::string& clientUrl);
  /// Not again, that is; a connection that stands goes on.
  void forget(const std::string& clientUrl) { reached_.erase(clientUrl); }
  /// Closes every connection and stops listening.
  void stop();
  /// Work was done: samples, answers or time-outs may be due sooner than planned.
  void served() override;
  /// Somebody may be trusted no longer: ends the connections of those.
  void trustChanged();
  std::size_t connectionCount() const { return guests_.size(); }
  /// A number that no other channel has, for who comes in by another way.
  std::uint32_t nextChannelId() { return ++lastChannelId_; }

 private:
  struct Door;
  void accept(Door& door);
  void connected(std::shared_ptr<net::Link> link, const server::Entrance& entrance,
                 std::optional<channel::ReverseHello> said = {});
  net::asio::awaitable<void> keepReaching(channel::Url client, std::weak_ptr<bool> isWanted);
  void schedule();

  // House
  server::Services& services() override { return services_; }
  Guests& guests() override { return guests_; }
  void queued() override;

  const net::Loops loops_;
  std::shared_ptr<Hall> hall_ = std::make_shared<Hall>();
  server::Services& services_;
  std::vector<std::unique_ptr<Door>> doors_;
  std::map<std::string, std::shared_ptr<bool>> reached_;  // clients, by URL; gone with their entry
  Guests guests_;
  net::asio::steady_timer timer_;
  ua::Instant timerDue_ = ua::Instant::max();
  ua::Instant guestsSeen_{};
  bool isQueuePosted_ = false;
  std::uint32_t lastChannelId_ = 0;
  std::shared_ptr<bool> alive_ = std::make_shared<bool>(true);
};

}  // namespace zunth::endpoint
