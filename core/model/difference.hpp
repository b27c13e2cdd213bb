#pragma once

#include "core/space/space.hpp"

#include <functional>
#include <string>
#include <vector>

/// What differs between two models, as one would review it.
namespace zunth::model {

struct Change {
  enum class Kind { Added, Removed, Changed, Renamed };
  /// What it means to clients that use the node: they go on as before, they may see it, or what they do may fail.
  enum class Effect { None, Seen, Breaks };
  Kind kind;
  Effect effect;
  std::string path;           // from Objects, or the NodeId of what isn't below it
  std::string what;           // the attribute or reference that changed; the node class of what is added or removed
  std::string before, after;  // as people read them; empty where there was or is nothing
};

/// "object", "data type": how people call the nodes of a class.
const char* wordFor(ua::NodeClass nodeClass);

/// The path of a node, or its id without the namespace's index, which differs from one space to another.
std::string pathOf(const space::Space& space, space::NodeIndex node);

struct CompareOptions {
  bool initialValues = true;  // of variables other than properties; those of a running server are the plant's
  bool permissions = true;    // which not every server tells to everyone
  bool order = true;          // of children
  /// Nodes of the earlier space whose values are not the model's, but somebody else's.
  std::function<bool(space::NodeIndex)> isOwned;
};

/// Compares the nodes of all namespaces but the standard's and the application's own, matched by their ids; namespaces
/// by URI, so that their order does not matter. In the order of paths; what is below an added or removed node is told
/// node by node.
std::vector<Change> compare(const space::Space& before, const space::Space& after, const CompareOptions& options = {});

}  // namespace zunth::model
