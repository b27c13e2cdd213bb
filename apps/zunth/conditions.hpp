#pragma once

#include "apps/zunth/nodes.hpp"

#include <deque>
#include <unordered_map>

/// Conditions as the command line hears of them (Part 9).
namespace zunth::cli {

/// How a condition, or an earlier occurrence of it that waits for somebody, stands.
struct Condition {
  ua::NodeId id, branch;
  ua::ByteString eventId;
  std::string path;  // from Objects
  ua::DateTime time;
  std::uint32_t severity = 0;
  std::string message, comment, conditionClass;
  bool isEnabled = true, isActive = false, isAcknowledged = true, isConfirmed = true, isRetained = false;
  bool isSuppressed = false, isOutOfService = false, isLatched = false, isSilenced = false;
  std::string shelving;     // "TimedShelved"; empty where it can't be shelved
  double unshelveTime = 0;  // ms, when this was heard
  std::chrono::steady_clock::time_point heardAt = std::chrono::steady_clock::now();
  std::int32_t reAlarms = 0;

  bool isShelved() const { return !shelving.empty() && shelving != "Unshelved"; }
  bool isPutAside() const { return isShelved() || isSuppressed || isOutOfService; }
  /// "active, to acknowledge, shelved for 12 min"
  std::string state() const;
};

/// Names of states that a list can be asked for, and whether a condition is in them; nothing for no such name.
std::optional<bool> isIn(const Condition& condition, const std::string& state);
const std::vector<std::string>& conditionStates();

/// Hears of a server's conditions: first of those that stand, then of what happens.
class ConditionFeed {
 public:
  static Awaitable<ua::Result<std::unique_ptr<ConditionFeed>>> open(SessionPtr session, Interrupt& interrupt,
                                                                    int& code);
  /// Those that are of interest (Retain), once the server has told them all; within the patience that was given.
  Awaitable<ua::Result<std::vector<Condition>>> standing(ua::Duration patience);
  /// What has come since; empty when nothing has.
  Awaitable<std::vector<Condition>> news();
  Awaitable<void> close();

 private:
  explicit ConditionFeed(SessionPtr session, Interrupt& interrupt)
      : session_(std::move(session)), interrupt_(interrupt) {}
  Awaitable<std::optional<Condition>> next();
  Awaitable<std::string> pathOf(ua::NodeId node);

  SessionPtr session_;
  Interrupt& interrupt_;
  std::shared_ptr<client::Subscription> subscription_;
  std::shared_ptr<std::deque<ua::List<ua::Variant>>> waiting_ = std::make_shared<std::deque<ua::List<ua::Variant>>>();
  std::unordered_map<ua::NodeId, std::string> paths_;
  bool isListed_ = false;
};

}  // namespace zunth::cli
