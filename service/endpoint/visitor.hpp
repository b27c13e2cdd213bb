#pragma once

#include "service/endpoint/connection.hpp"
#include "service/endpoint/connections.hpp"
#include "service/server/services.hpp"

namespace zunth::endpoint {

/// What a visitor needs of the doors behind which it lives.
class House {
 public:
  virtual ~House() = default;
  virtual server::Services& services() = 0;
  virtual Guests& guests() = 0;
  /// The guest stands in the queue for the next turns.
  virtual void queued() = 0;
  /// Work was done: something may be due sooner than planned.
  virtual void served() = 0;
};

/// Who is at the other end of a connection, as the services see them: everything here is on the services' executor,
/// what needs the channel or its ciphers is on the connection's.
class Visitor final : public server::Peer, public Guest {
 public:
  Visitor(House& house, std::shared_ptr<Connection> connection, std::string address, std::uint32_t channelId,
          bool isEncrypted, server::Entrance entrance);

  // From the connection
  void opened(const ua::OpenSecureChannelRequest& request, const channel::ChannelSecurity& security,
              std::size_t mostResponse);
  void take(std::vector<Arrived> batch);
  void channelClosed(const ua::Error& why);
  void left();

  // Guest
  void end(const ua::Error& why) override { connection_->end(why); }
  Standing standing() const override;
  ua::Instant since() const override { return since_; }
  bool cameBy(std::string_view url) const override { return entrance_.url.view() == url; }
  void giveWay() override;
  void tick() override { connection_->tick(); }
  void resume() override;
  void checkTrust() override { connection_->checkTrust(); }

  // Peer
  void respond(std::uint32_t requestId, ua::Bytes message) override {
    connection_->respond(requestId, std::move(message));
  }
  std::uint32_t channelId() const override { return channelId_; }
  const channel::ChannelSecurity& security() const override { return security_; }
  bool isEncryptedBelow() const override { return isEncrypted_; }
  const server::Entrance& entrance() const override { return entrance_; }
  std::string address() const override { return address_; }
  std::size_t mostResponse() const override { return mostResponse_; }
  void activated() override;
  void hold() override { ++holds_; }
  void release() override;
  bool isGone() const override { return isGone_; }

 private:
  std::shared_ptr<Visitor> self() { return std::static_pointer_cast<Visitor>(Guest::shared_from_this()); }
  static ua::Instant now() { return std::chrono::steady_clock::now(); }
  bool isDone() const { return next_ == batch_.size(); }
  void queue();
  void serve();

  House& house_;
  std::shared_ptr<Connection> connection_;
  std::string address_;
  std::uint32_t channelId_;
  bool isEncrypted_;  // by TLS
  server::Entrance entrance_;
  channel::ChannelSecurity security_;
  std::size_t mostResponse_ = 0;
  ua::Instant since_;
  std::vector<Arrived> batch_;  // that is being served
  std::size_t next_ = 0;        // in it
  bool hasBatch_ = false;
  bool awaitsRoom_ = false;
  Spending spending_;
  int holds_ = 0;
  bool isServing_ = false, isQueued_ = false, isOpen_ = false, isOver_ = false, isGone_ = false;
};

}  // namespace zunth::endpoint
