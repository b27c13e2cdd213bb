#pragma once

#include "core/alarm/alarm.hpp"

#include <array>
#include <unordered_map>

namespace zunth::alarm {

/// Counts what the alarms of an area do (AlarmMetricsType; Part 9, 5.9): all below the object that the metrics are a
/// part of. The nodes are computed when they are read.
class Metrics {
 public:
  explicit Metrics(std::function<ua::DateTime()> wallClock) : wallClock_(std::move(wallClock)) {}

  /// Finds the metrics that there are now, and whose alarms each counts. Those that were there before go on.
  void bind(space::Space& space, const std::vector<const Alarm*>& alarms);
  /// An alarm stands differently than before.
  void look(const Alarm& alarm);
  void remove(space::NodeIndex node);
  bool knows(space::NodeIndex metrics) const { return areas_.contains(metrics); }
  /// Begins anew; what is active now counts from when it came.
  void reset(space::NodeIndex metrics);
  /// Nobody computes them any more.
  void detach(space::Space& space);

  /// Of a rate, into so many parts of its time it is counted.
  static constexpr std::size_t kParts = 60;

 private:
  /// How an alarm stood when it was looked at last.
  struct Member {
    std::vector<space::NodeIndex> areas;
    bool isActive = false, isAcknowledged = true;
    ua::DateTime activeSince, unacknowledgedSince;
    std::int16_t reAlarms = 0;
  };
  struct Area {
    ua::NodeId id;
    std::vector<space::NodeIndex> members;
    std::uint32_t count = 0, mostReAlarms = 0;
    ua::DateTime since;
    std::int64_t longestActive = 0, longestUnacknowledged = 0;  // ticks, of those that are over
    std::uint16_t minutes = 1;                                  // that rates are counted over
    std::array<std::uint32_t, kParts> parts{};                  // alarms in each part of that time
    std::int64_t part = 0;                                      // the newest, since 1601
    double highest = 0;
  };
  std::int64_t partOf(const Area& area, ua::DateTime time) const;
  void turn(Area& area, ua::DateTime now);
  double rate(Area& area, ua::DateTime now);
  void came(Area& area, ua::DateTime now);
  void begin(Area& area, ua::DateTime now);
  void serve(space::Space& space, space::NodeIndex node);
  /// ms: of those that are over, and of those that go on.
  double longest(const Area& area, std::int64_t over, bool Member::*isOn, bool on, ua::DateTime Member::*since,
                 ua::DateTime now) const;

  const std::function<ua::DateTime()> wallClock_;
  std::unordered_map<space::NodeIndex, Area> areas_;      // by the metrics' node
  std::unordered_map<space::NodeIndex, Member> members_;  // by the alarms'
};

}  // namespace zunth::alarm
