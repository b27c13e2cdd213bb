#include <cmath>
#include <optional>
#include <random>

#include "tests/core/aggregate_series.hpp"
#include <catch2/catch.hpp>

namespace zunth::aggregate_test {

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
  for (int round = 0; round < 150; ++round) {
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
