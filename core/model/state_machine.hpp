#pragma once

#include "core/model/draft.hpp"

/// State machines (Part 16): what states there are, what leads from one to another, and which method causes it.
namespace zunth::model {

/// Adds the states and transitions of a type below FiniteStateMachineType:
///   states: Idle | Spraying | Draining          # the first is where it begins
///   transitions:
///     Idle -> Spraying: start()                 # caused by that method, or nothing after the colon
/// The type's methods must be there already.
void addStates(Draft& draft, space::NodeIndex type, const Entry& entry);

/// Lets an instance of such a type begin in its first state, unless its state is known already.
void enterFirstState(space::Space& space, space::NodeIndex machine);

}  // namespace zunth::model
