#pragma once

#include "core/space/space.hpp"

namespace zunth::model {

/// What an apply did, for events and for people.
struct Applied {
  std::vector<ua::ModelChangeStructureDataType> changes;  // as a GeneralModelChangeEvent tells them
  std::size_t added = 0, removed = 0, changed = 0;        // nodes
};

/// Makes the models of a running space those of another: adds, removes and changes nodes and references, and leaves the
/// rest alone, with its values and whoever watches it. A node that becomes something else (another class, name or type)
/// is removed and added anew under its id. Values of properties are taken over, those of other variables are not: they
/// are the plant's. Namespaces keep their indexes; new ones are added at the end. The standard's namespace and the
/// application's own are not touched.
Applied apply(space::Space& running, const space::Space& wanted);

}  // namespace zunth::model
