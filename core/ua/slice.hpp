#pragma once

#include "core/ua/instant.hpp"

#include <functional>

namespace zunth::ua {

/// A stretch of work on a loop that others share: what isn't done when it is over goes on in the next turn.
class Slice {
 public:
  /// Never over: for work that nobody waits behind.
  Slice() = default;
  Slice(std::function<Instant()> clock, Duration length) : clock_(std::move(clock)), until_(clock_() + length) {}

  /// To be asked after each step; looks at the clock now and then, as steps are short.
  bool isOver() {
    if (isOver_ || !clock_ || ++steps_ % kStepsALook != 0) return isOver_;
    return lookAgain();
  }
  /// After a step that may have been long.
  bool lookAgain() {
    if (clock_ && !isOver_) isOver_ = clock_() >= until_;
    return isOver_;
  }

 private:
  static constexpr unsigned kStepsALook = 16;
  std::function<Instant()> clock_;
  Instant until_{};
  unsigned steps_ = 0;
  bool isOver_ = false;
};

}  // namespace zunth::ua
