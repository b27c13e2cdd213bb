#include "core/history/keeping.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

namespace zunth::history {

using namespace ua;

void Keeper::keptAt(const DataValue& sample) {
  kept_ = sample;
  held_.reset();
  steepest_ = std::numeric_limits<double>::infinity();
  flattest_ = -std::numeric_limits<double>::infinity();
}

bool Keeper::isPauseOver(const DataValue& sample) const {
  constexpr double kTicksPerMs = 10'000;
  return rule_.longestPause > 0 && static_cast<double>(sample.sourceTimestamp.ticks - kept_->sourceTimestamp.ticks) >=
                                       rule_.longestPause * kTicksPerMs;
}

Keeper::Verdict Keeper::judge(const DataValue& sample) {
  // What comes late doesn't change what is kept of the present.
  if (kept_ && sample.sourceTimestamp < kept_->sourceTimestamp) return {true};
  double now = 0, before = 0;
  const bool areNumbers = kept_ && sample.value.toDouble(now) && kept_->value.toDouble(before) && std::isfinite(now) &&
                          std::isfinite(before) && sample.value.type() == kept_->value.type();
  const bool isLike = kept_ && kept_->status == sample.status;
  if (!isLike || (rule_.kind != Rule::Kind::EveryChange && !areNumbers)) {
    // A value that didn't change is not kept again, whatever the rule.
    if (isLike && kept_->value == sample.value && !isPauseOver(sample)) return {};
    Verdict out{true, finish()};
    keptAt(sample);
    return out;
  }
  switch (rule_.kind) {
    case Rule::Kind::EveryChange:
      if (kept_->value == sample.value && !isPauseOver(sample)) return {};
      break;
    case Rule::Kind::Deadband:
      if (std::fabs(now - before) <= rule_.deviation && !isPauseOver(sample)) return {};
      break;
    case Rule::Kind::SwingingDoor: return swing(sample, now);
  }
  keptAt(sample);
  return {true};
}

/// The door is what lies between the steepest and the flattest line that still meet every value since the last one
/// kept; when it has closed, the value before is where the next line begins.
Keeper::Verdict Keeper::swing(const DataValue& sample, double number) {
  double from = 0;
  kept_->value.toDouble(from);
  const auto narrow = [&](const DataValue& what, double to) {
    const auto ticks = static_cast<double>(what.sourceTimestamp.ticks - kept_->sourceTimestamp.ticks);
    if (ticks <= 0) return;
    steepest_ = std::min(steepest_, (to + rule_.deviation - from) / ticks);
    flattest_ = std::max(flattest_, (to - rule_.deviation - from) / ticks);
  };
  const auto slopeTo = [&](double to) {
    const auto ticks = static_cast<double>(sample.sourceTimestamp.ticks - kept_->sourceTimestamp.ticks);
    return ticks > 0 ? (to - from) / ticks : 0;
  };
  if (isPauseOver(sample)) {
    keptAt(sample);
    return {true};
  }
  const double slope = slopeTo(number);
  if (held_ && (slope > steepest_ || slope < flattest_)) {
    const DataValue corner = std::move(*held_);
    keptAt(corner);
    corner.value.toDouble(from);
    narrow(sample, number);
    held_ = sample;
    return {false, corner};
  }
  narrow(sample, number);
  held_ = sample;
  return {};
}

}  // namespace zunth::history
