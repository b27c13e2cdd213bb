#include "core/alarm/judgement.hpp"

#include <algorithm>
#include <cmath>

namespace zunth::alarm {

using space::LimitLevel;

Exceeded judge(const Limits& limits, double value, Exceeded before) {
  if (std::isnan(value)) return before;
  Exceeded out = 0;
  for (std::size_t i = 0; i < space::kLimitLevels; ++i) {
    const auto& one = limits.levels[i];
    if (!one) continue;
    const auto level = static_cast<LimitLevel>(i);
    const bool isAbove = level == LimitLevel::HighHigh || level == LimitLevel::High;
    const double slack = before & bitOf(level) ? one->deadband : 0;
    // Back at the limit less the deadband is back: a value that rests there doesn't keep the alarm.
    if (isAbove ? value > one->limit - slack : value < one->limit + slack) out |= bitOf(level);
  }
  return out;
}

std::optional<LimitLevel> outermost(Exceeded exceeded) {
  for (const auto level : {LimitLevel::HighHigh, LimitLevel::LowLow, LimitLevel::High, LimitLevel::Low})
    if (exceeded & bitOf(level)) return level;
  return std::nullopt;
}

/// Each level has a delay of its own (Part 9, 5.8.2): a value that moves between two limits is still beyond the first.
Exceeded Delay::settle(Exceeded seen, ua::Instant now, double onDelay, double offDelay) {
  due_ = ua::Instant::max();
  for (std::size_t i = 0; i < space::kLimitLevels; ++i) {
    const Exceeded bit = bitOf(static_cast<LimitLevel>(i));
    if ((seen ^ seen_) & bit) since_[i] = now;
    if (!((seen ^ counts_) & bit)) continue;
    const auto until = since_[i] + ua::milliseconds(seen & bit ? onDelay : offDelay);
    if (now < until)
      due_ = std::min(due_, until);
    else
      counts_ ^= bit;
  }
  seen_ = seen;
  return counts_;
}

}  // namespace zunth::alarm
