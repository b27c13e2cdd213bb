#pragma once

#include "core/ua/generated/structures.hpp"

#include <span>

/// Aggregates (Part 13): what an interval of samples comes to. Pure functions, for what is kept and for what is live.
namespace zunth::aggregate {

/// The standard's aggregates (Part 13, 5.4).
enum class Kind : std::uint8_t {
  Interpolative,
  Average,
  TimeAverage,
  TimeAverage2,
  Total,
  Total2,
  Minimum,
  Maximum,
  MinimumActualTime,
  MaximumActualTime,
  Range,
  Minimum2,
  Maximum2,
  MinimumActualTime2,
  MaximumActualTime2,
  Range2,
  AnnotationCount,
  Count,
  DurationInStateZero,
  DurationInStateNonZero,
  NumberOfTransitions,
  Start,
  End,
  Delta,
  StartBound,
  EndBound,
  DeltaBounds,
  DurationGood,
  DurationBad,
  PercentGood,
  PercentBad,
  WorstQuality,
  WorstQuality2,
  StandardDeviationSample,
  StandardDeviationPopulation,
  VarianceSample,
  VariancePopulation,
};

/// How the values at an interval's ends are found, where no sample stands there (Part 13, 3.1).
enum class Bounds : std::uint8_t {
  None,
  Interpolated,  // by the nearest samples that aren't bad
  Simple,        // by the nearest samples, whatever they are
};

struct Function {
  Kind kind;
  std::string_view name;  // as its object is called: "TimeAverage"
  ua::StandardId id;      // of the object below HistoryServerCapabilities/AggregateFunctions
  Bounds bounds;
  bool needsNumbers;  // BadAggregateInvalidInputs for other values
};

/// All of them, in the order of the standard.
std::span<const Function> functions();
/// nullptr when there is none.
const Function* functionOf(const ua::NodeId& id);
const Function* functionNamed(std::string_view name);

/// How samples that aren't good are taken (Part 13, 4.2.1.2), with the standard's defaults.
struct Configuration {
  bool treatUncertainAsBad = true;
  std::uint8_t percentDataBad = 100, percentDataGood = 100;
  bool useSlopedExtrapolation = false;
  bool operator==(const Configuration&) const = default;
};

/// What a client asks for, or `usual` when it says so. BadAggregateConfigurationRejected for percentages that can't be.
ua::Result<Configuration> configurationOf(const ua::AggregateConfiguration& asked, const Configuration& usual);

}  // namespace zunth::aggregate
