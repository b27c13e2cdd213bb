#include "core/model/child_nodes.hpp"

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;
using space::Space;

NodeIndex ChildNodes::addObject(const Child& child, NodeIndex type) {
  NewNode node;
  node.nodeClass = NodeClass::Object;
  node.eventNotifier = child.spec.isNotifier ? EventNotifierType::SubscribeToEvents : 0;
  const NodeIndex added = addNode(child, std::move(node));
  if (added == kNoNode) return added;
  space_.refer(added, id::HasTypeDefinition, type);
  // A placeholder stands for what isn't there: it has no parts.
  if (!child.name.starts_with('<')) space::instantiate(space_, added, type, copier(child), declarations_);
  if (!child.inType && space_.isSubtype(type, id::FiniteStateMachineType)) machines_.push_back(added);
  return added;
}

NodeIndex ChildNodes::addVariable(const Child& child, NodeIndex type) {
  Spec spec = child.spec;
  const bool isVariableType = space_.nodeClass(type) == NodeClass::VariableType;
  const bool inEventType = child.inType && space_.nodeClass(child.parent) == NodeClass::ObjectType &&
                           space_.isSubtype(child.parent, id::BaseEventType);
  if (inEventType && !isVariableType && !spec.unit && !spec.range) spec.isProperty = true;
  NewNode node;
  node.nodeClass = NodeClass::Variable;
  if (isVariableType) {
    node.traits.dataType = space_.traits(type).dataType;
    node.traits.valueRank = space_.traits(type).valueRank;
    if (const auto* rare = space_.rare(type)) node.arrayDimensions = rare->arrayDimensions;
    if (spec.dataType) node.traits.dataType = dataTypeOf(*spec.dataType, type);
    if (spec.dataType && !spec.dimensions && node.traits.valueRank < -1) node.traits.valueRank = -1;
  } else {
    node.traits.dataType = type;
  }
  setAccess(node.traits, spec);
  if (spec.dimensions) setDimensions(node, *spec.dimensions, spec.type->place, findings_);
  Child placed = child;
  placed.spec.isProperty = spec.isProperty;
  const NodeIndex added = addNode(placed, std::move(node));
  if (added == kNoNode) return added;
  NodeIndex definition = isVariableType ? type : space_.at(usualDefinition(spec, type));
  if (spec.isProperty) definition = space_.at(id::PropertyType);
  space_.refer(added, id::HasTypeDefinition, definition);
  facts_.add(added, spec, child.place(), child.inType);
  if (isVariableType) space::instantiate(space_, added, type, copier(child), declarations_);
  if (spec.initial)
    facts_.setInitial(added, *spec.initial, spec.status ? &*spec.status : nullptr);
  else if (const Variant usual = isVariableType ? space_.value(type).value : Variant(); !usual.isNull())
    space_.setValue(added, DataValue(usual));
  else
    space_.setValue(added, DataValue(Variant(), {}, status::BadWaitingForInitialData));
  return added;
}

NodeIndex ChildNodes::addNode(const Child& child, NewNode node) {
  node.nodeId = draft_.idOf(child.here, child.entry);
  node.browseName = browseNameOf(child.name);
  const bool isGiven = child.entry.find("node-id") != nullptr;
  const NodeIndex added = draft_.add(std::move(node), child.place());
  if (added == kNoNode) return added;
  if (isGiven) draft_.setLocation(added, child.here);
  draft_.place(child.parent, added, referenceOf(child));
  if (child.inType && !child.spec.isStatic) draft_.setRule(added, child.rule);
  return added;
}

void ChildNodes::setAccess(space::ValueTraits& traits, const Spec& spec) {
  if (spec.isWritable) traits.accessLevel |= AccessLevelType::CurrentWrite;
  if (spec.isReadOnly) traits.accessLevel &= static_cast<std::uint16_t>(~AccessLevelType::CurrentWrite);
  if (!spec.isReadable) traits.accessLevel &= static_cast<std::uint16_t>(~AccessLevelType::CurrentRead);
  if (spec.isHistorized) {
    // Who may change it is a matter of permissions.
    traits.accessLevel |= AccessLevelType::HistoryRead | AccessLevelType::HistoryWrite;
    traits.historizing = true;
  }
  if (spec.sampledEvery) traits.minimumSamplingInterval = static_cast<float>(*spec.sampledEvery);
}

QualifiedName ChildNodes::browseNameOf(const std::string& name) const {
  if (const auto colon = name.find(':'); colon != std::string::npos)
    if (const auto known = draft_.source->prefixes.find(name.substr(0, colon));
        known != draft_.source->prefixes.end() && colon + 1 < name.size())
      return {known->second, String(name.substr(colon + 1))};
  return {draft_.source->ns, String(name)};
}

NodeIndex ChildNodes::referenceOf(const Child& child) {
  if (const Text* by = child.entry.textOf("by")) {
    const auto named = draft_.findReferenceType(*by);
    if (named.type != kNoNode && named.isForward && space_.isSubtype(named.type, id::HierarchicalReferences))
      return named.type;
    if (named.type != kNoNode)
      building_.error(by->place, fmt::format("'{}' puts nothing below another", by->text),
                      "name a hierarchical reference type, as HasOrderedComponent");
  }
  return space_.at(child.spec.isProperty ? StandardId(id::HasProperty) : componentReference(child));
}

StandardId ChildNodes::componentReference(const Child& child) const {
  if (child.spec.isAddIn) return id::HasAddIn;
  const NodeIndex parentType = space_.typeDefinition(child.parent);
  const bool inFolder = parentType != kNoNode && space_.isSubtype(parentType, id::FolderType);
  return inFolder ? id::Organizes : id::HasComponent;
}

space::AddCopy ChildNodes::copier(const Child& child) {
  return [this, &child, copy = draft_.copier(child.place(), child.inType)](NodeIndex parent, NewNode node) {
    const bool mayBeMachine = node.nodeClass == NodeClass::Object && !child.inType;
    const NodeIndex added = copy(parent, std::move(node));
    if (added != kNoNode && mayBeMachine) machines_.push_back(added);
    return added;
  };
}

NodeIndex ChildNodes::dataTypeOf(const Text& name, NodeIndex variableType) {
  const NodeIndex found = draft_.findType(name), allowed = space_.traits(variableType).dataType;
  if (found == kNoNode || allowed == kNoNode || space_.isSubtype(found, allowed))
    return found == kNoNode ? allowed : found;
  building_.error(name.place, fmt::format("a {} holds no {}", space_.name(variableType), name.text),
                  fmt::format("it holds {} and what derives from it", space_.name(allowed)));
  return allowed;
}

StandardId ChildNodes::usualDefinition(const Spec& spec, NodeIndex dataType) const {
  if (spec.range) return id::AnalogItemType;
  if (spec.unit || spec.instrumentRange) return id::AnalogUnitType;
  if (!spec.states.empty())
    return space_.isSubtype(dataType, id::Boolean) ? id::TwoStateDiscreteType : id::MultiStateDiscreteType;
  return spec.precision ? id::DataItemType : id::BaseDataVariableType;
}

}  // namespace zunth::model
