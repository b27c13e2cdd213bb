#pragma once

#include "core/ua/bytes.hpp"

#include <deque>
#include <functional>
#include <memory>

#include <boost/asio/ip/tcp.hpp>

namespace zunth::net {

namespace asio = boost::asio;
using Tcp = asio::ip::tcp;

/// A TCP socket on a loop: octets that arrive go to a callback, octets to send wait in a queue and leave in one
/// gathered write. Everything happens on the loop's thread. Hold it by shared_ptr; pending work keeps it alive.
class TcpLink : public std::enable_shared_from_this<TcpLink> {
 public:
  struct Callbacks {
    std::function<void(ua::BytesView)> received;
    /// The connection ended, from here or there; `why` is empty for a plain end. Called once.
    std::function<void(const std::string& why)> closed;
  };

  explicit TcpLink(Tcp::socket socket) : socket_(std::move(socket)) {}

  void start(Callbacks callbacks);
  void send(std::vector<ua::Bytes> buffers);
  /// Closes when everything is sent.
  void finish();
  /// Closes at once; `closed` is not called.
  void abandon();
  /// Octets that wait to be sent: how far the other side lags.
  std::size_t unsent() const { return unsent_; }
  /// "127.0.0.1:51234"
  const std::string& peer() const { return peer_; }

 private:
  void read();
  void write();
  void end(const std::string& why);

  Tcp::socket socket_;
  Callbacks callbacks_;
  std::string peer_;
  ua::Bytes input_;
  std::deque<ua::Bytes> queue_;
  std::vector<ua::Bytes> writing_;
  std::size_t unsent_ = 0;
  bool finishing_ = false;
};

}  // namespace zunth::net
