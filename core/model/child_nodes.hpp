#pragma once

#include "core/model/building.hpp"
#include "core/model/words.hpp"

namespace zunth::model {

/// A child as it is being added.
struct Child {
  const Entry& entry;
  space::NodeIndex parent;
  std::string name;
  Location here;
  Spec spec;
  const Text* is;  // where the spec stands
  bool inType;
  ua::StandardId rule;  // of a type's child
  const Place& place() const { return entry.key.place; }
};

/// Makes the nodes of children: with id, name, type, rule, and the reference from their parent.
class ChildNodes {
 public:
  explicit ChildNodes(Building& building) : building_(building) {}

  /// With what its type gives it. kNoNode, and a finding, where there can't be one; so the others.
  space::NodeIndex addObject(const Child& child, space::NodeIndex type);
  space::NodeIndex addVariable(const Child& child, space::NodeIndex type);
  /// Without a type: what is neither object nor variable.
  space::NodeIndex addNode(const Child& child, space::NewNode node);
  /// What the words of its entry say of reading, writing and history.
  static void setAccess(space::ValueTraits& traits, const Spec& spec);

 private:
  /// In the model's namespace, or "di:Lock" in that of an imported one.
  ua::QualifiedName browseNameOf(const std::string& name) const;
  /// How a child hangs on its parent: as `by:` says, or as is usual there.
  space::NodeIndex referenceOf(const Child& child);
  ua::StandardId componentReference(const Child& child) const;
  /// Copies of a type's children; state machines among them get a first state.
  space::AddCopy copier(const Child& child);
  /// What follows 'of': a data type that the variable type allows.
  space::NodeIndex dataTypeOf(const Text& name, space::NodeIndex variableType);
  ua::StandardId usualDefinition(const Spec& spec, space::NodeIndex dataType) const;

  Building& building_;
  Draft& draft_ = building_.draft;
  space::Space& space_ = building_.space;
  Findings& findings_ = building_.findings;
  VariableFacts& facts_ = building_.facts;
  space::Declarations& declarations_ = building_.declarations;
  std::vector<space::NodeIndex>& machines_ = building_.machines;
};

}  // namespace zunth::model
