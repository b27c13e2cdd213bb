#pragma once

#include "core/ua/generated/structures.hpp"

#include <chrono>
#include <optional>
#include <string>
#include <vector>

/// Conditions as a client hears of them (Part 9).
namespace zunth::client {

/// How a condition, or an earlier occurrence of it that waits for somebody, stands.
struct Condition {
  ua::NodeId id, branch;
  ua::ByteString eventId;
  std::string path;  // from Objects; filled in by who needs it
  ua::DateTime time;
  std::uint32_t severity = 0;
  std::string message, comment, conditionClass;
  bool isEnabled = true, isActive = false, isAcknowledged = true, isConfirmed = true, isRetained = false;
  bool isSuppressed = false, isOutOfService = false, isLatched = false, isSilenced = false;
  std::string shelving;     // "TimedShelved"; empty where it can't be shelved
  double unshelveTime = 0;  // ms, when this was heard
  std::chrono::steady_clock::time_point heardAt = std::chrono::steady_clock::now();
  std::int32_t reAlarms = 0;
  bool isAlarm = false;                    // or a condition that says something and is acknowledged
  bool isDialog = false, isAsked = false;  // it asks, and waits for an answer
  std::vector<std::string> options{};      // the answers that a dialog takes

  bool isShelved() const { return !shelving.empty() && shelving != "Unshelved"; }
  bool isPutAside() const { return isShelved() || isSuppressed || isOutOfService; }
  /// "active, to acknowledge, shelved for 12 min"
  std::string state() const;
};

/// Names of states that a list can be asked for, and whether a condition is in them; nothing for no such name.
std::optional<bool> isIn(const Condition& condition, const std::string& state);
const std::vector<std::string>& conditionStates();

/// What to ask for of the events of conditions, without a where clause: the marks of a refresh come through.
ua::EventFilter conditionFilter();
/// What an event with these fields says of a condition; nothing when it is of none.
std::optional<Condition> conditionOf(const ua::List<ua::Variant>& fields);
/// What an event with these fields says of a refresh (Part 9, 5.11).
enum class RefreshMark : std::uint8_t { None, Start, End, Required };
RefreshMark refreshMark(const ua::List<ua::Variant>& fields);

}  // namespace zunth::client
