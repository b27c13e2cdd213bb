#pragma once

#include "core/alarm/judgement.hpp"

#include <vector>

namespace zunth::alarm {

/// A part of a condition's state that is one of two (Part 9, 5.2), and since when.
struct TwoState {
  bool is = false;
  ua::DateTime since;
  /// True when it is another now.
  bool set(bool now, ua::DateTime at) {
    if (is == now) return false;
    is = now;
    since = at;
    return true;
  }
};

/// Put aside by an operator (Part 9, 5.8.17).
enum class Shelved : std::uint8_t { No, Timed, OneShot };

/// Why an alarm is suppressed, a bit each.
enum Suppression : std::uint8_t { kByOperator = 1, kByDesign = 2, kByGroup = 4 };

/// How a condition stands (Part 9, 5.5 to 5.8), apart from the nodes that show it: that of the condition itself (the
/// trunk), or of a branch, which is an earlier occurrence that somebody has still to acknowledge or confirm.
struct ConditionState {
  ua::NodeId branchId;  // null for the trunk
  TwoState enabled{true, {}}, active, acknowledged{true, {}}, confirmed{true, {}};
  TwoState suppressed, outOfService, silenced, latched;
  TwoState asked;                                              // a dialog that waits for its answer (Part 9, 5.6)
  std::int32_t lastResponse = -1;                              // the answer to the last one; -1 before there was any
  Exceeded exceeded = 0;                                       // what counts of the limits
  std::array<ua::DateTime, space::kLimitLevels> levelSince{};  // when each came or went
  std::optional<space::LimitLevel> levelBefore;                // of exclusive ones, what it was before

  std::uint16_t severity = 0, lastSeverity = 0;
  ua::DateTime severitySince;
  ua::StatusCode quality;
  ua::DateTime qualitySince;
  ua::LocalizedText comment;
  ua::String commentator;  // ClientUserId
  ua::DateTime commentSince;

  Shelved shelved = Shelved::No, shelvedBefore = Shelved::No;
  ua::DateTime shelvedSince, shelvedUntil;  // the end, null for none
  std::uint8_t suppressions = 0;            // of Suppression
  std::int16_t reAlarms = 0;
  bool isFirstInGroup = false;

  // What was said last.
  ua::LocalizedText message;
  std::string reason;  // why it came, became another, or went
  ua::DateTime time, receiveTime;
  bool retain = false;
  /// Those that can be acknowledged, the last one at the end: since it last came.
  std::vector<ua::ByteString> eventIds;

  bool isSuppressedOrShelved() const { return suppressed.is || outOfService.is || shelved != Shelved::No; }
  /// Whether it is of interest: active, latched, or somebody has still to answer, acknowledge or confirm it (Part 9,
  /// 5.5.2).
  bool isOfInterest() const {
    return enabled.is && (active.is || asked.is || latched.is || !acknowledged.is || !confirmed.is);
  }
};

}  // namespace zunth::alarm
