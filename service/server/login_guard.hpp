#pragma once

#include "core/ua/instant.hpp"

#include <algorithm>

namespace zunth::server {

/// Slows password guessing down: after a few failures in a row, each further one makes all logins wait longer, whoever
/// they are for, so that nobody learns which names are there.
class LoginGuard {
 public:
  /// How long the next login has to wait, in ms; 0 when it may be tried.
  double wait(ua::Instant now) const {
    return std::max(0.0, std::chrono::duration<double, std::milli>(until_ - now).count());
  }
  void failed(ua::Instant now) {
    if (++failures_ <= kFree) return;
    const double seconds = std::min<double>(kMost, 1u << std::min(failures_ - kFree - 1, 10u));
    until_ = now + ua::milliseconds(seconds * 1000);
  }
  void succeeded() { failures_ = 0; }

 private:
  static constexpr unsigned kFree = 5;
  static constexpr double kMost = 60;  // s
  unsigned failures_ = 0;
  ua::Instant until_{};
};

}  // namespace zunth::server
