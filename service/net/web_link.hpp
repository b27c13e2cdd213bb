#pragma once

#include "service/net/link.hpp"
#include "service/net/tls.hpp"

#include <deque>

#include <boost/beast/core/flat_buffer.hpp>
#include <boost/beast/websocket.hpp>
#include <boost/beast/websocket/ssl.hpp>

namespace zunth::net {

using WebSocket = boost::beast::websocket::stream<TlsStream>;

/// A WebSocket over TLS (Part 6, 7.5), open already: each buffer is sent as a message of its own, as chunks are to be,
/// and JSON messages too.
class WebLink final : public Link {
 public:
  enum class Kind { Octets, Text };
  /// `context` is what the socket's TLS was made with. Messages larger than `mostOctets` end the connection.
  WebLink(WebSocket socket, std::shared_ptr<TlsContext> context, Kind kind, std::size_t mostOctets);

  /// Larger ones end the connection from now on.
  void setMostMessage(std::size_t octets) { socket_.read_message_max(octets); }
  Executor executor() const override { return executor_; }
  void start(Callbacks callbacks) override;
  void setReading(bool on) override;
  void send(std::vector<ua::Bytes> buffers) override;
  void finish() override;
  void abandon() override;
  std::size_t unsent() const override { return unsent_; }
  const std::string& peer() const override { return peer_; }

 private:
  std::shared_ptr<WebLink> self() { return std::static_pointer_cast<WebLink>(shared_from_this()); }
  void read();
  void write();
  void end(const std::string& why);

  std::shared_ptr<TlsContext> context_;
  WebSocket socket_;
  Executor executor_;
  Callbacks callbacks_;
  std::string peer_;
  boost::beast::flat_buffer input_;
  std::deque<ua::Bytes> queue_;  // the first is being written
  std::size_t unsent_ = 0;
  bool finishing_ = false, open_ = true;
  bool wantsMore_ = true, isReading_ = false, isHigh_ = false;
};

}  // namespace zunth::net
