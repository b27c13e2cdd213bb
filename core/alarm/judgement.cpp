#include "core/alarm/judgement.hpp"

#include <bit>
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

Exceeded Delay::settle(Exceeded seen, ua::Instant now, double onDelay, double offDelay) {
  if (seen != seen_) {
    seen_ = seen;
    since_ = now;
  }
  due_ = ua::Instant::max();
  if (seen == counts_) return counts_;
  const bool isOn = std::popcount(seen) >= std::popcount(counts_);
  const auto until = since_ + ua::milliseconds(isOn ? onDelay : offDelay);
  if (now < until)
    due_ = until;
  else
    counts_ = seen;
  return counts_;
}

}  // namespace zunth::alarm
