#pragma once

#include "service/client/carrier.hpp"
#include "service/net/executor.hpp"
#include "service/server/server.hpp"

#include <map>

#include <boost/asio/steady_timer.hpp>

namespace zunth::inner {

/// A client's way to the server of its own process: requests are handed to the services as if they had come over a
/// channel that keeps secrets, under the same rights, limits and audit as everybody's. On the services' executor.
class InnerCarrier final : public client::Carrier,
                           public server::Peer,
                           public std::enable_shared_from_this<InnerCarrier> {
 public:
  struct Parts {
    net::Executor services;
    server::Server& server;
    std::function<void()> served;  // work was done: something may be due
    std::uint32_t channelId;
    std::string address;  // of who is behind it: "127.0.0.1:51234"
    server::Entrance entrance;
    std::shared_ptr<const server::Account> account{};  // what it may do, where nobody logs in
  };
  explicit InnerCarrier(Parts parts) : parts_(std::move(parts)), free_(parts_.services) {}

  // Carrier
  client::Awaitable<ua::Result<void>> perform(client::Exchange& exchange, ua::Duration timeout) override;
  bool isOpen() const override { return isOpen_; }
  std::string endpointUrl() const override { return parts_.entrance.url.str(); }
  void close() override { end({ua::status::BadConnectionClosed, "the session was left", {}}); }
  void abandon(const ua::Error& why) override { end(why); }
  void onLost(std::function<void(const ua::Error&)>) override {}

  // Peer
  void respond(std::uint32_t requestId, ua::Bytes message) override;
  std::uint32_t channelId() const override { return parts_.channelId; }
  const channel::ChannelSecurity& security() const override { return security_; }
  /// Nobody listens in between; who has no login of their own may come from anywhere.
  bool isEncryptedBelow() const override { return !parts_.account; }
  const server::Account* account() const override { return parts_.account.get(); }
  const server::Entrance& entrance() const override { return parts_.entrance; }
  std::string address() const override { return parts_.address; }
  void hold() override { ++holds_; }
  void release() override {
    if (--holds_ == 0) free_.cancel();
  }
  bool isGone() const override { return !isOpen_; }

 private:
  struct Waiting {
    explicit Waiting(const net::Executor& executor) : wake(executor) {}
    boost::asio::steady_timer wake;  // cancelled when the answer is there
    std::optional<ua::Bytes> message;
  };
  void end(const ua::Error& why);

  Parts parts_;
  channel::ChannelSecurity security_ = [] {
    channel::ChannelSecurity none;
    none.policyUri = ua::String(channel::kPolicyNone);
    none.mode = ua::MessageSecurityMode::None;
    return none;
  }();
  boost::asio::steady_timer free_;                             // cancelled when it is held no longer
  std::map<std::uint32_t, std::shared_ptr<Waiting>> waiting_;  // by request id
  std::uint32_t lastRequest_ = 0;
  int holds_ = 0;
  bool isOpen_ = true;
  ua::Error ended_{ua::status::Good, {}, {}};
};

}  // namespace zunth::inner
