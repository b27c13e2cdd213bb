#pragma once

#include "core/model/yaml_source.hpp"
#include "core/space/space.hpp"

#include <map>

namespace zunth::model {

/// One model file: its name as findings show it, and its text.
struct ModelFile {
  std::string name;
  std::string text;
};

/// Adds the nodes that model files describe to a space that holds namespace 0. Finds every mistake it can; when there
/// are errors, the space is not to be used. The same files always give the same nodes in the same order. `siteRoles`
/// are those that `access:` may name beside the standard's.
void build(space::Space& space, const std::vector<ModelFile>& files, Findings& findings,
           const std::map<std::string, ua::NodeId>& siteRoles = {});

}  // namespace zunth::model
