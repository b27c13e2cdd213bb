#pragma once

#include "service/endpoint/connections.hpp"
#include "service/net/link.hpp"
#include "service/server/server.hpp"

namespace zunth::endpoint {

/// What a connection needs of the doors behind which it lives.
class House {
 public:
  virtual ~House() = default;
  virtual server::Server& server() = 0;
  virtual Guests& guests() = 0;
  /// Does work with keys on a thread of its own, and `done` on the loop; see Listener::offload().
  virtual ua::Result<void> offload(std::function<void()> work, bool isOpen, std::function<void()> done) = 0;
  /// The guest stands in the queue for the next turns.
  virtual void queued() = 0;
  /// Work was done: something may be due sooner than planned.
  virtual void served() = 0;
};

/// One client's connection and its secure channel. It reads no more while too much that it sent waits, while its
/// answers stay unread, and while a request of its own is under way that takes longer.
class Connection final : public server::Peer, public channel::ServerChannel::Handler, public Guest {
 public:
  Connection(House& house, std::shared_ptr<net::Link> link, bool isEncrypted, server::Entrance entrance,
             const channel::ServerChannel::Options& options);

  void start();
  /// Ends a channel whose certificate is trusted no longer.
  void checkTrust();

  // Guest
  void end(const ua::Error& why) override;
  Standing standing() const override;
  ua::Instant since() const override { return opened_; }
  void giveWay() override;
  void tick() override;
  void resume() override;

  // Peer
  void respond(std::uint32_t requestId, ua::Bytes message) override;
  std::uint32_t channelId() const override { return channel_.id(); }
  const channel::ChannelSecurity& security() const override { return channel_.security(); }
  bool isEncryptedBelow() const override { return isEncrypted_; }
  const server::Entrance& entrance() const override { return entrance_; }
  std::string address() const override { return link_->peer(); }
  std::size_t mostResponse() const override { return channel_.mostResponse(); }
  void activated() override;
  void hold() override { ++holds_; }
  void release() override;
  bool isGone() const override { return isGone_; }

  // ServerChannel::Handler
  void opened(const ua::OpenSecureChannelRequest& request) override;
  ua::Result<void> offload(std::function<void()> work, std::function<void()> done) override;
  bool isBusy() override;
  void request(std::uint32_t requestId, ua::BytesView body) override;
  std::function<ua::Result<void>(const ua::ByteString&)> trust() override;
  void closed(const ua::Error& why) override;

 private:
  std::shared_ptr<Connection> self() { return std::static_pointer_cast<Connection>(Guest::shared_from_this()); }
  static ua::Instant now() { return std::chrono::steady_clock::now(); }
  void received(ua::BytesView octets);
  /// Looks at what has come, for the length of one turn.
  void work(const std::function<void()>& take);
  void settle();
  void flush();
  void drop();

  House& house_;
  std::shared_ptr<net::Link> link_;
  bool isEncrypted_;  // by TLS
  server::Entrance entrance_;
  channel::ServerChannel channel_;
  bool waitsPatiently_;  // a client that the server came to says hello when it likes
  ua::Instant opened_;
  ua::Instant overSince_ = ua::Instant::max();
  ua::Slice turn_;
  Spending spending_;
  int holds_ = 0;
  std::size_t unfinished_ = 0;  // as it is counted in the house
  bool inFeed_ = false;         // answers made meanwhile leave together
  bool isQueued_ = false, isGone_ = false;
};

}  // namespace zunth::endpoint
