#include "core/aggregate/function.hpp"

#include "core/ua/generated/node_ids.hpp"

#include <algorithm>
#include <array>

namespace zunth::aggregate {

using namespace ua;

namespace {

#define ZUNTH_AGGREGATE(name, bounds, needsNumbers) \
  Function { Kind::name, #name, id::AggregateFunction_##name, Bounds::bounds, needsNumbers }

constexpr std::array kFunctions{
    ZUNTH_AGGREGATE(Interpolative, Interpolated, false),
    ZUNTH_AGGREGATE(Average, None, true),
    ZUNTH_AGGREGATE(TimeAverage, Interpolated, true),
    ZUNTH_AGGREGATE(TimeAverage2, Simple, true),
    ZUNTH_AGGREGATE(Total, Interpolated, true),
    ZUNTH_AGGREGATE(Total2, Simple, true),
    ZUNTH_AGGREGATE(Minimum, None, true),
    ZUNTH_AGGREGATE(Maximum, None, true),
    ZUNTH_AGGREGATE(MinimumActualTime, None, true),
    ZUNTH_AGGREGATE(MaximumActualTime, None, true),
    ZUNTH_AGGREGATE(Range, None, true),
    ZUNTH_AGGREGATE(Minimum2, Simple, true),
    ZUNTH_AGGREGATE(Maximum2, Simple, true),
    ZUNTH_AGGREGATE(MinimumActualTime2, Simple, true),
    ZUNTH_AGGREGATE(MaximumActualTime2, Simple, true),
    ZUNTH_AGGREGATE(Range2, Simple, true),
    ZUNTH_AGGREGATE(AnnotationCount, None, false),
    ZUNTH_AGGREGATE(Count, None, false),
    ZUNTH_AGGREGATE(DurationInStateZero, Simple, true),
    ZUNTH_AGGREGATE(DurationInStateNonZero, Simple, true),
    ZUNTH_AGGREGATE(NumberOfTransitions, None, false),
    ZUNTH_AGGREGATE(Start, None, false),
    ZUNTH_AGGREGATE(End, None, false),
    ZUNTH_AGGREGATE(Delta, None, true),
    ZUNTH_AGGREGATE(StartBound, Simple, false),
    ZUNTH_AGGREGATE(EndBound, Simple, false),
    ZUNTH_AGGREGATE(DeltaBounds, Simple, true),
    ZUNTH_AGGREGATE(DurationGood, Simple, false),
    ZUNTH_AGGREGATE(DurationBad, Simple, false),
    ZUNTH_AGGREGATE(PercentGood, Simple, false),
    ZUNTH_AGGREGATE(PercentBad, Simple, false),
    ZUNTH_AGGREGATE(WorstQuality, None, false),
    ZUNTH_AGGREGATE(WorstQuality2, Simple, false),
    ZUNTH_AGGREGATE(StandardDeviationSample, None, true),
    ZUNTH_AGGREGATE(StandardDeviationPopulation, None, true),
    ZUNTH_AGGREGATE(VarianceSample, None, true),
    ZUNTH_AGGREGATE(VariancePopulation, None, true),
};
#undef ZUNTH_AGGREGATE

}  // namespace

std::span<const Function> functions() { return kFunctions; }

const Function* functionOf(const NodeId& id) {
  const auto found = std::ranges::find_if(kFunctions, [&](const Function& f) { return id == NodeId(f.id); });
  return found == kFunctions.end() ? nullptr : &*found;
}

const Function* functionNamed(std::string_view name) {
  const auto found = std::ranges::find(kFunctions, name, &Function::name);
  return found == kFunctions.end() ? nullptr : &*found;
}

Result<Configuration> configurationOf(const AggregateConfiguration& asked, const Configuration& usual) {
  if (asked.useServerCapabilitiesDefaults) return usual;
  // Part 13, 4.2.1.2: what is neither enough for Good nor enough for Bad is Uncertain, so both can't be less than all.
  if (asked.percentDataBad > 100 || asked.percentDataGood > 100 || asked.percentDataGood + asked.percentDataBad < 100)
    return Error{status::BadAggregateConfigurationRejected,
                 "the percentages of good and bad data are 100 at most, and 100 at least together",
                 {}};
  return Configuration{asked.treatUncertainAsBad, asked.percentDataBad, asked.percentDataGood,
                       asked.useSlopedExtrapolation};
}

}  // namespace zunth::aggregate
