#include "core/space/instances.hpp"

#include <algorithm>

namespace zunth::space {

using namespace ua;

namespace {

bool isMandatory(const Space& space, NodeIndex declaration) {
  const Reference rule(space.at(id::HasModellingRule), true, space.at(id::ModellingRule_Mandatory));
  return std::ranges::count(space.references(declaration), rule) > 0;
}

// A copy, as adding nodes moves the references of others.
std::vector<Reference> referencesOf(const Space& space, NodeIndex node) {
  const auto references = space.references(node);
  return {references.begin(), references.end()};
}

/// The declaration of this name in the most derived type that has one: it overrides those above.
NodeIndex declarationOf(const Space& space, NodeIndex type, const QualifiedName& name) {
  for (; type != kNoNode; type = space.supertype(type))
    if (const NodeIndex found = space.child(type, name); found != kNoNode) return found;
  return kNoNode;
}

/// Carries one instantiation through. A type that contains itself, which a careless client can make, is not followed
/// into itself.
class Instantiation {
 public:
  Instantiation(Space& space, const AddCopy& add) : space_(space), add_(add) {}

  void fill(NodeIndex instance, NodeIndex type) {
    if (std::ranges::find(underway_, type) != underway_.end()) return;
    underway_.push_back(type);
    addChildren(instance, type, type);
    underway_.pop_back();
  }

  void copy(NodeIndex parent, NodeIndex declaration) {
    NewNode node;
    node.nodeClass = space_.nodeClass(declaration);
    node.browseName = space_.browseName(declaration);
    node.displayName = space_.displayName(declaration);
    node.eventNotifier = space_.eventNotifier(declaration);
    if (const auto* rare = space_.rare(declaration)) {
      node.description = rare->description;
      node.arrayDimensions = rare->arrayDimensions;
    }
    const bool isVariable = node.nodeClass == NodeClass::Variable;
    if (isVariable) node.traits = space_.traits(declaration);
    const NodeIndex added = add_(parent, std::move(node));
    if (added == kNoNode) return;
    if (isVariable) space_.setValue(added, space_.value(declaration));
    for (const auto& reference : referencesOf(space_, declaration))
      if (!reference.isForward() && space_.isSubtype(reference.type(), id::HierarchicalReferences)) {
        space_.refer(parent, reference.type(), added);
        break;
      }
    const NodeIndex type = space_.typeDefinition(declaration);
    if (type != kNoNode) space_.refer(added, id::HasTypeDefinition, type);
    // What the declaration says itself stands before what it leaves to its type.
    fill(added, declaration);
    if (type != kNoNode) fill(added, type);
  }

 private:
  /// The types above come first, so that instances list the common children before the special ones.
  void addChildren(NodeIndex instance, NodeIndex type, NodeIndex mostDerived) {
    if (const NodeIndex above = space_.supertype(type); above != kNoNode) addChildren(instance, above, mostDerived);
    for (const auto& reference : referencesOf(space_, type)) {
      if (!reference.isForward() || !space_.isSubtype(reference.type(), id::HierarchicalReferences)) continue;
      const QualifiedName name = space_.browseName(reference.target());
      const NodeIndex declaration = declarationOf(space_, mostDerived, name);
      if (isMandatory(space_, declaration) && space_.child(instance, name) == kNoNode) copy(instance, declaration);
    }
  }

  Space& space_;
  const AddCopy& add_;
  std::vector<NodeIndex> underway_;
};

}  // namespace

void instantiate(Space& space, NodeIndex instance, NodeIndex type, const AddCopy& add) {
  Instantiation(space, add).fill(instance, type);
}

void copyDeclaration(Space& space, NodeIndex parent, NodeIndex declaration, const AddCopy& add) {
  Instantiation(space, add).copy(parent, declaration);
}

}  // namespace zunth::space
