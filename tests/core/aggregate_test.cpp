#include "core/aggregate/intervals.hpp"

#include <cmath>
#include <optional>
#include <random>

#include <catch2/catch.hpp>

namespace zunth::aggregate_test {

using namespace ua;
using namespace aggregate;
using Samples = std::vector<DataValue>;

constexpr std::int64_t kSecond = 10'000'000;
const std::int64_t kNoon = 130'000'000'000'000'000;

DateTime at(double seconds) { return {kNoon + static_cast<std::int64_t>(seconds * kSecond)}; }

DataValue sample(double seconds, double value, StatusCode status = status::Good) {
  return DataValue(status.isBad() ? Variant() : Variant(value), at(seconds), status);
}

Samples judged(const Samples& all, std::string_view name, const Grid& grid, const Manner& manner,
               bool holdsOn = false) {
  const auto* function = functionNamed(name);
  REQUIRE(function);
  Samples out;
  const std::size_t count = grid.size();
  const auto nth = [&](std::size_t i) { return grid.interval(grid.isBackward() ? count - 1 - i : i); };
  Intervals intervals(*function, manner, grid.isBackward(), {},
                      [&](DataValue value) { out.push_back(std::move(value)); });
  for (std::size_t i = 0; i < count; ++i) intervals.add(nth(i));
  for (const auto& one : all) intervals.feed(std::span(&one, 1));
  intervals.reach(DateTime{INT64_MAX}, holdsOn);
  CHECK(intervals.isDone());
  if (grid.isBackward()) std::ranges::reverse(out);
  return out;
}

// The samples that Part 13, A.1.1 to A.1.3 work with.
const Samples kSteady{sample(10, 10),
                      sample(20, 20),
                      sample(30, 30),
                      sample(40, 40, status::Bad),
                      sample(50, 50),
                      sample(60, 60),
                      sample(70, 70, status::Uncertain),
                      sample(80, 80),
                      sample(90, 90)};
const Manner kSteadyManner{{false, 100, 100, false}, false};

struct Told {
  double value;  // NaN for none
  StatusCode status;
  std::uint32_t bits;
};
const double kNone = std::nan("");

void compare(const Samples& told, const std::vector<Told>& wanted) {
  REQUIRE(told.size() == wanted.size());
  for (std::size_t i = 0; i < told.size(); ++i) {
    CAPTURE(i, told[i].status.name(), told[i].status.value & 0x1F, numberOf(told[i].value));
    CHECK(told[i].status.condition() == wanted[i].status);
    if (std::isnan(wanted[i].value))
      CHECK(told[i].value.isNull());
    else
      CHECK(numberOf(told[i].value) == Approx(wanted[i].value));
    if (!wanted[i].status.isBad()) CHECK((told[i].status.value & 0x1F) == wanted[i].bits);
  }
}

TEST_CASE("values between samples lie on the line through the good ones", "[aggregate]") {
  const StatusCode good = status::Good, dull = status::UncertainDataSubNormal, none = status::BadNoData;
  compare(judged(kSteady, "Interpolative", Grid(at(0), at(100), 5 * kSecond), kSteadyManner),
          {{kNone, none, 0},
           {kNone, none, 0},
           {10, good, 0},
           {15, good, kInterpolated},
           {20, good, 0},
           {25, good, kInterpolated},
           {30, good, 0},
           {35, dull, kInterpolated},
           {40, dull, kInterpolated},
           {45, dull, kInterpolated},
           {50, good, 0},
           {55, good, kInterpolated},
           {60, good, 0},
           {65, dull, kInterpolated},
           {70, status::Uncertain, 0},
           {75, dull, kInterpolated},
           {80, good, 0},
           {85, good, kInterpolated},
           {90, good, 0},
           {90, dull, kInterpolated}});
}

TEST_CASE("aggregates of a steady rise, worked out by hand", "[aggregate]") {
  const StatusCode good = status::Good, dull = status::UncertainDataSubNormal, none = status::BadNoData;
  struct Case {
    const char* name;
    std::vector<Told> wanted;
  };
  const Case cases[] = {
      {"Average",
       {{10, good, kCalculated | kPartial},
        {25, good, kCalculated},
        {kNone, none, 0},
        {55, good, kCalculated},
        {70, good, kCalculated},
        {85, good, kCalculated | kPartial}}},
      {"Count",
       {{1, good, kCalculated | kPartial},
        {2, good, kCalculated},
        {kNone, status::Bad, 0},
        {2, good, kCalculated},
        {1, good, kCalculated},
        {2, good, kCalculated | kPartial}}},
      {"TimeAverage",
       {{13, dull, kCalculated | kPartial},
        {24, good, kCalculated},
        {40, dull, kCalculated},
        {56, dull, kCalculated},
        {72, good, kCalculated},
        {(85 * 10 + 90 * 6) / 16.0, good, kCalculated | kPartial}}},
      {"Total2",
       {{13 * 16, dull, kCalculated | kPartial},
        {(18 * 4 + 25 * 10 + 30 * 2), good, kCalculated},
        // From 32 on the sample at 30 holds, as the next one is bad.
        {30 * 16, dull, kCalculated},
        {(50 + 64) / 2.0 * 16, dull, kCalculated},
        {72 * 16, good, kCalculated},
        {(85 * 10 + 90 * 6) / 16.0 * 16, good, kCalculated | kPartial}}},
      {"DurationGood",
       {{6000, good, kCalculated | kPartial},
        {16000, good, kCalculated},
        {8000, good, kCalculated},
        {14000, good, kCalculated},
        {16000, good, kCalculated},
        {16000, good, kCalculated | kPartial}}},
      {"Maximum",
       {{10, good, kCalculated | kPartial},
        {30, good, kCalculated},
        {kNone, none, 0},
        {60, good, kCalculated},
        {70, dull, kCalculated},
        {90, good, kCalculated | kPartial}}},
      {"Minimum2",
       {{10, dull, kCalculated | kPartial},
        {16, good, kInterpolated},
        {30, dull, kInterpolated},
        {50, dull, kCalculated},
        {64, dull, kInterpolated},
        {80, good, kPartial}}},
      {"Delta",
       {{0, good, kCalculated | kPartial},
        {10, good, kCalculated},
        {kNone, none, 0},
        {10, good, kCalculated},
        {0, dull, kCalculated},
        {10, good, kCalculated | kPartial}}},
      {"VariancePopulation",
       {{0, good, kCalculated | kPartial},
        {25, good, kCalculated},
        {kNone, none, 0},
        {25, good, kCalculated},
        {0, good, kCalculated},
        {25, good, kCalculated | kPartial}}},
  };
  for (const auto& each : cases) {
    CAPTURE(each.name);
    compare(judged(kSteady, each.name, Grid(at(0), at(96), 16 * kSecond), kSteadyManner), each.wanted);
  }
}

// A second implementation, by the text alone: it has all samples at hand, looks each thing up where it needs it, and
// knows nothing of a stream.
class ByTheText {
 public:
  ByTheText(Samples all, Manner manner) : all_(std::move(all)), m_(manner) {}

  struct Answer {
    std::optional<double> value;
    StatusCode status;
    std::optional<DateTime> time;
  };

  Answer judge(Kind kind, const Interval& i, bool isBackward) const {
    using enum Kind;
    const auto in = inside(i, isBackward);
    Samples ok;
    for (const auto& s : in)
      if (usable(s)) ok.push_back(s);
    const StatusCode byCount = percent(double(ok.size()), double(in.size() - ok.size()));
    const StatusCode byTime = percent(goodTicks(i), double(i.to.ticks - i.from.ticks) - goodTicks(i));
    const StatusCode leftOut = ok.size() == in.size() ? status::Good : status::UncertainDataSubNormal;
    const DateTime entry = isBackward ? i.to : i.from, exit = isBackward ? i.from : i.to;
    const double seconds = double(i.to.ticks - i.from.ticks) / kSecond;
    const auto told = [](double v, StatusCode s) { return s.isBad() ? Answer{{}, s, {}} : Answer{v, s, {}}; };
    const Answer nothing{{}, status::BadNoData, {}};
    const auto mean = [&] {
      double sum = 0;
      for (const auto& s : ok) sum += n(s);
      return sum / double(ok.size());
    };
    switch (kind) {
      case Interpolative: return ofBound(interpolated(entry));
      case StartBound: return ofBound(simple(entry));
      case EndBound: return ofBound(simple(exit));
      case DeltaBounds: {
        const auto a = simple(entry), b = simple(exit);
        if (!a.value || !b.value) return nothing;
        const bool isClean = a.status.isGood() && b.status.isGood();
        return {*b.value - *a.value, isClean ? status::Good : status::UncertainDataSubNormal, {}};
      }
      case Average: return ok.empty() ? nothing : told(mean(), byCount);
      case Count: return in.empty() && !before(i.from, isBackward) ? nothing : told(double(ok.size()), byCount);
      case VariancePopulation:
      case VarianceSample:
      case StandardDeviationPopulation:
      case StandardDeviationSample: {
        if (ok.empty()) return nothing;
        double squares = 0;
        for (const auto& s : ok) squares += (n(s) - mean()) * (n(s) - mean());
        const bool isOfSample = kind == VarianceSample || kind == StandardDeviationSample;
        const double divisor = double(ok.size()) - (isOfSample ? 1 : 0);
        const double variance = divisor > 0 ? squares / divisor : 0;
        const bool isRoot = kind == StandardDeviationSample || kind == StandardDeviationPopulation;
        return told(isRoot ? std::sqrt(variance) : variance, byCount);
      }
      case TimeAverage:
      case Total: {
        std::vector<std::pair<DateTime, double>> line;
        if (const auto b = interpolated(i.from); b.value) line.emplace_back(i.from, *b.value);
        for (const auto& s : ok) line.emplace_back(s.sourceTimestamp, n(s));
        if (const auto b = interpolated(i.to); b.value && !line.empty()) line.emplace_back(i.to, *b.value);
        double area = 0, length = 0;
        for (std::size_t k = 1; k < line.size(); ++k) {
          const double dt = double(line[k].first.ticks - line[k - 1].first.ticks);
          area += dt * (m_.isStepped ? line[k - 1].second : (line[k].second + line[k - 1].second) / 2);
          length += dt;
        }
        return length > 0 ? told(area / length * (kind == Total ? seconds : 1), byTime) : nothing;
      }
      case TimeAverage2:
      case Total2: {
        double area = 0, length = 0;
        for (const auto& [a, b] : regions(i)) {
          const DataValue* s = lastAt(a);
          if (!s || !usable(*s)) continue;
          const auto low = simple(a);
          auto high = m_.isStepped ? low : simple(b);
          if (const DataValue* next = nextFrom(b); !m_.isStepped && next && !usable(*next)) high = low;
          const double dt = double(b.ticks - a.ticks);
          area += dt * (*low.value + high.value.value_or(*low.value)) / 2;
          length += dt;
        }
        return length > 0 ? told(area / length * (kind == Total2 ? seconds : 1), byTime) : nothing;
      }
      case Minimum:
      case Maximum:
      case MinimumActualTime:
      case MaximumActualTime:
      case Range:
      case Minimum2:
      case Maximum2:
      case MinimumActualTime2:
      case MaximumActualTime2:
      case Range2: {
        const bool withBounds = kind == Minimum2 || kind == Maximum2 || kind == MinimumActualTime2 ||
                                kind == MaximumActualTime2 || kind == Range2;
        struct Point {
          DateTime time;
          double value;
          StatusCode status;
        };
        std::vector<Point> points;
        if (withBounds)
          if (const auto b = simple(i.from); b.value && !isInside(i.from, in))
            points.push_back({i.from, *b.value, b.status});
        for (const auto& s : ok) points.push_back({s.sourceTimestamp, n(s), s.status});
        if (withBounds && !m_.isStepped)
          if (const auto b = simple(i.to); b.value && !isInside(i.to, in)) points.push_back({i.to, *b.value, b.status});
        if (points.empty()) return nothing;
        const auto less = [](const Point& a, const Point& b) { return a.value < b.value; };
        const auto low = std::ranges::min_element(points, less), high = std::ranges::max_element(points, less);
        const auto first = std::ranges::find(points, high->value, &Point::value);
        const StatusCode status = withBounds ? byTime : leftOut;
        if (kind == Range || kind == Range2) return told(high->value - low->value, status);
        const bool isMaximum =
            kind == Maximum || kind == Maximum2 || kind == MaximumActualTime || kind == MaximumActualTime2;
        const Point& found = isMaximum ? *first : *low;
        Answer out =
            told(found.value,
                 status.isGood() && found.status.isUncertain() ? StatusCode(status::UncertainDataSubNormal) : status);
        const bool isTimed = kind == MinimumActualTime || kind == MaximumActualTime || kind == MinimumActualTime2 ||
                             kind == MaximumActualTime2;
        if (isTimed && out.value) out.time = found.time;
        return out;
      }
      case DurationGood: return {goodTicks(i) / 1e4, status::Good, {}};
      case DurationBad: return {(double(i.to.ticks - i.from.ticks) - goodTicks(i)) / 1e4, status::Good, {}};
      case PercentGood: return {goodTicks(i) / double(i.to.ticks - i.from.ticks) * 100, status::Good, {}};
      case PercentBad: return {100 - goodTicks(i) / double(i.to.ticks - i.from.ticks) * 100, status::Good, {}};
      case DurationInStateZero:
      case DurationInStateNonZero: {
        double in0 = 0, known = 0;
        for (const auto& [a, b] : regions(i)) {
          const DataValue* s = lastAt(a);
          if (!s || !usable(*s)) continue;
          known += double(b.ticks - a.ticks);
          if ((n(*s) == 0) == (kind == DurationInStateZero)) in0 += double(b.ticks - a.ticks);
        }
        return known > 0 ? told(in0 / 1e4, byTime) : nothing;
      }
      case NumberOfTransitions: {
        if (in.empty() && !before(i.from, isBackward)) return nothing;
        Samples chain;
        for (const auto& s : all_)
          if (usable(s)) chain.push_back(s);
        int count = 0;
        for (std::size_t k = 1; k < chain.size(); ++k) {
          const bool first = isInside(chain[k - 1].sourceTimestamp, in),
                     second = isInside(chain[k].sourceTimestamp, in);
          if ((isBackward ? first : second) && n(chain[k]) != n(chain[k - 1])) ++count;
        }
        return told(count, leftOut);
      }
      case Start:
      case End: {
        if (in.empty()) return nothing;
        const auto& s = (kind == Start) != isBackward ? in.front() : in.back();
        return {s.value.isNull() ? std::nullopt : std::optional(n(s)), s.status, s.sourceTimestamp};
      }
      case Delta: {
        if (ok.empty()) return nothing;
        const bool isSure =
            usable(in.front()) && usable(in.back()) && ok.front().status.isGood() && ok.back().status.isGood();
        const double d = n(ok.back()) - n(ok.front());
        return {isBackward ? -d : d, isSure ? status::Good : status::UncertainDataSubNormal, {}};
      }
      case WorstQuality:
      case WorstQuality2: {
        std::vector<StatusCode> seen;
        const auto add = [&](DateTime t) {
          if (!isInside(t, in)) seen.push_back(simple(t).status);
        };
        if (kind == WorstQuality2) add(i.from);
        for (const auto& s : in) seen.push_back(s.status);
        if (kind == WorstQuality2) add(i.to);
        if (seen.empty()) return nothing;
        const auto worst = std::ranges::max_element(seen, {}, [](StatusCode c) { return c.value >> 30; });
        return {double(worst->value >> 30), status::Good, {}};
      }
      case AnnotationCount: return {0.0, status::Good, {}};
    }
    return nothing;
  }

 private:
  struct At {
    std::optional<double> value;
    StatusCode status;
  };
  static double n(const DataValue& s) { return numberOf(s.value); }
  bool usable(const DataValue& s) const { return isUsable(s, m_.configuration); }
  static Answer ofBound(const At& b) { return {b.value, b.status, {}}; }
  static bool isInside(DateTime t, const Samples& in) {
    return std::ranges::any_of(in, [&](const DataValue& s) { return s.sourceTimestamp == t; });
  }
  Samples inside(const Interval& i, bool isBackward) const {
    Samples out;
    for (const auto& s : all_) {
      const auto t = s.sourceTimestamp;
      if (isBackward ? t > i.from && t <= i.to : t >= i.from && t < i.to) out.push_back(s);
    }
    return out;
  }
  bool before(DateTime t, bool isBackward) const {
    return std::ranges::any_of(
        all_, [&](const DataValue& s) { return isBackward ? s.sourceTimestamp <= t : s.sourceTimestamp < t; });
  }
  const DataValue* exactly(DateTime t) const {
    const auto found = std::ranges::find(all_, t, &DataValue::sourceTimestamp);
    return found == all_.end() ? nullptr : &*found;
  }
  template <class Fits>
  const DataValue* lastBefore(DateTime t, Fits fits) const {
    const DataValue* out = nullptr;
    for (const auto& s : all_)
      if (s.sourceTimestamp < t && fits(s)) out = &s;
    return out;
  }
  template <class Fits>
  const DataValue* firstAfter(DateTime t, Fits fits) const {
    for (const auto& s : all_)
      if (s.sourceTimestamp > t && fits(s)) return &s;
    return nullptr;
  }
  const DataValue* lastAt(DateTime t) const {
    return exactly(t) ? exactly(t) : lastBefore(t, [](const auto&) { return true; });
  }
  const DataValue* nextFrom(DateTime t) const {
    return exactly(t) ? exactly(t) : firstAfter(t, [](const auto&) { return true; });
  }
  static double onLine(const DataValue& a, const DataValue& b, DateTime t) {
    return n(a) + (n(b) - n(a)) * double(t.ticks - a.sourceTimestamp.ticks) /
                      double(b.sourceTimestamp.ticks - a.sourceTimestamp.ticks);
  }
  At beyond(const DataValue& last, DateTime t, bool isGoodOne) const {
    const DataValue* second = lastBefore(last.sourceTimestamp, [&](const auto& s) { return usable(s); });
    if (isGoodOne && m_.configuration.useSlopedExtrapolation && !m_.isStepped && second)
      return {onLine(*second, last, t), status::UncertainDataSubNormal};
    return {n(last), status::UncertainDataSubNormal};
  }
  At interpolated(DateTime t) const {
    if (const auto* e = exactly(t); e && usable(*e)) return {n(*e), e->status};
    const auto ok = [&](const auto& s) { return usable(s); };
    const auto any = [](const auto&) { return true; };
    const auto *a = lastBefore(t, ok), *b = firstAfter(t, ok);
    if (!a) return {{}, status::BadNoData};
    const bool isSkipping = exactly(t) || lastBefore(t, any) != a || !a->status.isGood();
    const auto dull = [](bool is) { return is ? status::UncertainDataSubNormal : status::Good; };
    if (m_.isStepped) {
      const bool isEnd = !exactly(t) && !firstAfter(t, any);
      return {n(*a), dull(isSkipping || isEnd)};
    }
    if (!b) return beyond(*a, t, true);
    return {onLine(*a, *b, t), dull(isSkipping || firstAfter(t, any) != b || !b->status.isGood())};
  }
  At simple(DateTime t) const {
    const auto any = [](const auto&) { return true; };
    if (const auto* e = exactly(t)) return {e->status.isBad() ? std::nullopt : std::optional(n(*e)), e->status};
    const auto *a = lastBefore(t, any), *b = firstAfter(t, any);
    if (!a || !usable(*a)) return {{}, status::BadNoData};
    if (!b) return beyond(*a, t, true);
    const bool isGood = a->status.isGood();
    if (m_.isStepped) return {n(*a), isGood ? status::Good : status::UncertainDataSubNormal};
    if (!usable(*b)) return {n(*a), status::UncertainDataSubNormal};
    return {onLine(*a, *b, t), isGood && b->status.isGood() ? status::Good : status::UncertainDataSubNormal};
  }
  std::vector<std::pair<DateTime, DateTime>> regions(const Interval& i) const {
    std::vector<DateTime> cuts{i.from};
    for (const auto& s : all_)
      if (s.sourceTimestamp > i.from && s.sourceTimestamp < i.to) cuts.push_back(s.sourceTimestamp);
    cuts.push_back(i.to);
    std::vector<std::pair<DateTime, DateTime>> out;
    for (std::size_t k = 1; k < cuts.size(); ++k) out.emplace_back(cuts[k - 1], cuts[k]);
    return out;
  }
  double goodTicks(const Interval& i) const {
    double out = 0;
    for (const auto& [a, b] : regions(i)) {
      const DataValue* s = lastAt(a);
      const bool isAfterAll = !nextFrom(b) && s && s->sourceTimestamp == all_.back().sourceTimestamp;
      if (s && usable(*s) && !(isAfterAll && m_.configuration.treatUncertainAsBad)) out += double(b.ticks - a.ticks);
    }
    return out;
  }
  StatusCode percent(double good, double bad) const {
    if (good + bad <= 0) return status::Good;
    if (good / (good + bad) * 100 >= m_.configuration.percentDataGood) return status::Good;
    if (bad / (good + bad) * 100 >= m_.configuration.percentDataBad) return status::Bad;
    return status::UncertainDataSubNormal;
  }

  Samples all_;
  Manner m_;
};

TEST_CASE("every aggregate is what a second implementation makes of it, whichever way time runs",
          "[aggregate][cu:Aggregate - Interpolative][cu:Aggregate - Average][cu:Aggregate - TimeAverage][cu:Aggregate "
          "- TimeAverage2][cu:Aggregate - Total][cu:Aggregate - Total2][cu:Aggregate - Minimum][cu:Aggregate - "
          "Maximum][cu:Aggregate - MinimumActualTime][cu:Aggregate - MaximumActualTime][cu:Aggregate - "
          "Range][cu:Aggregate - Minimum2][cu:Aggregate - Maximum2][cu:Aggregate - MinimumActualTime2][cu:Aggregate - "
          "MaximumActualTime2][cu:Aggregate - Range2][cu:Aggregate - Count][cu:Aggregate - "
          "DurationInStateZero][cu:Aggregate - DurationInStateNonZero][cu:Aggregate - "
          "NumberOfTransitions][cu:Aggregate - Start][cu:Aggregate - End][cu:Aggregate - Delta][cu:Aggregate - "
          "StartBound][cu:Aggregate - EndBound][cu:Aggregate - DeltaBounds][cu:Aggregate - DurationGood][cu:Aggregate "
          "- DurationBad][cu:Aggregate - PercentGood][cu:Aggregate - PercentBad][cu:Aggregate - "
          "WorstQuality][cu:Aggregate - WorstQuality2][cu:Aggregate - StandardDeviationSample][cu:Aggregate - "
          "StandardDeviationPopulation][cu:Aggregate - VarianceSample][cu:Aggregate - VariancePopulation]") {
  std::mt19937 dice(20261129);
  const auto roll = [&](int sides) { return static_cast<int>(dice() % static_cast<unsigned>(sides)); };
  for (int round = 0; round < 300; ++round) {
    Samples all;
    double t = 0;
    const int count = roll(25);
    for (int i = 0; i < count; ++i) {
      t += 1 + roll(9);
      const StatusCode statuses[] = {status::Good, status::Good, status::Good, status::Uncertain, status::Bad};
      all.push_back(sample(t, roll(6), statuses[roll(5)]));
    }
    const Manner manner{{roll(2) == 0, static_cast<std::uint8_t>(50 + roll(51)),
                         static_cast<std::uint8_t>(50 + roll(51)), roll(2) == 0},
                        roll(2) == 0};
    const int start = roll(20), length = 30 + roll(100), width = roll(4) == 0 ? 0 : 3 + roll(20);
    const bool isBackward = roll(2) == 0;
    const Grid grid(at(isBackward ? start + length : start), at(isBackward ? start : start + length), width * kSecond);
    const ByTheText second(all, manner);
    for (const auto& function : functions()) {
      const auto told = judged(all, function.name, grid, manner);
      REQUIRE(told.size() == grid.size());
      for (std::size_t i = 0; i < told.size(); ++i) {
        const auto wanted = second.judge(function.kind, grid.interval(i), isBackward);
        const bool isQuality = function.kind == Kind::WorstQuality || function.kind == Kind::WorstQuality2;
        double value = numberOf(told[i].value);
        if (const auto* code = told[i].value.get<StatusCode>(); isQuality && code) value = code->value >> 30;
        CAPTURE(round, function.name, i, isBackward, manner.isStepped, manner.configuration.treatUncertainAsBad, value,
                wanted.value.value_or(-1), told[i].status.name(), wanted.status.name());
        REQUIRE(told[i].status.condition() == wanted.status.condition());
        REQUIRE((told[i].value.isNull() ? std::nullopt : std::optional(true)).has_value() == wanted.value.has_value());
        if (wanted.value) REQUIRE(value == Approx(*wanted.value).margin(1e-9));
        if (wanted.time) REQUIRE(told[i].sourceTimestamp == *wanted.time);
      }
    }
  }
}

TEST_CASE("a value that is watched holds until now", "[aggregate]") {
  const Manner manner;  // uncertain counts as bad
  const Samples all{sample(10, 4), sample(20, 6)};
  const auto open = judged(all, "TimeAverage", Grid(at(10), at(30), 20 * kSecond), {{}, true});
  CHECK(open.front().status.condition() == status::UncertainDataSubNormal);
  const auto watched = judged(all, "TimeAverage", Grid(at(10), at(30), 20 * kSecond), {{}, true}, true);
  CHECK(watched.front().status.condition() == status::Good);
  CHECK(numberOf(watched.front().value) == 5);
  CHECK((watched.front().status.value & kPartial) == 0);
}

TEST_CASE("whole numbers stay whole numbers, and what is no number has no average", "[aggregate]") {
  CHECK(asType(BuiltInType::Byte, 255.4) == Variant(std::uint8_t{255}));
  CHECK(asType(BuiltInType::Byte, -3) == Variant(std::uint8_t{0}));
  CHECK(asType(BuiltInType::Int64, 1e300) == Variant(INT64_MAX));
  CHECK(asType(BuiltInType::Int16, std::nan("")) == Variant(std::int16_t{-32768}));
  const Samples words{DataValue(Variant("on"), at(1)), DataValue(Variant("off"), at(3))};
  const auto between = judged(words, "Interpolative", Grid(at(2), at(3), 0), {});
  CHECK(between.front().value == Variant("on"));
  CHECK(judged(words, "NumberOfTransitions", Grid(at(2), at(5), 0), {}).front().value == Variant(std::int32_t{1}));
}

TEST_CASE("percentages that leave nothing between good and bad are taken, others refused", "[aggregate]") {
  const Configuration usual{false, 80, 90, true};
  CHECK(*configurationOf({true, true, 0, 0, false}, usual) == usual);
  CHECK(configurationOf({false, true, 60, 40, false}, usual)->percentDataBad == 60);
  for (const auto& [bad, good] : {std::pair{101, 100}, {100, 101}, {40, 50}})
    CHECK(configurationOf({false, true, static_cast<std::uint8_t>(bad), static_cast<std::uint8_t>(good), false}, usual)
              .code() == status::BadAggregateConfigurationRejected);
}

}  // namespace zunth::aggregate_test
