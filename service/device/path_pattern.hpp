#pragma once

#include "core/model/yaml_source.hpp"
#include "core/space/space.hpp"

#include <map>
#include <string>
#include <vector>

/// Paths in the files of a site, in which {NAME} stands for any one name: "Hatchery/{hall}/Tank {t}/oxygen".
namespace zunth::device {

using Captures = std::map<std::string, std::string>;  // what stands for each placeholder

struct Match {
  space::NodeIndex node;
  Captures captures;
};

/// The nodes below Objects that a path stands for, in the model's order; a finding when there is none. A placeholder as
/// the last name stands for nodes of the wanted class alone; without one, what is there is returned whatever it is.
std::vector<Match> matchesOf(const space::Space& space, const model::Text& path, ua::NodeClass wanted,
                             model::Findings& findings);

/// A text with what stands for its placeholders.
std::string filledIn(std::string text, const Captures& captures);

}  // namespace zunth::device
