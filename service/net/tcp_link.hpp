#pragma once

#include "service/net/link.hpp"

#include <deque>

#include <boost/asio/as_tuple.hpp>
#include <boost/asio/ip/tcp.hpp>
#include <boost/asio/use_awaitable.hpp>

namespace zunth::net {

/// Awaits, and gives errors as values instead of throwing them.
inline constexpr auto kQuietly = asio::as_tuple(asio::use_awaitable);
using Tcp = asio::ip::tcp;

/// "127.0.0.1:51234"; empty when the connection has ended already.
std::string addressOf(const Tcp::socket& socket);

/// Finds out within a minute or two that the other side has vanished without a word.
void keepAlive(Tcp::socket& socket);

/// A TCP socket; what is to be sent leaves in one gathered write.
class TcpLink final : public Link {
 public:
  explicit TcpLink(Tcp::socket socket)
      : socket_(std::move(socket)), executor_(socket_.get_executor()), peer_(addressOf(socket_)) {}

  Executor executor() const override { return executor_; }
  void start(Callbacks callbacks) override;
  void setReading(bool on) override;
  void send(std::vector<ua::Bytes> buffers) override;
  void finish() override;
  void abandon() override;
  std::size_t unsent() const override { return unsent_; }
  const std::string& peer() const override { return peer_; }

 private:
  std::shared_ptr<TcpLink> self() { return std::static_pointer_cast<TcpLink>(shared_from_this()); }
  void read();
  void write();
  void end(const std::string& why);

  Tcp::socket socket_;
  Executor executor_;
  Callbacks callbacks_;
  std::string peer_;
  ua::Bytes input_;
  std::deque<ua::Bytes> queue_;
  std::vector<ua::Bytes> writing_;
  std::size_t unsent_ = 0;
  bool finishing_ = false;
  bool wantsMore_ = true, isReading_ = false, isHigh_ = false;
};

}  // namespace zunth::net
