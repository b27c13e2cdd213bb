#include "service/client/nodes.hpp"

#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <set>
#include <unordered_set>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace zunth::client {

using namespace ua;

namespace {

std::vector<ReadValueId> attributesOf(const std::vector<NodeId>& nodes, const std::vector<AttributeId>& attributes) {
  std::vector<ReadValueId> what;
  for (const auto& node : nodes)
    for (auto attribute : attributes) what.push_back({node, static_cast<std::uint32_t>(attribute), {}, {}});
  return what;
}

template <class T>
T valueOr(const DataValue& value, T otherwise) {
  const T* held = value.value.get<T>();
  return held ? *held : otherwise;
}

/// Climbs from data types to the built-in types on the wire, and finds enumerations' texts. Asks the server once for
/// each type.
class DataTypes {
 public:
  explicit DataTypes(SessionPtr session) : session_(std::move(session)) {}

  Awaitable<Result<VariableFacts>> facts(NodeId dataType) {
    if (const auto known = known_.find(dataType); known != known_.end()) co_return known->second;
    VariableFacts out;
    out.dataType = dataType;
    auto names = co_await session_->readAttributes(dataType, std::vector<AttributeId>(1, AttributeId::BrowseName));
    if (!names) co_return names.error();
    out.dataTypeName = valueOr(names->front(), QualifiedName{0, String(dataType.text())}).name.str();
    NodeId at = dataType;
    for (int depth = 0; depth < 50; ++depth) {
      if (at.is(id::Enumeration)) out.builtIn = BuiltInType::Int32;
      if (at.is(id::Number) || at.is(id::Integer) || at.is(id::UInteger)) out.builtIn = BuiltInType::Variant;
      if (out.builtIn == BuiltInType::Null && at.isNumericIn0() && at.numeric() >= 1 && at.numeric() <= 25)
        out.builtIn = static_cast<BuiltInType>(at.numeric());
      if (out.builtIn != BuiltInType::Null) break;
      BrowseDescription up{at, BrowseDirection::Inverse, id::HasSubtype, false, 0, 63};
      auto supertypes = co_await session_->browse(up);
      if (!supertypes) co_return supertypes.error();
      if (supertypes->empty()) break;
      at = supertypes->front().nodeId.nodeId;
    }
    if (at.is(id::Enumeration)) {
      auto read = co_await readEnumeration(dataType, out);
      if (!read) co_return read.error();
    }
    if (out.builtIn == BuiltInType::ExtensionObject && dataType.namespaceIndex() != 0) {
      auto structure = co_await structureOf(dataType, out.dataTypeName);
      if (!structure) co_return structure.error();
      out.structure = *structure;
    }
    out.types = catalog_;
    known_[dataType] = out;
    co_return out;
  }

 private:
  Awaitable<Result<void>> readEnumeration(NodeId dataType, VariableFacts& out) {
    BrowseDescription down{dataType, BrowseDirection::Forward, id::HasProperty, true, 0, 63};
    auto properties = co_await session_->browse(down);
    if (!properties) co_return properties.error();
    for (const auto& property : *properties) {
      auto values =
          co_await session_->readAttributes(property.nodeId.nodeId, std::vector<AttributeId>(1, AttributeId::Value));
      if (!values) co_return values.error();
      std::int64_t number = 0;
      for (const auto& text : values->front().value.items<LocalizedText>())
        out.enumeration.emplace_back(number++, text.text.str());
      for (const auto& object : values->front().value.items<ExtensionObject>())
        if (auto member = object.as<EnumValueType>())
          out.enumeration.emplace_back(member->value, member->displayName.text.str());
    }
    co_return Result<void>();
  }

  /// A structure by what the server says of its data type; nullptr when it says nothing, or one that contains itself.
  Awaitable<Result<const StructureSchema*>> structureOf(NodeId dataType, std::string name) {
    if (const auto* known = catalog_->find(dataType)) co_return known;
    if (!underway_.insert(dataType.text()).second) co_return nullptr;
    auto read =
        co_await session_->readAttributes(dataType, std::vector<AttributeId>(1, AttributeId::DataTypeDefinition));
    if (!read) co_return read.error();
    const auto* object = read->front().value.get<ExtensionObject>();
    if (!object) co_return nullptr;
    auto definition = object->as<StructureDefinition>();
    if (!definition) co_return nullptr;
    StructureSchema schema;
    schema.name = name;
    schema.typeId = dataType;
    schema.binaryId = definition->defaultEncodingId;
    using Kind = StructureSchema::Kind;
    if (definition->structureType == StructureType::Union) schema.kind = Kind::Union;
    if (definition->structureType == StructureType::StructureWithOptionalFields) schema.kind = Kind::WithOptionalFields;
    for (const auto& field : definition->fields) {
      auto facts = co_await this->facts(field.dataType);
      if (!facts) co_return facts.error();
      FieldSchema one;
      one.name = field.name.str();
      one.type = facts->builtIn;
      one.valueRank = field.valueRank;
      one.isOptional = field.isOptional;
      if (one.type == BuiltInType::ExtensionObject) {
        one.structure = facts->structure ? facts->structure : catalog_->find(field.dataType);
        if (!one.structure && field.dataType.namespaceIndex() != 0) co_return nullptr;
      }
      if (!facts->enumeration.empty()) one.enumeration = enumerationOf(*facts);
      schema.fields.push_back(std::move(one));
    }
    co_return catalog_->add(std::move(schema));
  }
  const EnumerationSchema* enumerationOf(const VariableFacts& facts) {
    EnumerationSchema schema;
    schema.name = facts.dataTypeName;
    for (const auto& [number, name] : facts.enumeration)
      schema.members.emplace_back(name, static_cast<std::int32_t>(number));
    return catalog_->add(std::move(schema));
  }

  SessionPtr session_;
  std::unordered_map<NodeId, VariableFacts> known_;
  std::shared_ptr<TypeCatalog> catalog_ = std::make_shared<TypeCatalog>();
  std::set<std::string> underway_;
};

/// A structure's JSON as people read it: {grams: 400, pellets: 3 mm}.
std::string words(const Json& json) {
  std::string out;
  if (json.is_object()) {
    for (const auto& [name, value] : json.items()) out += (out.empty() ? "" : ", ") + name + ": " + words(value);
    return "{" + out + "}";
  }
  if (json.is_array()) {
    for (const auto& value : json) out += (out.empty() ? "" : ", ") + words(value);
    return "[" + out + "]";
  }
  return json.is_string() ? json.get<std::string>() : json.dump(-1, ' ', false, Json::error_handler_t::replace);
}

}  // namespace

Awaitable<Result<std::vector<VariableFacts>>> factsOf(SessionPtr session, std::vector<NodeId> variables) {
  const std::vector<AttributeId> attributes{AttributeId::DataType, AttributeId::ValueRank,
                                            AttributeId::UserAccessLevel};
  auto values = co_await session->read(attributesOf(variables, attributes));
  if (!values) co_return values.error();
  std::vector<BrowseDescription> what;
  for (const auto& variable : variables)
    what.push_back({variable, BrowseDirection::Forward, id::HasProperty, true, 0, 63});
  auto properties = co_await session->browse(std::move(what));
  if (!properties) co_return properties.error();

  std::vector<VariableFacts> out;
  std::vector<NodeId> units;
  std::vector<std::size_t> unitOwners;
  DataTypes types(session);
  for (std::size_t i = 0; i < variables.size(); ++i) {
    const auto* own = &(*values)[i * attributes.size()];
    auto facts = co_await types.facts(valueOr(own[0], NodeId(id::BaseDataType)));
    if (!facts) co_return facts.error();
    facts->valueRank = valueOr<std::int32_t>(own[1], -1);
    facts->accessLevel = valueOr<std::uint8_t>(own[2], 0);
    for (const auto& property : (*properties)[i].references)
      if (property.browseName.name.view() == "EngineeringUnits") {
        units.push_back(property.nodeId.nodeId);
        unitOwners.push_back(i);
      }
    out.push_back(std::move(*facts));
  }
  if (units.empty()) co_return out;
  auto read = co_await session->read(attributesOf(units, std::vector<AttributeId>(1, AttributeId::Value)));
  if (!read) co_return read.error();
  for (std::size_t i = 0; i < units.size(); ++i)
    if (const auto* object = (*read)[i].value.get<ExtensionObject>())
      if (auto unit = object->as<EUInformation>()) out[unitOwners[i]].unit = unit->displayName.text.str();
  co_return out;
}

Awaitable<Result<VariableFacts>> factsOfType(SessionPtr session, NodeId dataType, std::int32_t valueRank) {
  DataTypes types(session);
  auto facts = co_await types.facts(dataType);
  if (facts) facts->valueRank = valueRank;
  co_return facts;
}

std::string valueText(const Variant& value, const VariableFacts& facts) {
  if (const auto* number = value.get<std::int32_t>())
    for (const auto& [member, name] : facts.enumeration)
      if (member == *number) return fmt::format("{} ({})", name, *number);
  return facts.structure ? words(valueJson(value, facts)) : format(value);
}

Json valueJson(const Variant& value, const VariableFacts& facts) {
  if (!facts.structure) return toJson(value);
  return toJson(value, JsonOptions{JsonForm::Plain, facts.types.get(), {}});
}

namespace {

/// A structure, or a list of them, typed as JSON.
Result<Variant> typedStructure(const std::string& text, const VariableFacts& facts) {
  const auto object = [&](const Json& json) -> Result<ExtensionObject> {
    std::vector<std::string> names;
    for (const auto& field : facts.structure->fields) names.push_back(field.name);
    for (const auto& [name, value] : json.items())
      if (std::ranges::find(names, name) == names.end()) {
        const auto near = nearest(name, names);
        return Error{status::BadTypeMismatch, fmt::format("{} has no field '{}'", facts.dataTypeName, name),
                     near.empty() ? fmt::format("it has: {}", fmt::join(names, ", ")) : near};
      }
    auto octets = structureFromJson(json, *facts.structure, *facts.types);
    if (!octets) return Error{status::BadTypeMismatch, octets.error().cause, {}};
    return ExtensionObject::binary(facts.structure->binaryId, ByteString(BytesView(*octets)));
  };
  const Json json = Json::parse(text, nullptr, false);
  const bool isList = facts.valueRank >= 1;
  if (json.is_discarded() || (isList ? !json.is_array() : !json.is_object())) {
    const std::string example = fmt::format(
        "{{\"{}\": ...}}", facts.structure->fields.empty() ? "field" : facts.structure->fields.front().name);
    return Error{status::BadTypeMismatch, fmt::format("'{}' is no {}", text, facts.dataTypeName),
                 "as JSON, in quotes: '" + (isList ? "[" + example + "]" : example) + "'"};
  }
  if (!isList) {
    auto one = object(json);
    return one ? Result<Variant>(Variant(std::move(*one))) : one.error();
  }
  std::vector<ExtensionObject> list;
  for (const auto& each : json) {
    auto one = object(each);
    if (!one) return one.error();
    list.push_back(std::move(*one));
  }
  return Variant::array(list);
}

}  // namespace

Result<Variant> typedValue(const std::string& text, const VariableFacts& facts) {
  if (facts.structure) return typedStructure(text, facts);
  std::vector<std::string> names;
  for (const auto& [member, name] : facts.enumeration) {
    if (name == text) return Variant(static_cast<std::int32_t>(member));
    names.push_back(name);
  }
  BuiltInType type = facts.builtIn;
  if (type == BuiltInType::Variant || type == BuiltInType::Null) {
    // Any number, or any value at all: take what the text looks like.
    auto number = parse(text, BuiltInType::Double, facts.valueRank >= 1);
    type = number ? BuiltInType::Double : BuiltInType::String;
  }
  auto value = parse(text, type, facts.valueRank >= 1);
  if (value || facts.enumeration.empty()) return value;
  const auto near = nearest(text, names);
  std::string all;
  for (const auto& name : names) all += (all.empty() ? "" : ", ") + name;
  return Error{status::BadTypeMismatch, fmt::format("'{}' is no value of {}", text, facts.dataTypeName),
               near.empty() ? "one of " + all : near};
}

}  // namespace zunth::client
