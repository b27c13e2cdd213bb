#pragma once

#include "core/space/space.hpp"
#include "service/console/web.hpp"

/// Nodes as the console's pages and scripts see them, each as far as the user may.
namespace zunth::console {

/// The node of a path from Objects, a NodeId, or a NodeId with its namespace's URI; kNoNode when there is none, or none
/// that the user sees.
space::NodeIndex nodeNamed(const space::Space& space, const space::Rights& rights, const std::string& text);
/// The variables that a pattern names: a path from Objects with * for any name and ** for any depth, or an id. At most
/// so many; fields of alarms only by name.
std::vector<space::NodeIndex> variablesNamed(const space::Space& space, const space::Rights& rights,
                                             const std::string& pattern, std::size_t most);
/// When a walk through values is to let others have their turn: each counts by its elements, and by its length.
class Turns {
 public:
  void count(const ua::Variant& value) {
    counted_ += 1 + value.length();
    if (const auto* text = value.get<ua::String>()) counted_ += text->size() / kOctets;
    if (const auto* octets = value.get<ua::ByteString>()) counted_ += octets->size() / kOctets;
  }
  bool isOver() {
    if (counted_ - last_ < kAtOnce) return false;
    last_ = counted_;
    return true;
  }
  std::size_t counted() const { return counted_; }

 private:
  static constexpr std::size_t kAtOnce = 1'000, kOctets = 16;
  std::size_t counted_ = 0, last_ = 0;
};

/// A variable's value as it is known now: {"node", "id", "value", "text", "unit", "status", "time"}.
Json valueOf(const space::Space& space, const space::Rights& rights, space::NodeIndex variable);
/// "there is no node …", with the name that is nearest.
ua::Error noNode(const space::Space& space, const std::string& text);

/// What a list shows of a node: id, name, path, class, type, what may be done with it.
Json briefOf(const space::Space& space, const space::Rights& rights, space::NodeIndex node);
/// The nodes below, `most` at a time: {"nodes": […], "next": position or null}.
Json childrenOf(const space::Space& space, const space::Rights& rights, space::NodeIndex node, std::size_t from,
                std::size_t most);
/// The same of what leads to the node from the root, the outermost first.
Json ancestorsOf(const space::Space& space, const space::Rights& rights, space::NodeIndex node);
/// Everything: attributes, references both ways, what its value is made of, its methods' arguments, its names for
/// clients.
Json pageOf(const space::Space& space, const space::Rights& rights, space::NodeIndex node);

/// Finds nodes whose path or id has all the words, or that are of a type of this name; some at a time. Better fits come
/// first.
class Search {
 public:
  Search(const space::Space& space, const space::Rights& rights, std::string_view words, std::size_t most);
  /// Looks at some more rows; false when all have been looked at.
  bool step(std::size_t rows);
  Json take() const;

 private:
  struct Found {
    int rank;  // 0 for the best
    space::NodeIndex node;
  };
  const space::Space& space_;
  const space::Rights rights_;  // as they were when it began
  std::vector<std::string> words_;
  std::size_t most_;
  space::NodeIndex at_ = 0;
  std::vector<Found> found_;
};

}  // namespace zunth::console
