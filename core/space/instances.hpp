#pragma once

#include "core/space/space.hpp"

#include <functional>

/// Instances of types (Part 3, 6.4): an instance has what its type and the types above declare as mandatory.
namespace zunth::space {

/// Adds a copy of an instance declaration below `parent`, once its id, names and attributes are set as wished.
/// kNoNode when it can't be added: its own children are then left out.
using AddCopy = std::function<NodeIndex(NodeIndex parent, NewNode copy)>;

/// What instances of a type have, worked out once for each: for making many while the types stay as they are.
class Declarations {
 public:
  explicit Declarations(const Space& space) : space_(space) {}
  /// The mandatory declarations of a type (or of a declaration, for what stands below it) and of the types above, whose
  /// come first, so that instances list the common children before the special ones. One that a type overrides stands
  /// for those above of the same browse name.
  const std::vector<NodeIndex>& mandatoryOf(NodeIndex type);

 private:
  const Space& space_;
  std::unordered_map<NodeIndex, std::vector<NodeIndex>> known_;
};

/// Gives an instance the mandatory children of `type` and of the types above that it doesn't have yet, and these
/// theirs. Children that the instance itself got before stand for those of the same browse name.
void instantiate(Space& space, NodeIndex instance, NodeIndex type, const AddCopy& add);
void instantiate(Space& space, NodeIndex instance, NodeIndex type, const AddCopy& add, Declarations& declarations);

/// Copies one declaration with its mandatory children below `parent`, by the reference that it has in its type.
void copyDeclaration(Space& space, NodeIndex parent, NodeIndex declaration, const AddCopy& add);

}  // namespace zunth::space
