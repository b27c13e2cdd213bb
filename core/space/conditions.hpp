#pragma once

#include "core/space/space.hpp"

/// Conditions as nodes (Part 9, 5.5): what in them is set up by a model, and what changes while they run.
namespace zunth::space {

/// The limits of an alarm (Part 9, 5.8.18), the outermost above first.
enum class LimitLevel { HighHigh, High, Low, LowLow };
inline constexpr std::size_t kLimitLevels = 4;
/// "HighHigh": as properties begin ("HighHighLimit") or end ("SeverityHighHigh").
std::string_view nameOf(LimitLevel level);

/// Properties of alarms that no type of the standard has, in a namespace of the model's own: the value that makes a
/// discrete alarm active, the one that is normal, what is said when it comes, the variable that suppresses it while it
/// is true (and its path as the model has it), the groups that it belongs to, the one that suppresses it, how many
/// unacknowledged occurrences are kept as branches, the variable whose value makes a dialog ask, and the one whose text
/// a condition says.
inline constexpr std::string_view kActiveValue = "ActiveValue", kNormalValue = "NormalValue",
                                  kActiveMessage = "ActiveMessage", kSuppressedWhile = "SuppressedWhile",
                                  kSuppressedWhilePath = "SuppressedWhilePath", kGroups = "Groups",
                                  kSuppressedBy = "SuppressedBy", kMostBranches = "MostBranches", kAskedBy = "AskedBy",
                                  kSaidBy = "SaidBy";

/// A condition that is no alarm: it stands while somebody says so, and is acknowledged (Part 9, 5.7).
bool isPlainCondition(const Space& space, NodeIndex type);
/// An object whose type is ConditionType or below it.
bool isCondition(const Space& space, NodeIndex node);
/// An object that counts the alarms of the one above it (AlarmMetricsType; Part 9, 5.9).
bool isMetrics(const Space& space, NodeIndex node);
/// Whether it stands in a type, as what its instances will have.
bool isInType(const Space& space, NodeIndex node);
/// Whether a variable is part of a condition, or of their metrics, and tells how it stands: its value is no part of a
/// model.
bool isConditionState(const Space& space, NodeIndex variable);
/// A node's property of this name in a namespace that is not the standard's; kNoNode when there is none.
NodeIndex ownProperty(const Space& space, NodeIndex node, std::string_view name);

/// What an alarm needs besides itself so that clients hear of it: its variable knows it (HasCondition), the object
/// above is told of the variable's events (HasEventSource), and whatever is above that of the object's (HasNotifier),
/// up to the Server. Part 9, 6.3.
struct AlarmLinks {
  struct Link {
    NodeIndex source;
    NodeIndex type;
    NodeIndex target;
    auto operator<=>(const Link&) const = default;
  };
  std::vector<Link> links;
  std::vector<NodeIndex> notifiers;  // objects that clients can hear events of
};
/// Nothing for a node that is no alarm (nor another condition) of an object with a variable that it watches.
AlarmLinks alarmLinks(const Space& space, NodeIndex alarm);

}  // namespace zunth::space
