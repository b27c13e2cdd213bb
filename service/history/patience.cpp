#include "service/history/patience.hpp"

#include <sys/socket.h>

namespace zunth::history {

Patience::~Patience() {
  {
    const std::lock_guard lock(mutex_);
    isStopping_ = true;
  }
  changed_.notify_one();
  thread_.join();
}

void Patience::guard(int socket) {
  const std::lock_guard lock(mutex_);
  socket_ = socket;
}

void Patience::set(std::optional<Moment> since) {
  const std::lock_guard lock(mutex_);
  since_ = since;
  // It looks once a second anyway: calls are many, and most are over in no time.
}

void Patience::run() {
  std::unique_lock lock(mutex_);
  while (!isStopping_) {
    changed_.wait_for(lock, std::chrono::seconds(1));
    if (!since_ || std::chrono::steady_clock::now() - *since_ < patience_) continue;
    if (socket_ >= 0) ::shutdown(socket_, SHUT_RDWR);
    since_.reset();
  }
}

}  // namespace zunth::history
