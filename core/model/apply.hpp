#pragma once

#include "core/model/difference.hpp"

#include <functional>

namespace zunth::model {

/// What an apply did, for events and for people.
struct Applied {
  static constexpr std::size_t kMostLines = 1000;

  std::vector<ua::ModelChangeStructureDataType> changes;  // as a GeneralModelChangeEvent tells them
  std::vector<Change> lines;                              // the first kMostLines, each with before and after
  std::vector<space::NodeIndex> properties;               // whose values changed
  std::size_t added = 0, removed = 0, changed = 0;        // nodes
};

/// Makes the models of a running space those of another: adds, removes and changes nodes and references, and leaves the
/// rest alone, with its values and whoever watches it. A node stays the same whatever it says of itself; only one that
/// gets another class is removed and added anew under its id. Values of properties and types are taken over, those of
/// other variables are not: they are the plant's. Namespaces keep their indexes; new ones are added at the end, and ids
/// inside values and definitions follow. Children are in the model's order afterwards. The standard's namespace and the
/// application's own are not touched.
/// Values of variables that `isOwned` names are their owner's, whatever kind of variable they are.
using IsOwned = std::function<bool(space::NodeIndex)>;
Applied apply(space::Space& running, const space::Space& wanted, const IsOwned& isOwned = {});

/// The namespaces that have nodes now and would have none.
std::vector<ua::String> emptied(const space::Space& running, const space::Space& wanted);

}  // namespace zunth::model
