#pragma once

#include "core/model/access_rules.hpp"
#include "core/model/units.hpp"
#include "core/model/yaml_source.hpp"
#include "core/space/space.hpp"

namespace zunth::model {

/// One model file: its name as findings show it, and its text.
struct ModelFile {
  std::string name;
  std::string text;
};

/// What a site adds to the language.
struct SiteWords {
  SiteRoles roles;  // that `access:` may name beside the standard's
  Units units;
};

/// Adds the nodes that model files describe to a space that holds namespace 0. Finds every mistake it can; when there
/// are errors, the space is not to be used. The same files always give the same nodes in the same order.
void build(space::Space& space, const std::vector<ModelFile>& files, Findings& findings, const SiteWords& site = {});
/// The same from entries, whatever they were read from. Where each node was written, by its index; nullptr for what no
/// file describes. The places are those of the entries.
std::vector<const Place*> buildEntries(space::Space& space, const std::vector<Entry>& roots, Findings& findings,
                                       const SiteWords& site = {});

}  // namespace zunth::model
