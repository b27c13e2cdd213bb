#pragma once

#include "core/model/yaml_source.hpp"
#include "core/space/space.hpp"

#include <map>
#include <string>
#include <unordered_map>
#include <vector>

/// Paths in the files of a site, in which {NAME} stands for any one name: "Hatchery/{hall}/Tank {t}/oxygen".
namespace zunth::device {

using Captures = std::map<std::string, std::string>;  // what stands for each placeholder

struct Match {
  space::NodeIndex node;
  Captures captures;
};

/// Finds what paths stand for. Many paths lead through the same places: what is there is looked at once, so the space
/// stays as it is meanwhile.
class PathFinder {
 public:
  explicit PathFinder(const space::Space& space) : space_(space) {}

  /// The nodes below Objects that a path stands for, in the model's order; a finding when there is none. A placeholder
  /// as the last name stands for nodes of the wanted class alone; without one, what is there is returned whatever it
  /// is.
  std::vector<Match> matchesOf(const model::Text& path, ua::NodeClass wanted, model::Findings& findings);

 private:
  struct Children {
    std::vector<space::NodeIndex> inOrder;
    std::vector<std::pair<std::string_view, space::NodeIndex>> byName;  // once there is use for it
    int looks = 0;
  };
  Children& childrenOf(space::NodeIndex node);
  std::vector<Match> follow(const std::vector<std::string>& segments, std::size_t& stuckAt,
                            std::vector<std::string>& there);

  const space::Space& space_;
  std::unordered_map<space::NodeIndex, Children> seen_;
};

/// The same for one path.
std::vector<Match> matchesOf(const space::Space& space, const model::Text& path, ua::NodeClass wanted,
                             model::Findings& findings);

/// A text with what stands for its placeholders.
std::string filledIn(std::string text, const Captures& captures);

}  // namespace zunth::device
