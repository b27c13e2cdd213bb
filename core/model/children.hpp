#pragma once

#include "core/model/child_nodes.hpp"

namespace zunth::model {

/// Builds what entries describe below a node, of types and of instances: adds it, or adjusts what the type has given.
class Children {
 public:
  explicit Children(Building& building) : building_(building), nodes_(building) {}

  /// Adds what one entry describes below `parent`: a method, or a node for each name that its key stands for.
  void addChildren(space::NodeIndex parent, const Entry& entry, bool inType);
  /// Interfaces (Part 3, 4.9): what they declare becomes the own.
  void implement(space::NodeIndex node, const Entry& entry, bool inType);

 private:
  void addChild(const Child& child);
  bool hasValue(space::NodeIndex node) const;
  /// The node that a child's entry is about: what the type gave it, adjusted, or a new one.
  space::NodeIndex findOrAdd(const Child& child);
  /// An optional child of the type comes into being by being named; one of a type above becomes the own.
  space::NodeIndex takeFromType(const Child& child);
  /// What a type, or an interface that it implements, declares under the child's name.
  space::NodeIndex declarationIn(space::NodeIndex type, const Child& child);
  /// A type's hierarchical children are its subtypes, too, which are nobody's parts.
  bool isSubtypeOf(space::NodeIndex parent, space::NodeIndex model) const;
  /// A child that came from the type may become one of a type below; the new one's type, or kNoNode when it may not be.
  space::NodeIndex replaceCopy(const Child& child, space::NodeIndex old);
  /// Changes a child that came from the type; false when what is asked for can't be.
  bool adjust(space::NodeIndex node, const Child& child);
  void addMethod(space::NodeIndex parent, const Entry& entry, const Signature& signature, bool inType);
  void describeMethod(space::NodeIndex method, const Entry& entry);
  void addArguments(space::NodeIndex method, const Entry& entry, const char* property,
                    const std::vector<Member>& arguments, bool inType);

  Building& building_;
  ChildNodes nodes_;
  Draft& draft_ = building_.draft;
  space::Space& space_ = building_.space;
  Findings& findings_ = building_.findings;
  const SiteWords& site_ = building_.site;
  VariableFacts& facts_ = building_.facts;
  space::Declarations& declarations_ = building_.declarations;
  Links& links_ = building_.links;
  Alarms& alarms_ = building_.alarms;
};

}  // namespace zunth::model
