#pragma once

#include "core/space/space.hpp"
#include "core/space/type_catalog.hpp"
#include "core/ua/renumbering.hpp"

namespace zunth::model {

/// Whether a node is a model's, and neither the standard's nor the application's own.
inline bool isOfModel(const space::Space& space, space::NodeIndex node) {
  return space.exists(node) && space.nodeId(node).namespaceIndex() >= 2;
}

/// Which nodes of one space are which of another: by their ids, namespaces by URI, so that their order does not matter.
class Twins {
 public:
  /// Both spaces must outlive this. A namespace that `to` doesn't have gets an index that is none there.
  Twins(const space::Space& from, const space::Space& to);
  Twins(const Twins&) = delete;
  Twins& operator=(const Twins&) = delete;

  /// The node of `to`; kNoNode when there is none.
  space::NodeIndex operator()(space::NodeIndex node) const { return node == space::kNoNode ? node : twins_[node]; }
  void set(space::NodeIndex node, space::NodeIndex twin) { twins_[node] = twin; }
  /// Carries ids and values of `from` to the namespaces of `to`.
  const ua::Renumbering& renumbered() const { return renumbered_; }
  space::PermissionSet renumbered(space::PermissionSet permissions) const;
  bool haveSamePermissions(space::NodeIndex node, space::NodeIndex twin) const;

 private:
  const space::Space& from_;
  const space::Space& to_;
  ua::TypeCatalog types_;  // of `from`, as its values are
  ua::Renumbering renumbered_;
  std::vector<space::NodeIndex> twins_;  // by node of `from`
  mutable std::map<std::pair<space::PermissionSetIndex, space::PermissionSetIndex>, bool> samePermissions_;
};

}  // namespace zunth::model
