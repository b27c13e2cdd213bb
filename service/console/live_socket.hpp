#pragma once

#include <cstddef>
#include <functional>
#include <string>

namespace zunth::console {

/// A WebSocket to a browser, as the services see it: texts come and go. On the services' executor.
class LiveSocket {
 public:
  struct Callbacks {
    std::function<void(std::string text)> said;
    std::function<void()> drained;  // what was sent has left
    std::function<void()> ended;
  };
  virtual ~LiveSocket() = default;
  virtual void start(Callbacks callbacks) = 0;
  virtual void send(std::string text) = 0;
  /// Octets that wait to leave.
  virtual std::size_t unsent() const = 0;
  virtual void close() = 0;
};

}  // namespace zunth::console
