#pragma once

#include "core/model/alarm_care.hpp"
#include "core/space/conditions.hpp"

#include <array>
#include <optional>

namespace zunth::model {

inline constexpr std::uint16_t kUsualSeverity = 500;    // of an alarm that says nothing else
inline constexpr std::uint16_t kUsualRateMinutes = 10;  // of metrics that say nothing else
using space::kLimitLevels;
using space::LimitLevel;

/// What a line below `alarms:` says: "limit pressure high 30 highhigh 38 severity 400 700".
struct AlarmWords {
  enum class Kind {
    Limit,
    Deviation,
    Rate,
    Discrete,
    OffNormal,
    Trip,
    Instrument,
    System,
    Discrepancy,
    Condition,
    Dialog,
    Metrics
  };

  std::optional<Kind> kind;      // nothing where the line only changes an alarm of the type
  std::optional<Text> input;     // the variable's path from the object
  std::optional<Text> setpoint;  // of a deviation or a discrepancy
  std::optional<Text> value;     // which makes a discrete alarm active; the normal one of others
  std::array<std::optional<double>, kLimitLevels> limits;
  std::optional<double> deadband;
  std::optional<double> onDelay, offDelay;           // ms
  std::optional<std::uint16_t> severity, outermost;  // of the limits next to the middle, and of those beyond
  bool isNonExclusive = false;                       // several limits may be exceeded at once
  bool isConfirmed = false;                          // what was acknowledged is to be confirmed, too

  std::optional<double> tolerance, expected;  // of a discrepancy: how far off it may be, and for how long (ms)
  std::optional<std::uint16_t> rateMinutes;   // of metrics: over which alarms are counted
  AlarmCare care;

  /// Whether it watches a variable: all but metrics, which watch the alarms of their object.
  bool watches() const { return kind != Kind::Metrics; }
  bool hasLimits() const { return kind == Kind::Limit || kind == Kind::Deviation || kind == Kind::Rate; }
  /// Whether it compares its variable with what is normal.
  bool isOffNormal() const {
    return kind == Kind::OffNormal || kind == Kind::Trip || kind == Kind::Instrument || kind == Kind::System;
  }
  /// Whether it stands while its variable has a text, and says that.
  bool repeats() const { return kind == Kind::Condition; }
  /// Whether it comes at a value of its variable.
  bool comesAtValue() const { return kind == Kind::Discrete || kind == Kind::Dialog; }
  /// Whether it compares its variable with another.
  bool hasSetpoint() const { return kind == Kind::Deviation || kind == Kind::Discrepancy; }
  std::uint16_t severityOf(LimitLevel level) const;  // 0 when nothing is said
};

/// Nothing when it is no alarm, which is reported.
std::optional<AlarmWords> parseAlarm(const Text& text, Findings& findings);
std::string text(const AlarmWords& words);

/// The type of alarms that it stands for (Part 9, 5.8).
ua::StandardId alarmTypeOf(const AlarmWords& words);
/// What the words of an alarm in the address space would be; nothing for one that they can't say.
std::optional<AlarmWords> alarmWordsOf(const space::Space& space, space::NodeIndex alarm);

}  // namespace zunth::model
