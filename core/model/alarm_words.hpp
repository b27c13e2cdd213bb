#pragma once

#include "core/model/yaml_source.hpp"
#include "core/space/conditions.hpp"

#include <array>
#include <optional>

namespace zunth::model {

inline constexpr std::uint16_t kUsualSeverity = 500;  // of an alarm that says nothing else
using space::kLimitLevels;
using space::LimitLevel;

/// What a line below `alarms:` says: "limit pressure high 30 highhigh 38 severity 400 700".
struct AlarmWords {
  enum class Kind { Limit, Deviation, Rate, Discrete, OffNormal };

  std::optional<Kind> kind;      // nothing where the line only changes an alarm of the type
  std::optional<Text> input;     // the variable's path from the object
  std::optional<Text> setpoint;  // of a deviation
  std::optional<Text> value;     // a discrete alarm's, which makes it active; an off-normal alarm's normal one
  std::array<std::optional<double>, kLimitLevels> limits;
  std::optional<double> deadband;
  std::optional<double> onDelay, offDelay;           // ms
  std::optional<std::uint16_t> severity, outermost;  // of the limits next to the middle, and of those beyond
  bool isNonExclusive = false;                       // several limits may be exceeded at once
  bool isConfirmed = false;                          // what was acknowledged is to be confirmed, too

  bool hasLimits() const { return kind != Kind::Discrete && kind != Kind::OffNormal; }
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
