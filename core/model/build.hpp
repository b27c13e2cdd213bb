#pragma once

#include "core/model/yaml_source.hpp"
#include "core/space/space.hpp"

namespace zunth::model {

/// One model file: its name as findings show it, and its text.
struct ModelFile {
  std::string name;
  std::string text;
};

/// Adds the nodes that model files describe to a space that holds namespace 0. Finds every mistake it can; when there
/// are errors, the space is not to be used. The same files always give the same nodes in the same order.
void build(space::Space& space, const std::vector<ModelFile>& files, Findings& findings);

}  // namespace zunth::model
