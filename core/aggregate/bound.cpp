#include "core/aggregate/bound.hpp"

#include <cmath>
#include <limits>

namespace zunth::aggregate {

using namespace ua;

namespace {

bool isSloped(const DataValue& sample, const Manner& manner) {
  return !manner.isStepped && !sample.value.isArray() && isNumeric(sample.value.type());
}

/// On the straight line through two samples.
Variant onLine(const DataValue& a, const DataValue& b, DateTime moment) {
  const auto span = static_cast<double>(b.sourceTimestamp.ticks - a.sourceTimestamp.ticks);
  const double part = static_cast<double>(moment.ticks - a.sourceTimestamp.ticks) / span;
  const double x = numberOf(a.value), y = numberOf(b.value);
  return asType(a.value.type(), x + (y - x) * part);
}

/// Beyond the last sample of all.
Bound extrapolated(const Last& last, const DataValue& from, const Next& next, DateTime moment, const Manner& manner) {
  if (next.holdsOn) return {from.value, clean(from.status.isGood())};
  if (manner.configuration.useSlopedExtrapolation && last.good && last.secondGood && isSloped(from, manner))
    return {onLine(*last.secondGood, *last.good, moment), status::UncertainDataSubNormal};
  return {from.value, status::UncertainDataSubNormal};
}

Bound interpolated(DateTime moment, const Last& last, const Next& next, const Manner& manner, bool skipsExact) {
  if (!last.good) return {};
  const DataValue& good = *last.good;
  const bool isWhole = !skipsExact && last.any->sourceTimestamp == good.sourceTimestamp && good.status.isGood();
  if (!isSloped(good, manner)) {
    if (!next.any) return extrapolated(last, good, next, moment, manner);
    return {good.value, clean(isWhole)};
  }
  if (!next.good) {
    Bound out = extrapolated(last, good, next, moment, manner);
    if (!isWhole || next.any) out.status = status::UncertainDataSubNormal;
    return out;
  }
  return {onLine(good, *next.good, moment),
          clean(isWhole && next.any->sourceTimestamp == next.good->sourceTimestamp && next.good->status.isGood())};
}

Bound simple(DateTime moment, const Last& last, const Next& next, const Manner& manner) {
  if (!last.any || !isUsable(*last.any, manner.configuration)) return {};
  const DataValue& before = *last.any;
  if (!next.any) return extrapolated(last, before, next, moment, manner);
  if (!isSloped(before, manner)) return {before.value, clean(before.status.isGood())};
  if (!isUsable(*next.any, manner.configuration)) return {before.value, status::UncertainDataSubNormal};
  return {onLine(before, *next.any, moment), clean(before.status.isGood() && next.any->status.isGood())};
}

}  // namespace

double numberOf(const Variant& value) {
  if (const double* number = value.get<double>()) return *number;
  double number = std::numeric_limits<double>::quiet_NaN();
  value.toDouble(number);
  return number;
}

Variant asType(BuiltInType type, double number) {
  Variant out(number);
  if (!isNumeric(type)) return out;
  visitBuiltIn(type, [&]<class T>(std::type_identity<T>) {
    if constexpr (std::is_integral_v<T> && !std::is_same_v<T, bool>) {
      using Of = std::numeric_limits<T>;
      const double whole = std::nearbyint(number);
      if (!(whole > static_cast<double>(Of::min())))
        out = Variant(Of::min());
      else
        out = Variant(whole >= static_cast<double>(Of::max()) ? Of::max() : static_cast<T>(whole));
    } else if constexpr (std::is_same_v<T, float>) {
      out = Variant(static_cast<float>(number));
    }
  });
  return out;
}

Bound boundAt(DateTime moment, const Last& last, const Next& next, const Manner& manner, Bounds bounds) {
  const DataValue* exact = nullptr;
  if (last.any && last.any->sourceTimestamp == moment) exact = &*last.any;
  if (next.any && next.any->sourceTimestamp == moment) exact = next.any;
  if (exact && (bounds == Bounds::Simple || isUsable(*exact, manner.configuration)))
    return {exact->value, exact->status, true};
  return bounds == Bounds::Simple ? simple(moment, last, next, manner)
                                  : interpolated(moment, last, next, manner, exact != nullptr);
}

DataValue valueOf(const Bound& bound, DateTime moment) {
  if (bound.status.isBad()) return DataValue(Variant(), moment, bound.isRaw ? withBits(bound.status, 0) : bound.status);
  return DataValue(bound.value, moment, withBits(bound.status, bound.isRaw ? 0 : kInterpolated));
}

}  // namespace zunth::aggregate
