#pragma once

#include "core/aggregate/function.hpp"
#include "core/space/space.hpp"

/// How history sees variables of an address space.
namespace zunth::history {

/// The name by which a node is known in a store: its id, with the URI of its namespace, as indexes change.
std::string storedName(const space::Space& space, const ua::NodeId& id);
/// The id, in the server's own namespace, of the property with the annotations of a variable, by its stored name. They
/// are stored under its own.
std::string annotationsOf(const std::string& storedName);
/// Whether a node is a variable whose values are to be kept: one that says so, and is no declaration of a type.
bool isHistorized(const space::Space& space, space::NodeIndex node);
/// Whether a variable's values hold until the next; measurements change along a straight line.
bool isStepped(const space::Space& space, space::NodeIndex variable);
/// How aggregates take the values of a variable when a client leaves that to the server: what its HA Configuration says
/// (Part 13, 4.2.1.2), or the standard's defaults.
aggregate::Configuration usualAggregation(const space::Space& space, space::NodeIndex variable);
/// Whether it has numbers that can be calculated with, one at a time; Boolean counts as 0 and 1.
bool hasNumbers(const space::Space& space, space::NodeIndex variable);
/// The time under which something is kept that says it is from `source`: where that is more than a day ahead of now, or
/// a year behind, it can't be, and now counts. Whoever is wrong about the time can't fill the archive's calendar.
ua::DateTime plausibleTime(ua::DateTime source, ua::DateTime now);
/// Whether a path of browse names is one of those that a pattern means: "*" stands for anything within a name, "**" for
/// any names.
bool matchesPath(std::string_view pattern, std::string_view path);

}  // namespace zunth::history
