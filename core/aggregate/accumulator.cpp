#include "core/aggregate/accumulator.hpp"

#include <cmath>

namespace zunth::aggregate {

using namespace ua;
using enum Kind;

namespace {

constexpr double kTicksPerMs = 10'000, kTicksPerSecond = 1e7;

double ticksBetween(DateTime from, DateTime to) { return static_cast<double>(to.ticks - from.ticks); }

}  // namespace

void Accumulator::begin(const Interval& interval, const Last& before) {
  interval_ = interval;
  last_ = atStart_ = before;
  at_ = interval.from;
  count_ = usable_ = annotations_ = 0;
  goodTicks_ = badTicks_ = 0;
  started();
}

void Accumulator::take(const DataValue& sample) {
  const bool usable = isUsableHere(sample);
  if (count_++ == 0) first_ = sample;
  if (usable && usable_++ == 0) firstGood_ = sample;
  if (function_.bounds != Bounds::None) reach(sample.sourceTimestamp, {&sample, usable ? &sample : nullptr});
  taken(sample, usable);
  last_.pass(sample, manner_.configuration);
}

void Accumulator::reach(DateTime to, const Next& next) {
  if (to <= at_) return;
  const DataValue* begins = last_.any ? &*last_.any : nullptr;
  // After the last sample of all nothing is known: what goes on there is uncertain, unless it is watched.
  const bool goesOn = next.any || next.holdsOn || !manner_.configuration.treatUncertainAsBad;
  (begins && goesOn && isUsableHere(*begins) ? goodTicks_ : badTicks_) += ticksBetween(at_, to);
  region(at_, to, begins, next);
  at_ = to;
}

DataValue Accumulator::end(const Next& next) {
  if (function_.bounds != Bounds::None) reach(interval_.to, next);
  const bool begins = atStart_.any || (count_ > 0 && first_.sourceTimestamp == interval_.from);
  isIncomplete_ = interval_.isPartial || !begins || !(next.any || next.holdsOn);
  return result(next);
}

Bound Accumulator::boundAt(DateTime moment, const Next& next) const {
  if (moment != interval_.from) return aggregate::boundAt(moment, last_, next, manner_, function_.bounds);
  Next first = next;
  if (count_ > 0) first.any = &first_;
  if (usable_ > 0) first.good = &firstGood_;
  return aggregate::boundAt(moment, atStart_, first, manner_, function_.bounds);
}

StatusCode Accumulator::byPercent(double good, double bad) const {
  const double all = good + bad;
  if (!(all > 0)) return status::Good;
  if (good / all * 100 >= manner_.configuration.percentDataGood) return status::Good;
  if (bad / all * 100 >= manner_.configuration.percentDataBad) return status::Bad;
  return status::UncertainDataSubNormal;
}

DataValue Accumulator::calculated(Variant value, StatusCode status) const {
  if (status.isBad()) return DataValue(Variant(), entry(), status);
  return DataValue(std::move(value), entry(), withBits(status, kCalculated | partial()));
}

namespace {

/// Average, Count, StandardDeviation…, Variance…: of the samples within.
class OfSamples final : public Accumulator {
 public:
  using Accumulator::Accumulator;

 private:
  void started() override { sum_ = mean_ = squares_ = 0; }
  void taken(const DataValue& sample, bool isUsable) override {
    if (!isUsable || !function_.needsNumbers) return;
    // Each step keeps the mean and the sum of squares around it, so that large numbers lose nothing.
    const double number = numberOf(sample.value), off = number - mean_;
    sum_ += number;
    mean_ += off / static_cast<double>(usable_);
    squares_ += off * (number - mean_);
  }
  DataValue result(const Next&) override {
    const auto count = static_cast<double>(usable_);
    if (function_.kind == Count) {
      if (count_ == 0 && !atStart_.any) return nothing();
      return calculated(Variant(static_cast<std::int32_t>(usable_)), byCount());
    }
    if (usable_ == 0) return nothing();
    if (function_.kind == Average) return calculated(Variant(sum_ / count), byCount());
    const bool isOfSample = function_.kind == StandardDeviationSample || function_.kind == VarianceSample;
    const double divisor = isOfSample ? count - 1 : count;
    const double variance = divisor > 0 ? squares_ / divisor : 0;
    const bool isVariance = function_.kind == VarianceSample || function_.kind == VariancePopulation;
    return calculated(Variant(isVariance ? variance : std::sqrt(variance)), byCount());
  }

  double sum_ = 0, mean_ = 0, squares_ = 0;
};

/// What lies under a line, over how long.
struct Area {
  double sum = 0, ticks = 0;
  void add(double length, double low, double high) {
    sum += length * (low + high) / 2;
    ticks += length;
  }
};

/// TimeAverage, Total and their likes with simple bounds.
class OfArea final : public Accumulator {
 public:
  using Accumulator::Accumulator;

 private:
  bool isSimple() const { return function_.bounds == Bounds::Simple; }
  void started() override {
    area_ = {};
    point_.reset();
  }

  // With interpolated bounds the line goes from one usable sample to the next.
  void taken(const DataValue& sample, bool isUsable) override {
    if (isSimple() || !isUsable) return;
    if (usable_ == 1)
      if (const Bound start = boundAt(interval_.from, {}); !start.status.isBad())
        point_.emplace(interval_.from, numberOf(start.value));
    lineTo(sample.sourceTimestamp, numberOf(sample.value));
  }
  void lineTo(DateTime when, double number) {
    if (point_)
      area_.add(ticksBetween(point_->first, when), point_->second, manner_.isStepped ? point_->second : number);
    point_.emplace(when, number);
  }

  // With simple ones, each region that begins with a usable sample counts.
  void region(DateTime from, DateTime to, const DataValue* begins, const Next& next) override {
    if (!isSimple() || !begins || !isUsableHere(*begins)) return;
    const Bound low = aggregate::boundAt(from, last_, next, manner_, Bounds::Simple);
    if (low.status.isBad()) return;
    double high = numberOf(low.value);
    if (!manner_.isStepped && (!next.any || isUsableHere(*next.any)))
      if (const Bound end = aggregate::boundAt(to, last_, next, manner_, Bounds::Simple); !end.status.isBad())
        high = numberOf(end.value);
    area_.add(ticksBetween(from, to), numberOf(low.value), high);
  }

  DataValue result(const Next& next) override {
    if (!isSimple()) {
      if (usable_ == 0)
        if (const Bound start = boundAt(interval_.from, next); !start.status.isBad())
          point_.emplace(interval_.from, numberOf(start.value));
      if (const Bound end = boundAt(interval_.to, next); point_ && !end.status.isBad())
        lineTo(interval_.to, numberOf(end.value));
    }
    if (!(area_.ticks > 0)) return nothing();
    const double mean = area_.sum / area_.ticks;
    const bool isTotal = function_.kind == Total || function_.kind == Total2;
    const double seconds = ticksBetween(interval_.from, interval_.to) / kTicksPerSecond;
    return calculated(Variant(isTotal ? mean * seconds : mean), byTime());
  }

  Area area_;
  std::optional<std::pair<DateTime, double>> point_;
};

/// Minimum, Maximum, …ActualTime, Range and their likes with simple bounds.
class OfExtremes final : public Accumulator {
 public:
  using Accumulator::Accumulator;

 private:
  struct Extreme {
    DataValue what;
    double number;
    bool isBound, isSeveral;
  };
  bool isSimple() const { return function_.bounds == Bounds::Simple; }
  void started() override {
    least_.reset();
    most_.reset();
  }
  void taken(const DataValue& sample, bool isUsable) override {
    if (isUsable) see(sample, false);
  }
  void region(DateTime from, DateTime to, const DataValue*, const Next& next) override {
    if (from == interval_.from) seeBound(from, next);
    // What a step leads to at the end belongs to the next interval.
    if (to == interval_.to && !manner_.isStepped) seeBound(to, next);
  }
  void seeBound(DateTime when, const Next& next) {
    const Bound bound = aggregate::boundAt(when, last_, next, manner_, Bounds::Simple);
    if (isSimple() && !bound.status.isBad() && !(bound.isRaw && when == entry()))
      see(DataValue(bound.value, when, bound.status), true);
  }
  void see(const DataValue& what, bool isBound) {
    const double number = numberOf(what.value);
    if (std::isnan(number)) return;
    take(least_, what, number, isBound, least_ && number < least_->number);
    take(most_, what, number, isBound, most_ && number > most_->number);
  }
  /// Of equal ones the oldest stays.
  static void take(std::optional<Extreme>& extreme, const DataValue& what, double number, bool isBound, bool isBeyond) {
    if (!extreme || isBeyond)
      extreme = Extreme{what, number, isBound, false};
    else if (number == extreme->number)
      extreme->isSeveral = true;
  }

  DataValue result(const Next&) override {
    if (!least_) return nothing();
    StatusCode status = isSimple() ? byTime() : byLeavingOut();
    const Kind kind = function_.kind;
    if (kind == Range || kind == Range2)
      return calculated(asType(most_->what.value.type(), most_->number - least_->number), status);
    const bool isMaximum =
        kind == Maximum || kind == Maximum2 || kind == MaximumActualTime || kind == MaximumActualTime2;
    const bool atItsTime = kind == MinimumActualTime || kind == MaximumActualTime || kind == MinimumActualTime2 ||
                           kind == MaximumActualTime2;
    const Extreme& found = isMaximum ? *most_ : *least_;
    if (status.isGood() && found.what.status.isUncertain()) status = status::UncertainDataSubNormal;
    if (status.isBad()) return DataValue(Variant(), entry(), status);
    std::uint32_t bits = partial();
    if (found.isBound)
      bits |= kInterpolated;
    else if (!atItsTime && found.what.sourceTimestamp != entry())
      bits |= kCalculated;
    if (found.isSeveral && atItsTime) bits |= kMultiValue;
    return DataValue(found.what.value, atItsTime ? found.what.sourceTimestamp : entry(), withBits(status, bits));
  }

  std::optional<Extreme> least_, most_;
};

/// DurationInState…, DurationGood, …Bad, PercentGood, …Bad.
class OfDurations final : public Accumulator {
 public:
  using Accumulator::Accumulator;

 private:
  void started() override { inState_ = known_ = 0; }
  void region(DateTime from, DateTime to, const DataValue* begins, const Next&) override {
    if (!function_.needsNumbers || !begins || !isUsableHere(*begins)) return;
    const bool isZero = numberOf(begins->value) == 0;
    known_ += ticksBetween(from, to);
    if (isZero == (function_.kind == DurationInStateZero)) inState_ += ticksBetween(from, to);
  }
  DataValue result(const Next&) override {
    const double all = goodTicks_ + badTicks_;
    switch (function_.kind) {
      case DurationGood: return calculated(Variant(goodTicks_ / kTicksPerMs), status::Good);
      case DurationBad: return calculated(Variant(badTicks_ / kTicksPerMs), status::Good);
      case PercentGood: return calculated(Variant(goodTicks_ / all * 100), status::Good);
      case PercentBad: return calculated(Variant(badTicks_ / all * 100), status::Good);
      default: return known_ > 0 ? calculated(Variant(inState_ / kTicksPerMs), byTime()) : nothing();
    }
  }

  double inState_ = 0, known_ = 0;
};

/// Interpolative, Start, End, Delta, StartBound, EndBound, DeltaBounds: what stands at the ends.
class OfEnds final : public Accumulator {
 public:
  using Accumulator::Accumulator;

 private:
  DataValue result(const Next& next) override {
    switch (function_.kind) {
      case Start: return sample(isBackward_ ? last_.any : first_);
      case End: return sample(isBackward_ ? first_ : last_.any);
      case Delta: return delta();
      case DeltaBounds: return deltaBounds(next);
      case EndBound: return valueOf(boundAt(exit(), next), exit());
      default: return valueOf(boundAt(entry(), next), entry());
    }
  }
  DataValue sample(const std::optional<DataValue>& which) const {
    if (count_ == 0) return nothing();
    DataValue out = *which;
    out.serverTimestamp = {};
    out.status = withBits(out.status, partial());
    return out;
  }
  DataValue delta() const {
    if (usable_ == 0) return nothing();
    const DataValue &early = firstGood_, &late = *last_.good;
    const bool isSure =
        isUsableHere(first_) && isUsableHere(*last_.any) && early.status.isGood() && late.status.isGood();
    const double difference = numberOf(late.value) - numberOf(early.value);
    return calculated(asType(late.value.type(), isBackward_ ? -difference : difference), clean(isSure));
  }
  DataValue deltaBounds(const Next& next) const {
    const Bound start = boundAt(entry(), next), end = boundAt(exit(), next);
    if (start.status.isBad() || end.status.isBad()) return nothing();
    return calculated(asType(end.value.type(), numberOf(end.value) - numberOf(start.value)),
                      clean(start.status.isGood() && end.status.isGood()));
  }
};

/// WorstQuality, AnnotationCount, NumberOfTransitions.
class OfMarks final : public Accumulator {
 public:
  using Accumulator::Accumulator;

 private:
  static int rank(StatusCode code) { return code.isBad() ? 2 : code.isUncertain() ? 1 : 0; }
  void started() override {
    worst_.reset();
    transitions_ = 0;
  }
  void taken(const DataValue& sample, bool isUsable) override {
    see(sample.status);
    // What was before the interval counts where time comes from there.
    const bool isCounted = isUsable && last_.good && (usable_ > 1 || !isBackward_);
    transitions_ += isCounted && !(last_.good->value == sample.value);
  }
  void region(DateTime from, DateTime to, const DataValue*, const Next& next) override {
    const auto seeBound = [&](DateTime when) {
      const Bound bound = aggregate::boundAt(when, last_, next, manner_, Bounds::Simple);
      if (!bound.isRaw || when != entry()) see(bound.status);
    };
    if (from == interval_.from) seeBound(from);
    if (to == interval_.to) seeBound(to);
  }
  void see(StatusCode status) {
    isSeveral_ = worst_ && (rank(status) == rank(*worst_) || (isSeveral_ && rank(status) < rank(*worst_)));
    if (!worst_ || rank(status) > rank(*worst_)) worst_ = status;
  }
  DataValue result(const Next& next) override {
    if (function_.kind == AnnotationCount)
      return calculated(Variant(static_cast<std::int32_t>(annotations_)), status::Good);
    if (function_.kind == NumberOfTransitions) {
      if (count_ == 0 && !atStart_.any) return nothing();
      if (isBackward_ && usable_ > 0 && next.good) transitions_ += !(last_.good->value == next.good->value);
      return calculated(Variant(transitions_), byLeavingOut());
    }
    if (!worst_) return nothing();
    DataValue out = calculated(Variant(worst_->condition()), status::Good);
    if (isSeveral_) out.status.value |= kMultiValue;
    return out;
  }

  std::optional<StatusCode> worst_;
  bool isSeveral_ = false;
  std::int32_t transitions_ = 0;
};

}  // namespace

std::unique_ptr<Accumulator> Accumulator::make(const Function& function, const Manner& manner, bool isBackward) {
  const auto make = [&]<class Family>(std::type_identity<Family>) -> std::unique_ptr<Accumulator> {
    return std::make_unique<Family>(function, manner, isBackward);
  };
  switch (function.kind) {
    case Average:
    case Count:
    case StandardDeviationSample:
    case StandardDeviationPopulation:
    case VarianceSample:
    case VariancePopulation: return make(std::type_identity<OfSamples>());
    case TimeAverage:
    case TimeAverage2:
    case Total:
    case Total2: return make(std::type_identity<OfArea>());
    case Minimum:
    case Maximum:
    case MinimumActualTime:
    case MaximumActualTime:
    case Range:
    case Minimum2:
    case Maximum2:
    case MinimumActualTime2:
    case MaximumActualTime2:
    case Range2: return make(std::type_identity<OfExtremes>());
    case DurationInStateZero:
    case DurationInStateNonZero:
    case DurationGood:
    case DurationBad:
    case PercentGood:
    case PercentBad: return make(std::type_identity<OfDurations>());
    case AnnotationCount:
    case NumberOfTransitions:
    case WorstQuality:
    case WorstQuality2: return make(std::type_identity<OfMarks>());
    default: return make(std::type_identity<OfEnds>());
  }
}

}  // namespace zunth::aggregate
