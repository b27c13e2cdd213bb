#pragma once

#include "core/aggregate/bound.hpp"

#include <memory>

namespace zunth::aggregate {

/// A part of time that is judged as one. A sample belongs to it from its earlier end on and before its later one; where
/// time runs backwards, after its earlier end and up to its later one: the end that comes first belongs to it
/// (Part 13, 4.2.2).
struct Interval {
  ua::DateTime from, to;   // from < to, whichever way time runs
  bool isPartial = false;  // shorter than what was asked for
};

/// Takes the samples of one interval after another, in order of time, and tells what each comes to. It keeps sums, not
/// samples: an interval may be as long as one likes. Each family of aggregates is one of these.
class Accumulator {
 public:
  static std::unique_ptr<Accumulator> make(const Function& function, const Manner& manner, bool isBackward);
  Accumulator(const Function& function, const Manner& manner, bool isBackward)
      : function_(function), manner_(manner), isBackward_(isBackward) {}
  virtual ~Accumulator() = default;

  /// The interval to come; `before` is what has passed before it.
  void begin(const Interval& interval, const Last& before);
  void take(const ua::DataValue& sample);
  void annotated() { ++annotations_; }
  /// What the interval comes to, when it is known what comes after it: value, status with the bits that tell how it
  /// was got (Part 13, 5.3.3), and its time.
  ua::DataValue end(const Next& next);
  /// What has passed by now.
  const Last& last() const { return last_; }

 protected:
  // What a family does. `last_` is what passed before the sample.
  virtual void started() {}
  virtual void taken(const ua::DataValue&, bool /*isUsable*/) {}
  /// For aggregates with bounds: from one sample, or the interval's start, to the next, or the interval's end.
  /// `begins` is null before all data, `next` has no more than what ends it.
  virtual void region(ua::DateTime /*from*/, ua::DateTime /*to*/, const ua::DataValue* /*begins*/, const Next&) {}
  virtual ua::DataValue result(const Next& next) = 0;

  bool isUsableHere(const ua::DataValue& sample) const { return isUsable(sample, manner_.configuration); }
  /// Where time, in its direction, comes in and goes out.
  ua::DateTime entry() const { return isBackward_ ? interval_.to : interval_.from; }
  ua::DateTime exit() const { return isBackward_ ? interval_.from : interval_.to; }
  Bound boundAt(ua::DateTime moment, const Next& next) const;

  // The status of what was calculated (Part 13, 5.3.2).
  ua::StatusCode byPercent(double good, double bad) const;
  ua::StatusCode byTime() const { return byPercent(goodTicks_, badTicks_); }
  ua::StatusCode byCount() const {
    return byPercent(static_cast<double>(usable_), static_cast<double>(count_ - usable_));
  }
  /// Where what is bad is left out, the result is less than sure.
  ua::StatusCode byLeavingOut() const {
    return usable_ == count_ ? ua::status::Good : ua::status::UncertainDataSubNormal;
  }
  ua::DataValue nothing() const { return ua::DataValue(ua::Variant(), entry(), ua::status::BadNoData); }
  ua::DataValue calculated(ua::Variant value, ua::StatusCode status) const;
  std::uint32_t partial() const { return isIncomplete_ ? kPartial : 0; }

  const Function& function_;
  const Manner manner_;
  const bool isBackward_;
  Interval interval_;
  Last last_;
  ua::DataValue first_, firstGood_;  // of the interval, when there is one
  Last atStart_;
  std::size_t count_ = 0, usable_ = 0, annotations_ = 0;
  double goodTicks_ = 0, badTicks_ = 0;
  bool isIncomplete_ = false;  // data begin or end within it, or it is shorter than the others

 private:
  void reach(ua::DateTime to, const Next& next);
  ua::DateTime at_;  // up to where regions are done
};

}  // namespace zunth::aggregate
