#include "core/space/attributes.hpp"

#include "core/space/attribute_writing.hpp"
#include "core/ua/index_range.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::space {

using namespace ua;

namespace {

Variant dimensionsOf(const Space& space, NodeIndex node) {
  const auto* rare = space.rare(node);
  if (!rare || rare->arrayDimensions.empty()) return Variant();
  return Variant::array(static_cast<const std::vector<std::uint32_t>&>(rare->arrayDimensions));
}

const PermissionSet& permissionsOf(const Space& space, NodeIndex node) {
  return space.permissionSets()[space.permissionSet(node)];
}
Variant asObjects(const std::vector<RolePermissionType>& roles) {
  FixedArray<ExtensionObject> out(roles.size());
  for (std::size_t i = 0; i < roles.size(); ++i) out[i] = ExtensionObject::of(roles[i]);
  return Variant::array(std::move(out));
}

/// The bits of an access level that a session's permissions leave (Part 3, 5.6.2).
std::uint8_t levelFor(std::uint16_t extended, std::uint32_t permissions) {
  auto level = static_cast<std::uint8_t>(extended);
  using Level = AccessLevelType;
  using P = PermissionType;
  if (!(permissions & P::Read)) level &= static_cast<std::uint8_t>(~Level::CurrentRead);
  if (!(permissions & P::Write))
    level &= static_cast<std::uint8_t>(~(Level::CurrentWrite | Level::StatusWrite | Level::TimestampWrite));
  if (!(permissions & P::ReadHistory)) level &= static_cast<std::uint8_t>(~Level::HistoryRead);
  if (!(permissions & (P::InsertHistory | P::ModifyHistory | P::DeleteHistory)))
    level &= static_cast<std::uint8_t>(~Level::HistoryWrite);
  return level;
}

/// Whether this is what a file says of its reader (Part 20, 4.2.1).
bool isUserWritable(const Space& space, NodeIndex property) {
  const auto& name = space.browseName(property);
  return name.namespaceIndex == 0 && name.name.view() == "UserWritable";
}
bool mayOpen(const Space& space, NodeIndex property, const Rights& rights) {
  const NodeIndex file = space.parent(property);
  const NodeIndex open = file == kNoNode ? kNoNode : space.child(file, {0, "Open"});
  return open != kNoNode && space.check(rights, open, PermissionType::Call).isGood();
}

/// The attribute of a node that has it; nothing when its class doesn't.
std::optional<DataValue> find(const Space& space, NodeIndex node, AttributeId attribute) {
  const NodeClass nodeClass = space.nodeClass(node);
  const bool isVariable = nodeClass == NodeClass::Variable;
  const bool hasValue = isVariable || nodeClass == NodeClass::VariableType;
  const bool isType = hasValue != isVariable || nodeClass == NodeClass::ObjectType ||
                      nodeClass == NodeClass::ReferenceType || nodeClass == NodeClass::DataType;
  const auto rare = [&] { return space.rare(node); };  // looked up only by the attributes that need it
  switch (attribute) {
    case AttributeId::NodeId: return DataValue(space.nodeId(node));
    case AttributeId::NodeClass: return DataValue(static_cast<std::int32_t>(nodeClass));
    case AttributeId::BrowseName: return DataValue(space.browseName(node));
    case AttributeId::DisplayName: return DataValue(space.displayName(node));
    case AttributeId::Description: return DataValue(space.description(node));
    case AttributeId::WriteMask:
    case AttributeId::UserWriteMask: return DataValue(writeMask(space, node));
    case AttributeId::IsAbstract:
      if (isType) return DataValue(space.isAbstract(node));
      break;
    case AttributeId::Symmetric:
      if (nodeClass == NodeClass::ReferenceType) return DataValue(space.isSymmetric(node));
      break;
    case AttributeId::InverseName:
      if (nodeClass == NodeClass::ReferenceType) return DataValue(rare() ? rare()->inverseName : LocalizedText());
      break;
    case AttributeId::ContainsNoLoops:
      if (nodeClass == NodeClass::View) return DataValue(space.containsNoLoops(node));
      break;
    case AttributeId::EventNotifier:
      if (nodeClass == NodeClass::Object || nodeClass == NodeClass::View) return DataValue(space.eventNotifier(node));
      break;
    case AttributeId::Value:
      if (!hasValue) break;
      if (isVariable && !(space.traits(node).accessLevel & AccessLevelType::CurrentRead))
        return DataValue(status::BadNotReadable);
      if (isVariable) return space.value(node);
      if (DataValue held = space.value(node); !held.value.isNull())
        return held;  // a type without a default value has none
      break;
    case AttributeId::DataType:
      if (hasValue) {
        const NodeIndex dataType = space.traits(node).dataType;
        return DataValue(dataType == kNoNode ? NodeId(id::BaseDataType) : space.nodeId(dataType));
      }
      break;
    case AttributeId::ValueRank:
      if (hasValue) return DataValue(space.traits(node).valueRank);
      break;
    case AttributeId::ArrayDimensions:
      if (hasValue) return DataValue(dimensionsOf(space, node));
      break;
    case AttributeId::AccessLevel:
    case AttributeId::UserAccessLevel:
      if (isVariable) return DataValue(static_cast<std::uint8_t>(space.traits(node).accessLevel));
      break;
    case AttributeId::AccessLevelEx:
      if (isVariable) return DataValue(static_cast<std::uint32_t>(space.traits(node).accessLevel));
      break;
    case AttributeId::MinimumSamplingInterval:
      if (isVariable) return DataValue(static_cast<double>(space.traits(node).minimumSamplingInterval));
      break;
    case AttributeId::Historizing:
      if (isVariable) return DataValue(space.traits(node).historizing);
      break;
    case AttributeId::Executable:
    case AttributeId::UserExecutable:
      if (nodeClass == NodeClass::Method) return DataValue(space.isExecutable(node));
      break;
    case AttributeId::RolePermissions:
    case AttributeId::UserRolePermissions: return DataValue(asObjects(permissionsOf(space, node).roles));
    case AttributeId::AccessRestrictions: return DataValue(permissionsOf(space, node).restrictions);
    case AttributeId::DataTypeDefinition:
      if (nodeClass == NodeClass::DataType && rare() && !rare()->typeDefinition.isNull())
        return DataValue(rare()->typeDefinition);
      break;
    default: break;
  }
  return std::nullopt;
}

/// Whether an enumeration's definition is known and has no such member.
bool isUnknownMember(const Space& space, NodeIndex dataType, const Variant& value) {
  const auto* number = value.get<std::int32_t>();
  const auto* rare = number && dataType != kNoNode ? space.rare(dataType) : nullptr;
  if (!rare || !space.isSubtype(dataType, id::Enumeration)) return false;
  auto definition = rare->typeDefinition.as<EnumDefinition>();
  return definition &&
         std::ranges::find(definition->fields, std::int64_t{*number}, &EnumField::value) == definition->fields.end();
}

bool isOutside(const Variant& value, const Range& range) {
  auto outside = [&](double number) { return !(number >= range.low && number <= range.high); };
  double number = 0;
  if (value.toDouble(number)) return outside(number);
  if (!value.isArray() || !isNumeric(value.type())) return false;
  return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) {
    if constexpr (std::is_arithmetic_v<T>)
      for (T item : value.items<T>())
        if (outside(static_cast<double>(item))) return true;
    return false;
  });
}

}  // namespace

DataValue readAttribute(const Space& space, NodeIndex node, AttributeId attribute) {
  return find(space, node, attribute).value_or(DataValue(status::BadAttributeIdInvalid));
}

DataValue readAttribute(const Space& space, NodeIndex node, AttributeId attribute, const Rights& rights) {
  if (!space.sees(rights, node)) return DataValue(status::BadNodeIdUnknown);
  const std::uint32_t may = rights.of(space.permissionSets(), space.permissionSet(node));
  auto needs = [&](std::uint32_t permission) { return space.check(rights, node, permission); };
  switch (attribute) {
    case AttributeId::Value:
      if (!(may & PermissionType::Read)) return DataValue(needs(PermissionType::Read));
      if (space.nodeClass(node) == NodeClass::Variable && space.hasSource(node) && isUserWritable(space, node) &&
          !mayOpen(space, node, rights))
        return DataValue(Variant(false));
      break;
    case AttributeId::DisplayName: return DataValue(space.displayName(node, rights.locales()));
    case AttributeId::Description: return DataValue(space.description(node, rights.locales()));
    case AttributeId::RolePermissions:
      if (!(may & PermissionType::ReadRolePermissions)) return DataValue(needs(PermissionType::ReadRolePermissions));
      break;
    case AttributeId::UserRolePermissions: {
      std::vector<RolePermissionType> own;
      for (const auto& role : permissionsOf(space, node).roles)
        if (rights.hasRole(role.roleId)) own.push_back(role);
      return DataValue(asObjects(own));
    }
    case AttributeId::UserWriteMask: return DataValue(writeMask(space, node, rights));
    case AttributeId::UserAccessLevel:
      if (space.nodeClass(node) == NodeClass::Variable) return DataValue(levelFor(space.traits(node).accessLevel, may));
      break;
    case AttributeId::UserExecutable:
      if (space.nodeClass(node) == NodeClass::Method)
        return DataValue(space.isExecutable(node) && (may & PermissionType::Call) != 0);
      break;
    default: break;
  }
  return readAttribute(space, node, attribute);
}

std::optional<Range> rangeProperty(const Space& space, NodeIndex variable, std::string_view name) {
  const NodeIndex property = space.child(variable, {0, String(name)}, id::HasProperty);
  if (property == kNoNode) return std::nullopt;
  const DataValue value = space.value(property);
  const auto* object = value.value.get<ExtensionObject>();
  if (!object) return std::nullopt;
  auto range = object->as<Range>();
  if (!range || !(range->low < range->high)) return std::nullopt;
  return *range;
}

Result<DataValue> checkWrite(const Space& space, NodeIndex node, const WriteValue& write) {
  const std::string path = space.path(node);
  if (space.nodeClass(node) != NodeClass::Variable)
    return Error{status::BadAttributeIdInvalid, path + " is not a variable: it has no value", {}};
  const ValueTraits& traits = space.traits(node);
  if (!(traits.accessLevel & AccessLevelType::CurrentWrite))
    return Error{status::BadNotWritable, path + " is not writable", {}};
  const bool hasStatus = write.value.status.value != 0;
  const bool hasTime = !write.value.sourceTimestamp.isNull();
  if ((hasStatus && !(traits.accessLevel & AccessLevelType::StatusWrite)) ||
      (hasTime && !(traits.accessLevel & AccessLevelType::TimestampWrite)) || !write.value.serverTimestamp.isNull())
    return Error{status::BadWriteNotSupported, "a status or time can't be written to " + path, {}};
  auto range = IndexRange::parse(write.indexRange.view());
  if (!range) return range.error();
  if (!range->isWhole() && (traits.accessLevel & AccessLevelExType::WriteFullArrayOnly))
    return Error{status::BadWriteNotSupported, path + " is written as a whole only", "leave the index range out"};
  auto whole = range->isWhole() ? Result<Variant>(write.value.value)
                                : range->replace(space.value(node).value, write.value.value);
  if (!whole) return whole.error();
  if (!space.accepts(traits, *whole))
    return Error{
        status::BadTypeMismatch,
        fmt::format("{} takes {}{}, not {}{}", path,
                    traits.dataType == kNoNode ? "any" : space.browseName(traits.dataType).name.view(),
                    traits.valueRank >= 0 ? " array" : "", nameOf(whole->type()), whole->isArray() ? " array" : ""),
        {}};
  if (isUnknownMember(space, traits.dataType, *whole))
    return Error{status::BadOutOfRange,
                 fmt::format("{} is no value of {}", format(*whole), space.browseName(traits.dataType).name.view()),
                 {}};
  auto bounds = rangeProperty(space, node, "InstrumentRange");
  if (!bounds) bounds = rangeProperty(space, node, "EURange");
  if (bounds && isOutside(*whole, *bounds))
    return Error{
        status::BadOutOfRange,
        fmt::format("{} is outside {} to {}, the range of {}", format(*whole), bounds->low, bounds->high, path),
        {}};
  return DataValue(std::move(*whole), write.value.sourceTimestamp, write.value.status);
}

bool holdsStructures(const Space& space, NodeIndex variable) {
  const NodeIndex dataType = space.traits(variable).dataType;
  return dataType != kNoNode && space.isSubtype(dataType, id::Structure);
}

std::optional<String> enumerationName(const Space& space, NodeIndex dataType, const Variant& value) {
  const auto* number = value.get<std::int32_t>();
  const auto* rare = number && dataType != kNoNode ? space.rare(dataType) : nullptr;
  if (!rare || rare->typeDefinition.isNull()) return std::nullopt;
  if (auto members = rare->typeDefinition.as<EnumDefinition>())
    for (const auto& member : members->fields)
      if (member.value == *number) return member.name;
  return std::nullopt;
}

std::vector<Argument> methodArguments(const Space& space, NodeIndex method, std::string_view property) {
  std::vector<Argument> out;
  const NodeIndex node = space.child(method, {0, String(property)}, id::HasProperty);
  if (node == kNoNode) return out;
  const DataValue held = space.value(node);
  for (const auto& object : held.value.items<ExtensionObject>())
    if (auto argument = object.as<Argument>()) out.push_back(std::move(*argument));
  return out;
}

NodeIndex nodeAt(const Space& space, std::string_view path) {
  NodeIndex at = space.at(id::ObjectsFolder);
  const NodeIndex hierarchical = space.at(id::HierarchicalReferences);
  while (!path.empty()) {
    const auto name = path.substr(0, path.find('/'));
    path.remove_prefix(std::min(name.size() + 1, path.size()));
    const auto references = space.references(at);
    const auto next = std::ranges::find_if(references, [&](const Reference& reference) {
      return reference.isForward() && space.name(reference.target()) == name &&
             space.isSubtype(reference.type(), hierarchical);
    });
    if (next == references.end()) return kNoNode;
    at = next->target();
  }
  return at;
}

}  // namespace zunth::space
