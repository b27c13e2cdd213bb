#pragma once

#include "core/channel/url.hpp"
#include "service/client/carrier.hpp"
#include "service/client/security.hpp"
#include "service/net/tcp_link.hpp"

#include <map>

#include <boost/asio/io_context.hpp>
#include <boost/asio/steady_timer.hpp>

namespace zunth::client {

/// A connection with an open secure channel to a server; requests are awaited, answers typed. One loop's thread.
class Connection final : public Carrier,
                         public std::enable_shared_from_this<Connection>,
                         public channel::ClientChannel::Handler {
 public:
  /// Connects by opc.tcp or opc.wss, or awaits the server at "await+opc.tcp://...", and opens the channel. The error
  /// names the step that failed: the name that doesn't resolve, the port that refuses (BadConnectionRejected), the
  /// time-out (BadTimeout), or the server's own word.
  static Awaitable<ua::Result<std::shared_ptr<Connection>>> open(std::string url, ua::Duration timeout,
                                                                 ChannelSecurityChoice security = {});
  ~Connection() override;

  Awaitable<ua::Result<void>> perform(Exchange& exchange, ua::Duration timeout) override;

  const ChannelSecurityChoice& security() const { return security_; }
  bool isOpen() const override { return channel_ && channel_->isOpen(); }
  /// Whether the other end is on this machine, and it was this client that went there.
  bool isOnThisMachine() const;
  const std::string& url() const { return url_; }
  /// What the server was said hello to: its own word where it connected to this client.
  std::string endpointUrl() const override { return channel_ ? channel_->endpointUrl().str() : url_; }
  void close() override;
  void abandon(const ua::Error& why) override;
  void onLost(std::function<void(const ua::Error&)> lost) override { lost_ = std::move(lost); }

 private:
  struct Waiting {
    explicit Waiting(const asio::any_io_executor& executor) : wake(executor) {}
    asio::steady_timer wake;  // cancelled when the answer is there
    bool answered = false;
    ua::Error error{ua::status::BadTimeout, {}, {}};
    ua::Bytes body;
  };

  Connection(std::string url, ChannelSecurityChoice security, asio::any_io_executor executor);
  ChannelSecurityChoice security_;
  using LinkResult = ua::Result<std::shared_ptr<net::Link>>;
  Awaitable<LinkResult> reach(channel::Url url, ua::Instant deadline, ua::Error late);
  Awaitable<LinkResult> beReached(channel::Url url, ua::Instant deadline, ua::Error late);
  Awaitable<ua::Result<ua::Bytes>> answerTo(ua::Bytes message, ua::Duration timeout);
  void prepare(ua::RequestHeader& header, ua::Duration timeout);
  void received(ua::BytesView octets);
  void flush();
  Awaitable<void> keepRenewing();

  // ClientChannel::Handler
  void opened() override;
  void response(std::uint32_t requestId, ua::BytesView body) override;
  void aborted(std::uint32_t requestId, const ua::Error& why) override;
  void closed(const ua::Error& why) override;

  std::string url_;
  asio::any_io_executor executor_;
  std::shared_ptr<net::Link> link_;
  std::unique_ptr<channel::ClientChannel> channel_;
  asio::steady_timer opening_;                   // cancelled when the channel is open or lost
  std::shared_ptr<asio::steady_timer> renewal_;  // shared with keepRenewing(), which may outlive this
  ua::Error ended_{ua::status::Good, {}, {}};
  std::map<std::uint32_t, std::shared_ptr<Waiting>> waiting_;  // by request id
  std::function<void(const ua::Error&)> lost_;
  std::uint32_t lastHandle_ = 0;
};

}  // namespace zunth::client
