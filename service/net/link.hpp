#pragma once

#include "core/ua/bytes.hpp"

#include <functional>
#include <memory>
#include <string>
#include <vector>

namespace zunth::net {

/// A way for octets to the other side and back, on a loop: a TCP socket, or a WebSocket whose messages are the octets.
/// What is to be sent waits in a queue. Everything happens on the loop's thread. Hold it by shared_ptr; pending work
/// keeps it alive.
class Link : public std::enable_shared_from_this<Link> {
 public:
  struct Callbacks {
    std::function<void(ua::BytesView)> received;
    /// The connection ended, from here or there; `why` is empty for a plain end. Called once.
    std::function<void(const std::string& why)> closed;
  };

  virtual ~Link() = default;
  virtual void start(Callbacks callbacks) = 0;
  virtual void send(std::vector<ua::Bytes> buffers) = 0;
  /// Closes when everything is sent.
  virtual void finish() = 0;
  /// Closes at once; `closed` is not called.
  virtual void abandon() = 0;
  /// Octets that wait to be sent: how far the other side lags.
  virtual std::size_t unsent() const = 0;
  /// "127.0.0.1:51234"
  virtual const std::string& peer() const = 0;
};

}  // namespace zunth::net
