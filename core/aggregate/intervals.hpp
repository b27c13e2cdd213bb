#pragma once

#include "core/aggregate/accumulator.hpp"

#include <deque>
#include <functional>
#include <span>
#include <vector>

namespace zunth::aggregate {

/// A span of time cut into intervals of equal length from its start on; the last may be shorter (Part 13, 4.2.2). Where
/// the end is before the start, time runs backwards. A width of zero makes one interval of all.
class Grid {
 public:
  /// `width` in ticks of 100 ns.
  Grid(ua::DateTime start, ua::DateTime end, std::int64_t width);
  std::size_t size() const { return size_; }
  bool isBackward() const { return end_ < start_; }
  /// The i-th in the direction of time.
  Interval interval(std::size_t i) const;

 private:
  ua::DateTime start_, end_;
  std::int64_t width_ = 0;
  std::size_t size_ = 0;
};

/// Takes samples in order of time and tells what each interval comes to as soon as that is known. Where a good sample
/// after an interval is needed it looks ahead, but no further than kMostAhead.
class Intervals {
 public:
  using Told = std::function<void(ua::DataValue)>;
  static constexpr std::size_t kMostAhead = 100'000;

  /// Samples come forwards in any case; `isBackward` says to which interval one at an end belongs. `before` is what
  /// passed before all that comes.
  Intervals(const Function& function, const Manner& manner, bool isBackward, Last before, Told told)
      : function_(function),
        manner_(manner),
        isBackward_(isBackward),
        looksAhead_(function.bounds == Bounds::Interpolated ||
                    (isBackward && function.kind == Kind::NumberOfTransitions)),
        accumulator_(Accumulator::make(function, manner, isBackward)),
        last_(std::move(before)),
        told_(std::move(told)) {}

  /// The next interval to be judged; they come in order of time and don't overlap.
  void add(const Interval& interval) { waiting_.push_back(interval); }
  /// Times of annotations, in order.
  void annotate(std::vector<ua::DateTime> times) { annotations_ = std::move(times); }
  void feed(std::span<const ua::DataValue> samples);
  /// Nothing else comes up to here: what ends by then is told. `holdsOn`: what came last still holds.
  void reach(ua::DateTime until, bool holdsOn);
  /// Everything that was added has been told.
  bool isDone() const { return waiting_.empty(); }

 private:
  void take(const ua::DataValue& sample);
  void open();
  void tell(const Next& next);
  bool isWithin(ua::DateTime when, ua::DateTime end) const { return isBackward_ ? when <= end : when < end; }

  const Function& function_;
  const Manner manner_;
  const bool isBackward_;
  const bool looksAhead_;  // what comes of an interval depends on the good sample after it
  std::unique_ptr<Accumulator> accumulator_;
  Last last_;  // while no interval is open
  Told told_;
  std::deque<Interval> waiting_;
  bool isOpen_ = false;  // the first of them
  std::vector<ua::DateTime> annotations_;
  std::deque<ua::DataValue> ahead_;  // after the open interval, while a good one is looked for
};

}  // namespace zunth::aggregate
