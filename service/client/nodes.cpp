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

constexpr std::uint32_t kTypeClasses =
    static_cast<std::uint32_t>(NodeClass::ObjectType) | static_cast<std::uint32_t>(NodeClass::VariableType) |
    static_cast<std::uint32_t>(NodeClass::ReferenceType) | static_cast<std::uint32_t>(NodeClass::DataType);

bool isNodeId(const std::string& text) {
  const auto rest = text.starts_with("ns=") ? text.substr(std::min(text.find(';') + 1, text.size())) : text;
  return rest.size() > 2 && rest[1] == '=' && std::string("isgb").find(rest[0]) != std::string::npos;
}

std::vector<std::string> segmentsOf(const std::string& path) {
  std::vector<std::string> out;
  std::size_t from = 0;
  while (from <= path.size()) {
    const auto slash = std::min(path.find('/', from), path.size());
    if (slash > from) out.push_back(path.substr(from, slash - from));
    from = slash + 1;
  }
  return out;
}

/// Matches a name against a segment with * for any run of characters.
bool matches(std::string_view name, std::string_view pattern) {
  if (pattern.empty()) return name.empty();
  if (pattern[0] == '*') return matches(name, pattern.substr(1)) || (!name.empty() && matches(name.substr(1), pattern));
  return !name.empty() && name[0] == pattern[0] && matches(name.substr(1), pattern.substr(1));
}

std::string lastSegment(const std::string& path) { return path.substr(path.rfind('/') + 1); }

Found objectsFolder() {
  Found objects;
  objects.nodeId = NodeId(id::ObjectsFolder);
  objects.nodeClass = NodeClass::Object;
  return objects;
}

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

bool isAlarm(const Found& node) {
  static const std::unordered_set<NodeId> types{id::AlarmConditionType,
                                                id::LimitAlarmType,
                                                id::ExclusiveLimitAlarmType,
                                                id::NonExclusiveLimitAlarmType,
                                                id::ExclusiveLevelAlarmType,
                                                id::NonExclusiveLevelAlarmType,
                                                id::ExclusiveDeviationAlarmType,
                                                id::NonExclusiveDeviationAlarmType,
                                                id::ExclusiveRateOfChangeAlarmType,
                                                id::NonExclusiveRateOfChangeAlarmType,
                                                id::DiscreteAlarmType,
                                                id::OffNormalAlarmType,
                                                id::TripAlarmType,
                                                id::DiscrepancyAlarmType,
                                                id::SystemOffNormalAlarmType,
                                                id::InstrumentDiagnosticAlarmType,
                                                id::SystemDiagnosticAlarmType,
                                                id::CertificateExpirationAlarmType,
                                                id::TrustListOutOfDateAlarmType};
  return types.contains(node.typeDefinition);
}

Awaitable<Result<std::vector<std::vector<Found>>>> childrenOf(SessionPtr session, std::vector<Found> parents) {
  std::vector<BrowseDescription> what;
  for (const auto& parent : parents)
    what.push_back({parent.nodeId, BrowseDirection::Forward, id::HierarchicalReferences, true, 0, 63});
  auto results = co_await session->browse(std::move(what));
  if (!results) co_return results.error();
  std::vector<std::vector<Found>> out(parents.size());
  for (std::size_t i = 0; i < parents.size(); ++i)
    for (const auto& reference : (*results)[i].references) {
      // The way that events go is not where things are, though the standard calls both hierarchical.
      if (!reference.nodeId.isLocal() || reference.referenceTypeId.is(id::HasEventSource) ||
          reference.referenceTypeId.is(id::HasNotifier) || reference.referenceTypeId.is(id::AlarmGroupMember) ||
          reference.referenceTypeId.is(id::HasAlarmSuppressionGroup))
        continue;
      Found child{reference.nodeId.nodeId, reference.browseName.name.str(), reference.nodeClass,
                  reference.typeDefinition.nodeId, parents[i].nodeId};
      if (!parents[i].path.empty()) child.path = parents[i].path + "/" + child.path;
      out[i].push_back(std::move(child));
    }
  co_return out;
}

/// Asks for what is below those of which it isn't known yet.
Awaitable<Result<void>> NodeFinder::look(const std::vector<Found>& parents) {
  std::vector<Found> unknown;
  for (const auto& parent : parents)
    if (!known_.contains(parent.nodeId)) unknown.push_back({parent.nodeId, {}, parent.nodeClass, {}, {}});
  if (unknown.empty()) co_return Result<void>();
  const auto asked = unknown;
  auto children = co_await childrenOf(session_, std::move(unknown));
  if (!children) co_return children.error();
  for (std::size_t i = 0; i < asked.size(); ++i) {
    Below& below = known_[asked[i].nodeId];
    below.all = std::move((*children)[i]);
    for (std::size_t k = 0; k < below.all.size(); ++k) below.byName.emplace(lastSegment(below.all[k].path), k);
  }
  co_return Result<void>();
}

Awaitable<Result<std::vector<Found>>> NodeFinder::find(std::string pattern) {
  if (isNodeId(pattern)) {
    auto parsed = NodeId::parse(pattern);
    if (!parsed) co_return parsed.error();
    auto nodeClass = co_await session_->readAttributes(*parsed, std::vector<AttributeId>(1, AttributeId::NodeClass));
    if (!nodeClass) co_return nodeClass.error();
    if (nodeClass->front().status.isBad())
      co_return Error{nodeClass->front().status, fmt::format("the server has no node {}", pattern), "zunth tree"};
    Found found{*parsed, pattern, static_cast<NodeClass>(valueOr<std::int32_t>(nodeClass->front(), 0)), {}, {}};
    co_return std::vector<Found>{found};
  }
  auto segments = segmentsOf(pattern);
  if (!segments.empty() && segments[0] == "Objects") segments.erase(segments.begin());
  std::vector<Found> at{objectsFolder()};
  for (std::size_t s = 0; s < segments.size(); ++s) {
    std::vector<Found> next;
    if (segments[s] == "**") {
      // Any depth: everything below, each node once.
      std::set<std::string> seen;
      std::vector<Found> level = at;
      next = at;
      while (!level.empty()) {
        auto children = co_await childrenOf(session_, std::move(level));
        if (!children) co_return children.error();
        level.clear();
        for (auto& list : *children)
          for (auto& child : list)
            if (seen.insert(child.nodeId.text()).second) {
              if (!isAlarm(child)) level.push_back(child);
              next.push_back(std::move(child));
            }
      }
    } else {
      if (auto looked = co_await look(at); !looked) co_return looked.error();
      const bool isName = segments[s].find('*') == std::string::npos;
      for (const auto& parent : at) {
        const Below& below = known_.at(parent.nodeId);
        const auto take = [&](const Found& child) {
          next.push_back(child);
          if (!parent.path.empty()) next.back().path = parent.path + "/" + child.path;
        };
        if (isName) {
          std::vector<std::size_t> places;
          for (auto [one, end] = below.byName.equal_range(segments[s]); one != end; ++one)
            places.push_back(one->second);
          std::ranges::sort(places);
          for (const std::size_t place : places) take(below.all[place]);
        } else {
          for (const auto& child : below.all)
            if (matches(lastSegment(child.path), segments[s])) take(child);
        }
      }
    }
    if (next.empty()) {
      std::vector<std::string> there;
      for (const auto& parent : at)
        if (const auto below = known_.find(parent.nodeId); below != known_.end())
          for (const auto& child : below->second.all) there.push_back(lastSegment(child.path));
      std::string before;
      for (std::size_t i = 0; i < s; ++i) before += (i ? "/" : "") + segments[i];
      const auto near = nearest(segments[s], there);
      std::string corrected = before + (before.empty() ? "" : "/") + near;
      for (std::size_t i = s + 1; i < segments.size(); ++i) corrected += "/" + segments[i];
      co_return Error{status::BadNoMatch,
                      fmt::format("there is no '{}' in {}", segments[s], before.empty() ? "Objects" : before),
                      near.empty() ? before.empty() ? "zunth tree" : "zunth tree " + before : corrected};
    }
    at = std::move(next);
  }
  co_return at;
}

Awaitable<Result<Found>> NodeFinder::findOne(std::string path) {
  auto found = co_await find(path);
  if (!found) co_return found.error();
  if (found->size() > 1)
    co_return Error{status::BadSyntaxError, fmt::format("'{}' names {} nodes, one is wanted", path, found->size()),
                    "zunth tree"};
  co_return found->front();
}

Awaitable<Result<std::vector<Found>>> findNodes(SessionPtr session, std::string pattern) {
  NodeFinder finder(std::move(session));
  auto found = co_await finder.find(std::move(pattern));
  co_return found;
}

Awaitable<Result<std::vector<Found>>> findNodes(SessionPtr session, std::vector<std::string> patterns) {
  std::vector<Found> out;
  std::set<std::string> seen;
  NodeFinder finder(std::move(session));
  for (const auto& pattern : patterns) {
    auto found = co_await finder.find(pattern);
    if (!found) co_return found.error();
    for (auto& node : *found)
      if (seen.insert(node.nodeId.text()).second) out.push_back(std::move(node));
  }
  co_return out;
}

Awaitable<Result<Found>> findNode(SessionPtr session, std::string path) {
  NodeFinder finder(std::move(session));
  auto found = co_await finder.findOne(std::move(path));
  co_return found;
}

Awaitable<Result<Found>> findType(SessionPtr session, std::string name, std::vector<NodeId> roots) {
  if (isNodeId(name)) co_return co_await findNode(session, name);
  std::vector<std::string> names;
  for (std::vector<NodeId> level = std::move(roots); !level.empty();) {
    std::vector<BrowseDescription> what;
    for (const auto& type : level)
      what.push_back({type, BrowseDirection::Forward, id::HierarchicalReferences, true, kTypeClasses, 63});
    auto results = co_await session->browse(std::move(what));
    if (!results) co_return results.error();
    level.clear();
    for (const auto& result : *results)
      for (const auto& reference : result.references) {
        const std::string known = reference.browseName.name.str();
        if (known == name) co_return Found{reference.nodeId.nodeId, known, reference.nodeClass, {}, {}};
        names.push_back(known);
        level.push_back(reference.nodeId.nodeId);
      }
  }
  const auto near = nearest(name, names);
  co_return Error{status::BadTypeDefinitionInvalid, fmt::format("the server has no type '{}'", name),
                  near.empty() ? "zunth tree, which names the types of what is there" : near};
}

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
