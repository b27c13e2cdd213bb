#include "service/net/deadline.hpp"

namespace zunth::net {

Deadline::Deadline(const Executor& executor, ua::Instant at, std::function<void()> end)
    : state_(std::make_shared<State>(executor)) {
  state_->end = std::move(end);
  state_->timer.expires_at(at);
  state_->timer.async_wait([state = state_](const boost::system::error_code& error) {
    const auto endIt = std::exchange(state->end, {});
    if (error || !endIt) return;
    state->hasPassed = true;
    endIt();
  });
}

Deadline::~Deadline() {
  state_->end = {};
  state_->timer.cancel();
}

}  // namespace zunth::net
