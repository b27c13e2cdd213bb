#pragma once

#include "core/aggregate/intervals.hpp"

#include "tests/core/aggregates_by_the_text.hpp"
#include <catch2/catch.hpp>

namespace zunth::aggregate_test {

inline constexpr std::int64_t kNoon = 130'000'000'000'000'000;

inline DateTime at(double seconds) { return {kNoon + static_cast<std::int64_t>(seconds * kSecond)}; }

inline DataValue sample(double seconds, double value, StatusCode status = status::Good) {
  return DataValue(status.isBad() ? Variant() : Variant(value), at(seconds), status);
}

/// What an aggregate makes of samples, interval by interval in the direction of time.
inline Samples judged(const Samples& all, std::string_view name, const Grid& grid, const Manner& manner,
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

/// The samples that Part 13, A.1 begins with.
inline const Samples kSteady{sample(10, 10),
                             sample(20, 20),
                             sample(30, 30),
                             sample(40, 40, status::Bad),
                             sample(50, 50),
                             sample(60, 60),
                             sample(70, 70, status::Uncertain),
                             sample(80, 80),
                             sample(90, 90)};
inline const Manner kSteadyManner{{false, 100, 100, false}, false};

}  // namespace zunth::aggregate_test
