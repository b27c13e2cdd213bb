#pragma once

#include <chrono>

namespace zunth::ua {

/// A moment on a clock that never jumps, handed in by whoever runs the core. Wall time is DateTime.
using Instant = std::chrono::steady_clock::time_point;
using Duration = std::chrono::steady_clock::duration;

inline Duration milliseconds(double ms) {
  return std::chrono::duration_cast<Duration>(std::chrono::duration<double, std::milli>(ms));
}

}  // namespace zunth::ua
