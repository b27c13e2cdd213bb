#include "core/aggregate/intervals.hpp"

#include <algorithm>

namespace zunth::aggregate {

using namespace ua;

Grid::Grid(DateTime start, DateTime end, std::int64_t width) : start_(start), end_(end) {
  const auto span =
      static_cast<std::uint64_t>(std::max(start, end).ticks) - static_cast<std::uint64_t>(std::min(start, end).ticks);
  if (span == 0) return;
  const std::uint64_t step = width <= 0 ? span : std::min(static_cast<std::uint64_t>(width), span);
  width_ = static_cast<std::int64_t>(step);
  size_ = span / step + (span % step != 0);
}

Interval Grid::interval(std::size_t i) const {
  const std::int64_t first = width_ * static_cast<std::int64_t>(i);
  if (!isBackward()) {
    const std::int64_t from = start_.ticks + first;
    const bool isShort = end_.ticks - from < width_;
    return {{from}, {isShort ? end_.ticks : from + width_}, isShort};
  }
  const std::int64_t to = start_.ticks - first;
  const bool isShort = to - end_.ticks < width_;
  return {{isShort ? end_.ticks : to - width_}, {to}, isShort};
}

void Intervals::feed(std::span<const DataValue> samples) {
  for (const auto& sample : samples) take(sample);
}

/// Begins the first interval that waits.
void Intervals::open() {
  if (isOpen_ || waiting_.empty()) return;
  const auto& interval = waiting_.front();
  accumulator_->begin(interval, last_);
  for (const auto when : annotations_)
    if (!isWithin(when, interval.from) && isWithin(when, interval.to)) accumulator_->annotated();
  isOpen_ = true;
}

void Intervals::take(const DataValue& sample) {
  const bool isGood = isUsable(sample, manner_.configuration);
  if (!ahead_.empty()) {
    ahead_.push_back(sample);
    if (!isGood && ahead_.size() < kMostAhead) return;
    // The one that was looked for, or as far as is looked: what waited is taken again, and what still waits for a good
    // one gets this.
    auto waiting = std::exchange(ahead_, {});
    for (const auto& one : waiting) {
      while (isOpen_ && !isWithin(one.sourceTimestamp, waiting_.front().to)) {
        tell({&one, isGood ? &waiting.back() : nullptr});
        open();
      }
      if (isOpen_ && !isWithin(one.sourceTimestamp, waiting_.front().from))
        accumulator_->take(one);
      else
        last_.pass(one, manner_.configuration);
    }
    return;
  }
  for (;;) {
    if (!isOpen_ && !waiting_.empty() && !isWithin(sample.sourceTimestamp, waiting_.front().from)) open();
    if (!isOpen_) return last_.pass(sample, manner_.configuration);
    if (isWithin(sample.sourceTimestamp, waiting_.front().to)) return accumulator_->take(sample);
    if (!isGood && looksAhead_) return ahead_.push_back(sample);
    tell({&sample, isGood ? &sample : nullptr});
  }
}

void Intervals::tell(const Next& next) {
  told_(accumulator_->end(next));
  last_ = accumulator_->last();
  isOpen_ = false;
  waiting_.pop_front();
}

void Intervals::reach(DateTime until, bool holdsOn) {
  const auto ahead = std::exchange(ahead_, {});
  auto at = ahead.begin();
  while (!waiting_.empty() && waiting_.front().to <= until) {
    open();
    for (; at != ahead.end() && isWithin(at->sourceTimestamp, waiting_.front().to); ++at) accumulator_->take(*at);
    if (at != ahead.end())
      tell({&*at, nullptr});
    else
      tell({nullptr, nullptr, holdsOn});
  }
  ahead_.assign(at, ahead.end());
}

}  // namespace zunth::aggregate
