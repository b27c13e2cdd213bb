#pragma once

#include "core/ua/instant.hpp"
#include "service/net/executor.hpp"

#include <functional>
#include <memory>

#include <boost/asio/steady_timer.hpp>

namespace zunth::net {

/// Ends what is under way when its time has come: closes the socket, for one, so that what awaits it comes back with an
/// error. Lives on the executor of what it ends.
class Deadline {
 public:
  /// `end` is called once at most, and not after this is gone.
  Deadline(const Executor& executor, ua::Instant at, std::function<void()> end);
  ~Deadline();
  Deadline(const Deadline&) = delete;
  Deadline& operator=(const Deadline&) = delete;

  bool hasPassed() const { return state_->hasPassed; }

 private:
  struct State {
    explicit State(const Executor& executor) : timer(executor) {}
    asio::steady_timer timer;
    std::function<void()> end;
    bool hasPassed = false;
  };
  std::shared_ptr<State> state_;
};

}  // namespace zunth::net
