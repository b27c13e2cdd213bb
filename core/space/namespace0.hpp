#pragma once

#include "core/space/space.hpp"

namespace zunth::space {

/// Fills an empty space with the nodes of namespace 0 that the standard's tables confirm: types, the Server object,
/// methods' arguments, enumerations' texts, data type definitions. Server values stay null until a server sets them.
void loadNamespace0(Space& space);

}  // namespace zunth::space
