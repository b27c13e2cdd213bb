#pragma once

#include "core/model/units.hpp"
#include "core/space/space.hpp"

#include <string>

namespace zunth::model {

/// The nodes of one namespace in the model language, so that reading them back gives the same nodes: types first, then
/// what is below Objects, instances by what differs from their types, then views; ids that don't follow from paths in a
/// table at the end. What the language can't say stands in comments, beginning "# left out:".
std::string writeModel(const space::Space& space, std::uint16_t ns, const Units& units = Units::standard());

}  // namespace zunth::model
