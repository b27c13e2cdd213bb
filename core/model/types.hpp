#pragma once

#include "core/model/children.hpp"

namespace zunth::model {

/// Builds types, each before what extends or contains it.
class Types {
 public:
  Types(Building& building, Children& children) : building_(building), children_(children) {}

  /// Once; a type that is made of itself is a finding.
  void build(TypeDeclaration& type);

 private:
  void buildNow(TypeDeclaration& type);
  space::NodeIndex addTypeNode(TypeDeclaration& type, space::NodeIndex supertype, const Entry& entry);
  void buildObjectType(TypeDeclaration& type, space::NodeIndex supertype);
  void buildVariableType(TypeDeclaration& type, space::NodeIndex supertype, const Text* is);
  void buildReferenceType(TypeDeclaration& type, space::NodeIndex supertype);

  Building& building_;
  Children& children_;
  Draft& draft_ = building_.draft;
  space::Space& space_ = building_.space;
  Findings& findings_ = building_.findings;
  const SiteWords& site_ = building_.site;
  VariableFacts& facts_ = building_.facts;
  Links& links_ = building_.links;
  Alarms& alarms_ = building_.alarms;
};

}  // namespace zunth::model
