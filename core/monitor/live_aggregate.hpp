#pragma once

#include "core/aggregate/intervals.hpp"

namespace zunth::monitor {

/// What a client wants calculated of a watched variable, interval by interval (Part 4, 7.22.4); already revised.
struct AggregateSettings {
  const aggregate::Function* function = nullptr;
  aggregate::Manner manner;
  ua::DateTime start;      // of an interval; the others follow
  std::int64_t width = 0;  // ticks
};

/// Takes values as they come, and gives what each interval came to when it is over. The clock is the server's: a value
/// whose own time is not between the one before it and now counts for when it came.
class LiveAggregate {
 public:
  /// From the interval on in which it is now.
  LiveAggregate(const AggregateSettings& settings, ua::DateTime now);
  void feed(const ua::DataValue& value, ua::DateTime now) {
    close(now);
    take(value, now);
  }
  /// What is over by now is calculated.
  void close(ua::DateTime now);
  /// When that is next to be done.
  ua::DateTime closesAt() const { return end_; }
  /// What has been calculated since the last time.
  std::vector<ua::DataValue> results() { return std::exchange(results_, {}); }

  /// Intervals that are made up for at most, when nobody came to close them.
  static constexpr std::int64_t kMostAtOnce = 100;

 private:
  void take(const ua::DataValue& value, ua::DateTime now);

  const AggregateSettings settings_;
  std::vector<ua::DataValue> results_;
  aggregate::Intervals intervals_;
  ua::DateTime end_;   // of the interval that is open
  ua::DateTime last_;  // time of the last value
};

}  // namespace zunth::monitor
