#pragma once

#include "core/ua/bytes.hpp"
#include "service/net/executor.hpp"

#include <functional>
#include <memory>
#include <string>
#include <vector>

namespace zunth::net {

/// A way for octets to the other side and back, on a loop: a TCP socket, or a WebSocket whose messages are the octets.
/// What is to be sent waits in a queue, and so does who asks for more: a link that isn't to read leaves what comes in
/// the kernel, whose buffers make the other side wait. Everything happens on its executor. Hold it by shared_ptr;
/// pending work keeps it alive.
class Link : public std::enable_shared_from_this<Link> {
 public:
  struct Callbacks {
    std::function<void(ua::BytesView)> received;
    /// The connection ended, from here or there; `why` is empty for a plain end. Called once.
    std::function<void(const std::string& why)> closed;
    /// What waited to be sent has become less than kLow again, after it was more.
    std::function<void()> drained = {};
  };
  /// Octets unsent at which nothing more should be read, as the answers to it would wait, too; and at which again.
  static constexpr std::size_t kHigh = 1u << 20, kLow = 256u << 10;

  virtual ~Link() = default;
  virtual Executor executor() const = 0;
  virtual void start(Callbacks callbacks) = 0;
  /// Whether to read on; it does to begin with.
  virtual void setReading(bool on) = 0;
  virtual void send(std::vector<ua::Bytes> buffers) = 0;
  /// Closes when everything is sent.
  virtual void finish() = 0;
  /// Closes at once; `closed` is not called.
  virtual void abandon() = 0;
  /// Octets that wait to be sent: how far the other side lags.
  virtual std::size_t unsent() const = 0;
  /// "127.0.0.1:51234"; from anywhere.
  virtual const std::string& peer() const = 0;
};

}  // namespace zunth::net
