#pragma once

#include "core/aggregate/function.hpp"

#include <optional>

namespace zunth::aggregate {

/// How a variable's samples are taken.
struct Manner {
  Configuration configuration;
  bool isStepped = false;  // a value holds until the next; otherwise a straight line leads to it
};

/// Whether a sample counts as good.
inline bool isUsable(const ua::DataValue& sample, const Configuration& configuration) {
  return sample.status.isGood() || (sample.status.isUncertain() && !configuration.treatUncertainAsBad);
}

/// The newest of the samples that have passed: of all, and of those that count as good.
struct Last {
  std::optional<ua::DataValue> any, good, secondGood;

  void pass(const ua::DataValue& sample, const Configuration& configuration) {
    any = sample;
    if (!isUsable(sample, configuration)) return;
    std::swap(secondGood, good);
    good = sample;
  }
};

/// What comes next; nullptr where nothing comes.
struct Next {
  const ua::DataValue* any = nullptr;
  const ua::DataValue* good = nullptr;
  bool holdsOn = false;  // nothing comes, and what came last still holds: its source is watched
};

/// What is known at a moment: by a sample that stands there, or by those around it (Part 13, 3.1).
struct Bound {
  ua::Variant value;
  ua::StatusCode status = ua::status::BadNoData;
  bool isRaw = false;  // a sample stands there
};
/// Of `last`, what came last may stand at the moment itself; so may what comes next.
Bound boundAt(ua::DateTime moment, const Last& last, const Next& next, const Manner& manner, Bounds bounds);
/// What is told of a result that is calculated from good values alone, or not.
constexpr ua::StatusCode clean(bool isClean) { return isClean ? ua::status::Good : ua::status::UncertainDataSubNormal; }
/// As a value at that moment, with the bits that tell how it was got (Part 4, 7.39.1).
ua::DataValue valueOf(const Bound& bound, ua::DateTime moment);

/// A scalar number as Double, NaN for what is none.
double numberOf(const ua::Variant& value);
/// A number as a value of this type; as Double where the type has no numbers.
ua::Variant asType(ua::BuiltInType type, double number);

// Part 4, 7.39.1: bits of the status that tell where a value of history comes from. Raw ones have none of them.
inline constexpr std::uint32_t kCalculated = 1, kInterpolated = 2, kPartial = 4, kMultiValue = 0x10;
constexpr ua::StatusCode withBits(ua::StatusCode status, std::uint32_t bits) { return {status.value | 0x400 | bits}; }

}  // namespace zunth::aggregate
