#include "core/space/instances.hpp"

#include <algorithm>

namespace zunth::space {

using namespace ua;

namespace {

bool isMandatory(const Space& space, NodeIndex declaration) {
  const Reference rule(space.at(id::HasModellingRule), true, space.at(id::ModellingRule_Mandatory));
  return std::ranges::count(space.references(declaration), rule) > 0;
}

/// Carries one instantiation through. A type that contains itself, which a careless client can make, is not followed
/// into itself.
class Instantiation {
 public:
  Instantiation(Space& space, const AddCopy& add, Declarations& declarations)
      : space_(space), add_(add), declarations_(declarations) {}

  void fill(NodeIndex instance, NodeIndex type) {
    if (std::ranges::find(underway_, type) != underway_.end()) return;
    underway_.push_back(type);
    for (const NodeIndex declaration : declarations_.mandatoryOf(type))
      if (space_.child(instance, space_.browseName(declaration)) == kNoNode) copy(instance, declaration);
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
    if (const auto* rare = space_.rare(declaration)) {
      const auto displayNames = rare->displayNames, descriptions = rare->descriptions;
      space_.setDisplayNames(added, displayNames);
      space_.setDescriptions(added, descriptions);
    }
    if (const NodeIndex reference = parentReference(declaration); reference != kNoNode)
      space_.refer(parent, reference, added);
    const NodeIndex type = space_.typeDefinition(declaration);
    if (type != kNoNode) space_.refer(added, id::HasTypeDefinition, type);
    // What the declaration says itself stands before what it leaves to its type.
    fill(added, declaration);
    if (type != kNoNode) fill(added, type);
  }

 private:
  /// The type of reference by which a declaration hangs on its type.
  NodeIndex parentReference(NodeIndex declaration) const {
    for (const auto& reference : space_.references(declaration))
      if (!reference.isForward() && space_.isSubtype(reference.type(), id::HierarchicalReferences))
        return reference.type();
    return kNoNode;
  }
  Space& space_;
  const AddCopy& add_;
  Declarations& declarations_;
  std::vector<NodeIndex> underway_;
};

}  // namespace

const std::vector<NodeIndex>& Declarations::mandatoryOf(NodeIndex type) {
  if (const auto known = known_.find(type); known != known_.end()) return known->second;
  // The types from the top down, with all that each declares; the last of a name counts.
  std::vector<NodeIndex> chain;
  for (NodeIndex at = type; at != kNoNode && chain.size() < 100; at = space_.supertype(at)) chain.push_back(at);
  std::vector<NodeIndex> declared;
  std::ranges::reverse(chain);
  for (const NodeIndex at : chain)
    for (const auto& reference : space_.references(at)) {
      const NodeIndex child = reference.target();
      if (!reference.isForward() || isType(space_.nodeClass(child)) ||
          !space_.isSubtype(reference.type(), id::HierarchicalReferences))
        continue;
      const auto same = std::ranges::find_if(
          declared, [&](NodeIndex other) { return space_.browseName(other) == space_.browseName(child); });
      if (same == declared.end())
        declared.push_back(child);
      else
        *same = child;
    }
  std::erase_if(declared, [this](NodeIndex child) { return !isMandatory(space_, child); });
  return known_.emplace(type, std::move(declared)).first->second;
}

void instantiate(Space& space, NodeIndex instance, NodeIndex type, const AddCopy& add) {
  Declarations declarations(space);
  instantiate(space, instance, type, add, declarations);
}

void instantiate(Space& space, NodeIndex instance, NodeIndex type, const AddCopy& add, Declarations& declarations) {
  Instantiation(space, add, declarations).fill(instance, type);
}

void copyDeclaration(Space& space, NodeIndex parent, NodeIndex declaration, const AddCopy& add) {
  Declarations declarations(space);
  Instantiation(space, add, declarations).copy(parent, declaration);
}

}  // namespace zunth::space
