#include "core/model/types.hpp"

#include "core/model/data_types.hpp"
#include "core/model/state_machine.hpp"

#include <utility>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;
using space::Space;

namespace {

bool isOn(const Entry& entry, std::string_view key) {
  const Text* text = entry.textOf(key);
  return text && (text->text == "yes" || text->text == "true" || text->text == "on");
}

}  // namespace

void Types::build(TypeDeclaration& type) {
  if (type.state == TypeDeclaration::State::Built) return;
  const Entry& entry = *type.entry;
  if (type.state == TypeDeclaration::State::Building)
    return building_.error(entry.key.place, fmt::format("the type '{}' is made of itself", entry.key.text),
                           "a type can't extend or contain itself, even through others");
  type.state = TypeDeclaration::State::Building;
  const Source* sourceBefore = std::exchange(draft_.source, type.source);
  const auto accessBefore = std::exchange(draft_.access, std::nullopt);
  buildNow(type);
  draft_.access = accessBefore;
  draft_.source = sourceBefore;
  type.state = TypeDeclaration::State::Built;
}

void Types::buildNow(TypeDeclaration& type) {
  const Entry& entry = *type.entry;
  const Text* is = entry.value ? &*entry.value : entry.textOf("is");
  const auto dataType = is ? parseDataType(*is, findings_) : std::nullopt;
  if (entry.value && !dataType)
    return building_.error(entry.value->place, "a type is a list of children, or 'enum A | B'",
                           "put its children on the lines below, indented");
  NodeIndex supertype = kNoNode;
  if (const Text* extends = entry.textOf("extends")) {
    supertype = draft_.findType(*extends);
    if (supertype == kNoNode) return;
  }
  if (dataType) {
    const bool fits = supertype == kNoNode || space_.nodeClass(supertype) == NodeClass::DataType;
    if (!fits)
      building_.error(entry.textOf("extends")->place,
                      fmt::format("'{}' is no data type", entry.textOf("extends")->text));
    if (supertype == kNoNode || !fits) supertype = space_.at(usualSupertype(*dataType, entry));
    if (addTypeNode(type, supertype, entry) != kNoNode) fillDataType(draft_, type.node, *dataType, entry);
    return;
  }
  if (supertype == kNoNode) supertype = space_.at(id::BaseObjectType);
  switch (space_.nodeClass(supertype)) {
    case NodeClass::ObjectType: return buildObjectType(type, supertype);
    case NodeClass::VariableType: return buildVariableType(type, supertype, is);
    case NodeClass::ReferenceType: return buildReferenceType(type, supertype);
    default:
      addTypeNode(type, supertype, entry);
      for (const Entry& child : entry.entries)
        if (!isTypeWord(child.key.text))
          building_.error(child.key.place, fmt::format("a type that extends {} has no parts", space_.name(supertype)),
                          "one with fields says: is: struct, and one with values: is: enum");
  }
}

NodeIndex Types::addTypeNode(TypeDeclaration& type, NodeIndex supertype, const Entry& entry) {
  NewNode node;
  node.nodeId = draft_.idOf({type.source->ns, "types/" + entry.key.text}, entry);
  node.nodeClass = space_.nodeClass(supertype);
  node.browseName = {type.source->ns, String(entry.key.text)};
  node.isAbstract = isOn(entry, "abstract");
  node.isSymmetric = isOn(entry, "symmetric");
  if (const Entry* inverse = entry.find("inverse"))
    if (const auto texts = draft_.textsOf(*inverse); !texts.empty()) node.inverseName = texts.front();
  if (node.nodeClass == NodeClass::VariableType) {
    node.traits = space_.traits(supertype);
    if (const auto* rare = space_.rare(supertype)) node.arrayDimensions = rare->arrayDimensions;
  }
  type.node = draft_.add(std::move(node), entry.key.place);
  if (type.node == kNoNode) return kNoNode;
  if (entry.find("node-id")) draft_.setLocation(type.node, {type.source->ns, "types/" + entry.key.text});
  space_.refer(supertype, id::HasSubtype, type.node);
  draft_.describe(type.node, entry);
  return type.node;
}

void Types::buildObjectType(TypeDeclaration& type, NodeIndex supertype) {
  const Entry& entry = *type.entry;
  if (addTypeNode(type, supertype, entry) == kNoNode) return;
  children_.implement(type.node, entry, true);
  for (const Entry& child : entry.entries)
    if (!isTypeWord(child.key.text) && child.key.text != "alarms") children_.addChildren(type.node, child, true);
  if (const Entry* alarms = entry.find("alarms")) {
    alarms_.add(type.node, *alarms, true);
    alarms_.connectInputs();
  }
  if (entry.find("states") || entry.find("transitions")) {
    if (space_.isSubtype(type.node, id::FiniteStateMachineType))
      addStates(draft_, type.node, entry);
    else
      building_.error(entry.key.place, fmt::format("'{}' is no state machine", entry.key.text),
                      "say: extends: FiniteStateMachineType");
  }
  links_.remember(type.node, entry);
}

void Types::buildVariableType(TypeDeclaration& type, NodeIndex supertype, const Text* is) {
  const Entry& entry = *type.entry;
  if (addTypeNode(type, supertype, entry) == kNoNode) return;
  if (is) {
    const Spec spec = parseSpec(*is, findings_, site_.units);
    auto& traits = space_.traits(type.node);
    if (spec.type) {
      const NodeIndex dataType = draft_.findType(*spec.type);
      if (dataType == kNoNode) return;
      if (space_.nodeClass(dataType) != NodeClass::DataType)
        return building_.error(spec.type->place, fmt::format("'{}' is no data type", spec.type->text),
                               "as in: is: Double kPa 0..50");
      traits.dataType = dataType;
      traits.valueRank = -1;
      NewNode shape;
      if (spec.dimensions) setDimensions(shape, *spec.dimensions, spec.type->place, findings_);
      if (spec.dimensions) {
        traits.valueRank = shape.traits.valueRank;
        space_.rareOf(type.node).arrayDimensions = shape.arrayDimensions;
      }
    }
    facts_.add(type.node, spec, entry.key.place, true);
    if (spec.initial) facts_.setInitial(type.node, *spec.initial);
  }
  if (const Entry* starts = entry.find("starts")) facts_.setInitial(type.node, *starts);
  for (const Entry& child : entry.entries)
    if (!isTypeWord(child.key.text) && child.key.text != "starts") children_.addChildren(type.node, child, true);
}

void Types::buildReferenceType(TypeDeclaration& type, NodeIndex supertype) {
  addTypeNode(type, supertype, *type.entry);
  for (const Entry& child : type.entry->entries)
    if (!isTypeWord(child.key.text))
      building_.error(child.key.place, "a type of references has no children", "it may say: inverse: isFedBy");
}

}  // namespace zunth::model
