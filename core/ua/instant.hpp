#pragma once

#include <algorithm>
#include <chrono>
#include <cmath>

namespace zunth::ua {

/// A moment on a clock that never jumps, handed in by whoever runs the core. Wall time is DateTime.
using Instant = std::chrono::steady_clock::time_point;
using Duration = std::chrono::steady_clock::duration;

/// The one door by which numbers from outside become durations: NaN counts as none, and nothing lasts longer than a
/// century, so that an Instant can take it.
inline Duration milliseconds(double ms) {
  constexpr double kCentury = 100.0 * 365.25 * 24 * 3600 * 1000;
  if (std::isnan(ms)) return Duration::zero();
  return std::chrono::duration_cast<Duration>(
      std::chrono::duration<double, std::milli>(std::clamp(ms, -kCentury, kCentury)));
}

/// An interval that was asked for, in ms, within what is granted (Part 4, 4.2: the server revises). NaN gets the least.
inline double revised(double asked, double least, double most) {
  return std::isnan(asked) ? least : std::clamp(asked, least, most);
}

}  // namespace zunth::ua
