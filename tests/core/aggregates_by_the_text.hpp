#pragma once

#include "core/aggregate/accumulator.hpp"

#include <algorithm>
#include <cmath>
#include <optional>
#include <vector>

namespace zunth::aggregate_test {

using namespace ua;
using namespace aggregate;
using Samples = std::vector<DataValue>;

constexpr std::int64_t kSecond = 10'000'000;

/// A second implementation of all aggregates, by the text of Part 13 alone: it has all samples at hand, looks each
/// thing up where it needs it, and knows nothing of a stream.
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

}  // namespace zunth::aggregate_test
