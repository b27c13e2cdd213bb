#pragma once

#include "core/space/space.hpp"

#include <functional>
#include <map>
#include <string>
#include <vector>

/// Models as drawings (SVG): cards for objects and types, what is below to the right of it.
namespace zunth::model {

struct DiagramOptions {
  std::size_t mostCards = 200;  // in one drawing; what is more is drawn by subtree
  /// How many nodes are looked at; a drawing that takes more has no SVG.
  std::size_t mostNodes = SIZE_MAX;
  /// Whether a node may be shown; all may, without this.
  std::function<bool(space::NodeIndex)> shows = {};
};

/// A drawing of what is below a node. Subtrees that would make it too large are left as one card, which says how much
/// is below it and links to their own drawing: `linkOf` gives its name, and they are told in `apart`.
struct Drawing {
  std::string svg;
  std::size_t cards = 0;
  std::vector<space::NodeIndex> apart;
};
Drawing drawInstances(const space::Space& space, space::NodeIndex root, const DiagramOptions& options = {});
/// The types of the models' own namespaces with their members, each to the right of what it extends.
Drawing drawTypes(const space::Space& space, const DiagramOptions& options = {});
/// A type, of whichever namespace, with its members and all that extends it.
Drawing drawType(const space::Space& space, space::NodeIndex type, const DiagramOptions& options = {});

/// The name of a subtree's own drawing: "plant.svg" and Hatchery/Hall1 give "plant-Hatchery-Hall1.svg".
std::string drawingName(const std::string& base, const std::string& path);

/// All drawings of a model by file name: the instances' first, with those of the subtrees that it leaves out, and
/// "...-types.svg". Of a type there is one drawing.
std::map<std::string, std::string> drawAll(const space::Space& space, space::NodeIndex root, const std::string& base,
                                           const DiagramOptions& options = {});

}  // namespace zunth::model
