#include "core/space/namespace0.hpp"

#include <map>
#include <stdexcept>

namespace zunth::space {

using namespace ua;

namespace {

struct NodeRow {
  std::uint32_t id;
  std::int32_t nodeClass;
  const char* name;
  std::uint32_t dataType;
  std::int32_t valueRank;
  bool isAbstract, isSymmetric;
  const char* inverseName;
};
struct ReferenceRow {
  std::uint32_t source, type, target;
};
struct ArgumentRow {
  std::uint32_t property;
  const char* name;
  std::uint32_t dataType;
  std::int32_t valueRank;
};
struct MemberRow {
  std::uint32_t dataType;
  const char* name;
  std::int64_t value;
};
struct FieldRow {
  std::uint32_t structure;
  const char* name;
  std::uint32_t dataType;
  std::int32_t valueRank;
};
#include "core/space/generated/namespace0_rows.inc"

void addArguments(Space& space) {
  std::map<std::uint32_t, std::vector<ExtensionObject>> arguments;
  for (const ArgumentRow& row : kArguments) {
    Argument argument;
    argument.name = row.name;
    argument.dataType = NodeId(row.dataType);
    argument.valueRank = row.valueRank;
    if (row.valueRank > 0) argument.arrayDimensions = List<std::uint32_t>(static_cast<std::size_t>(row.valueRank), 0u);
    arguments[row.property].push_back(ExtensionObject::of(argument));
  }
  for (const auto& [property, list] : arguments) space.setValue(space.at({property}), DataValue(Variant::array(list)));
}

/// Enumerations' texts, as the property they have, and their definition (Part 3, 8.50).
void addEnumerations(Space& space) {
  std::map<std::uint32_t, std::vector<const MemberRow*>> members;
  for (const MemberRow& row : kMembers) members[row.dataType].push_back(&row);
  for (const auto& [dataType, list] : members) {
    const NodeIndex node = space.at({dataType});
    const bool isEnumeration = space.isSubtype(node, id::Enumeration);
    List<EnumField> fields;
    std::vector<LocalizedText> strings;
    std::vector<ExtensionObject> values;
    for (const MemberRow* member : list) {
      const LocalizedText name{String(member->name)};
      fields.push_back({member->value, name, {}, String(member->name)});
      while (!isEnumeration && static_cast<std::int64_t>(strings.size()) < member->value) strings.emplace_back();
      strings.push_back(name);
      values.push_back(ExtensionObject::of(EnumValueType{member->value, name, {}}));
    }
    space.rareOf(node).typeDefinition = ExtensionObject::of(EnumDefinition{fields});
    for (const char* property : {"EnumStrings", "OptionSetValues"})
      if (const NodeIndex at = space.child(node, {0, property}); at != kNoNode)
        space.setValue(at, DataValue(Variant::array(strings)));
    if (const NodeIndex at = space.child(node, {0, "EnumValues"}); at != kNoNode)
      space.setValue(at, DataValue(Variant::array(values)));
  }
}

void addStructures(Space& space) {
  std::map<std::uint32_t, List<StructureField>> fields;
  for (const FieldRow& row : kFields) {
    StructureField field;
    field.name = row.name;
    field.dataType = NodeId(row.dataType);
    field.valueRank = row.valueRank;
    if (row.valueRank > 0) field.arrayDimensions = List<std::uint32_t>(1, 0u);
    fields[row.structure].push_back(std::move(field));
  }
  for (auto& [dataType, list] : fields) {
    const NodeIndex node = space.at({dataType});
    StructureDefinition definition;
    definition.baseDataType = space.nodeId(space.supertype(node));
    definition.fields = std::move(list);
    for (const Reference& reference : space.references(node))
      if (reference.isForward() && space.nodeId(reference.type()).is(id::HasEncoding) &&
          space.browseName(reference.target()).name.view() == "Default Binary")
        definition.defaultEncodingId = space.nodeId(reference.target());
    space.rareOf(node).typeDefinition = ExtensionObject::of(definition);
  }
}

}  // namespace

void loadNamespace0(Space& space) {
  for (const NodeRow& row : kNodes) {
    NewNode node;
    node.nodeId = NodeId(row.id);
    node.nodeClass = static_cast<NodeClass>(row.nodeClass);
    node.browseName = {0, row.name};
    node.isAbstract = row.isAbstract;
    node.isSymmetric = row.isSymmetric;
    if (*row.inverseName) node.inverseName = LocalizedText(row.inverseName);
    node.traits.valueRank = row.valueRank;
    if (row.valueRank > 0) node.arrayDimensions = List<std::uint32_t>(static_cast<std::size_t>(row.valueRank), 0u);
    if (row.id == id::Server.value) node.eventNotifier = 1;
    if (!space.add(std::move(node))) throw std::logic_error("namespace 0 holds a node twice");
  }
  for (const NodeRow& row : kNodes)
    if (row.dataType) space.traits(space.at({row.id})).dataType = space.at({row.dataType});
  for (const ReferenceRow& row : kReferences)
    space.refer(space.at({row.source}), StandardId{row.type}, space.at({row.target}));
  for (NodeIndex type = 0; type < space.rows(); ++type)
    if (space.nodeClass(type) == NodeClass::ObjectType && space.isSubtype(type, id::AuditEventType))
      space.setPermissions(type, auditPermissions());
  addArguments(space);
  addEnumerations(space);
  addStructures(space);
}

}  // namespace zunth::space
