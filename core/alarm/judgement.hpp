#pragma once

#include "core/space/conditions.hpp"
#include "core/ua/instant.hpp"

#include <array>
#include <optional>

namespace zunth::alarm {

/// Which limits are exceeded: a bit for each LimitLevel. Alarms without limits use the first alone.
using Exceeded = std::uint8_t;
inline constexpr Exceeded bitOf(space::LimitLevel level) {
  return static_cast<Exceeded>(1u << static_cast<unsigned>(level));
}

struct Limits {
  struct One {
    double limit = 0, deadband = 0;
  };
  std::array<std::optional<One>, space::kLimitLevels> levels;
};

/// What a number exceeds, when it exceeded `before` last: a limit that was exceeded is left only when the value has
/// come back by the deadband (Part 9, 5.8.18). NaN changes nothing.
Exceeded judge(const Limits& limits, double value, Exceeded before);
/// The outermost of them: HighHigh before High, LowLow before Low.
std::optional<space::LimitLevel> outermost(Exceeded exceeded);

/// Lets a change pass only when it has lasted for a time (Part 9, OnDelay and OffDelay).
class Delay {
 public:
  /// What counts now, given what is seen now. `onDelay` and `offDelay` in ms.
  Exceeded settle(Exceeded seen, ua::Instant now, double onDelay, double offDelay);
  /// When settle() is to be asked again, though nothing new was seen.
  ua::Instant due() const { return due_; }
  void reset(Exceeded counts) {
    counts_ = seen_ = counts;
    due_ = ua::Instant::max();
  }

 private:
  Exceeded counts_ = 0, seen_ = 0;
  std::array<ua::Instant, space::kLimitLevels> since_{};  // when a level was first seen as it is
  ua::Instant due_ = ua::Instant::max();
};

}  // namespace zunth::alarm
