#include "core/model/build.hpp"

#include "core/model/units.hpp"
#include "core/model/words.hpp"
#include "core/space/instances.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <map>
#include <set>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;
using space::Space;

namespace {

const std::vector<std::string> kReserved = {"is", "about", "extends", "access"};

/// What the words after a role stand for.
struct AccessWord {
  const char* word;
  std::uint32_t permissions;
};
using P = PermissionType;
constexpr AccessWord kAccessWords[] = {
    {"nothing", 0},
    {"see", P::Browse},
    {"read", P::Browse | P::Read | P::ReadHistory | P::ReceiveEvents},
    {"write", P::Browse | P::Write},
    {"call", P::Browse | P::Call},
    {"change", P::Browse | P::AddNode | P::DeleteNode | P::AddReference | P::RemoveReference | P::WriteAttribute},
    {"grant", P::Browse | P::ReadRolePermissions | P::WriteRolePermissions},
};

/// Where new nodes go: their namespace and the path from which their ids are made.
struct Location {
  std::uint16_t ns;
  std::string path;
  Location in(const std::string& name) const { return {ns, path.empty() ? name : path + "/" + name}; }
};

struct TypeDeclaration {
  const Entry* entry;
  std::uint16_t ns;
  enum class State { Declared, Building, Built } state = State::Declared;
  NodeIndex node = kNoNode;
};

class Builder {
 public:
  Builder(Space& space, Findings& findings, const std::map<std::string, NodeId>& siteRoles)
      : space_(space), findings_(findings), siteRoles_(siteRoles) {
    indexStandardTypes();
  }

  void run(const std::vector<Entry>& roots) {
    for (const Entry& root : roots) {
      if (!root.isMapping) continue;
      checkKeys(root, {"namespace", "types", "objects"}, findings_);
      const Text* uri = root.textOf("namespace");
      if (!uri) {
        findings_.error(root.key.place, "the model names no namespace",
                        "begin with: namespace: http://my-site.example/plant");
        continue;
      }
      namespaces_[&root] = space_.addNamespace(String(uri->text));
      if (const Entry* types = root.find("types")) declareTypes(*types, namespaces_[&root]);
    }
    for (auto& [key, type] : types_) buildType(type);
    for (const Entry& root : roots)
      if (const Entry* objects = root.find("objects"); objects && namespaces_.contains(&root))
        for (const Entry& child : objects->entries)
          addChildren(space_.at(id::ObjectsFolder), {namespaces_[&root], ""}, child, false);
  }

 private:
  void error(const Place& place, std::string message, std::string hint = {}) {
    findings_.error(place, std::move(message), std::move(hint));
  }

  // Types
  void indexStandardTypes() {
    for (NodeIndex node = 0; node < space_.rows(); ++node) {
      const auto nodeClass = space_.nodeClass(node);
      if (nodeClass == NodeClass::ObjectType || nodeClass == NodeClass::DataType ||
          nodeClass == NodeClass::VariableType)
        standardTypes_.emplace(space_.browseName(node).name.str(), node);
    }
  }

  void declareTypes(const Entry& types, std::uint16_t ns) {
    for (const Entry& entry : types.entries) {
      if (const auto [at, isNew] = types_.try_emplace(entry.key.text, TypeDeclaration{&entry, ns}); !isNew)
        error(entry.key.place, fmt::format("the type '{}' is declared twice", entry.key.text),
              fmt::format("the first is at {}:{}", at->second.entry->key.place.file, at->second.entry->key.place.line));
    }
  }

  /// The type node of this name, built when it is declared in a model; reports an unknown one.
  NodeIndex findType(const Text& name) {
    if (const auto own = types_.find(name.text); own != types_.end()) {
      buildType(own->second);
      return own->second.node;
    }
    if (const auto standard = standardTypes_.find(name.text); standard != standardTypes_.end()) return standard->second;
    std::vector<std::string> names;
    for (const auto& [known, type] : types_) names.push_back(known);
    for (const auto& [known, node] : standardTypes_) names.push_back(known);
    const std::string near = nearest(name.text, names);
    error(name.place, fmt::format("there is no type '{}'", name.text),
          near.empty() ? "declare it under 'types:', or take one of the standard"
                       : fmt::format("did you mean '{}'?", near));
    return kNoNode;
  }

  void buildType(TypeDeclaration& type) {
    if (type.state == TypeDeclaration::State::Built) return;
    const Entry& entry = *type.entry;
    if (type.state == TypeDeclaration::State::Building)
      return error(entry.key.place, fmt::format("the type '{}' is made of itself", entry.key.text),
                   "a type can't extend or contain itself, even through others");
    type.state = TypeDeclaration::State::Building;
    if (entry.value && entry.value->text.starts_with("enum "))
      buildEnumeration(type);
    else if (entry.value)
      error(entry.value->place, "a type is a list of children, or 'enum A | B'",
            "put its children on the lines below, indented");
    else
      buildObjectType(type);
    type.state = TypeDeclaration::State::Built;
  }

  NodeIndex addTypeNode(TypeDeclaration& type, NodeClass nodeClass, NodeIndex supertype) {
    NewNode node;
    node.nodeId = NodeId(type.ns, String("types/" + type.entry->key.text));
    node.nodeClass = nodeClass;
    node.browseName = {type.ns, String(type.entry->key.text)};
    if (const Text* about = type.entry->textOf("about")) node.description = LocalizedText(String(about->text));
    type.node = add(std::move(node), type.entry->key.place);
    if (type.node != kNoNode) space_.refer(supertype, id::HasSubtype, type.node);
    return type.node;
  }

  void buildEnumeration(TypeDeclaration& type) {
    const Text& words = *type.entry->value;
    if (addTypeNode(type, NodeClass::DataType, space_.at(id::Enumeration)) == kNoNode) return;
    std::vector<LocalizedText> strings;
    List<EnumField> fields;
    std::size_t from = 5;
    while (from <= words.text.size()) {
      const auto bar = std::min(words.text.find('|', from), words.text.size());
      std::string name = words.text.substr(from, bar - from);
      name.erase(0, name.find_first_not_of(' '));
      name.erase(name.find_last_not_of(' ') + 1);
      if (name.empty())
        error(words.part(from, bar - from).place, "a value of this enumeration has no name",
              "as in: enum Off | Auto | Wash");
      fields.push_back({static_cast<std::int64_t>(strings.size()), LocalizedText(String(name)), {}, String(name)});
      strings.emplace_back(String(name));
      from = bar + 1;
    }
    space_.rareOf(type.node).typeDefinition = ExtensionObject::of(EnumDefinition{fields});
    const Location place{type.ns, "types/" + type.entry->key.text};
    addProperty(type.node, place, "EnumStrings", id::LocalizedText, Variant::array(strings), type.entry->key.place);
  }

  void buildObjectType(TypeDeclaration& type) {
    NodeIndex supertype = space_.at(id::BaseObjectType);
    if (const Text* extends = type.entry->textOf("extends")) {
      const NodeIndex found = findType(*extends);
      if (found != kNoNode && space_.nodeClass(found) != NodeClass::ObjectType)
        error(extends->place, fmt::format("'{}' is no object type", extends->text));
      else if (found != kNoNode)
        supertype = found;
    }
    if (addTypeNode(type, NodeClass::ObjectType, supertype) == kNoNode) return;
    const Location place{type.ns, "types/" + type.entry->key.text};
    for (const Entry& child : type.entry->entries)
      if (std::ranges::find(kReserved, child.key.text) == kReserved.end()) addChildren(type.node, place, child, true);
  }

  // Instances and children
  /// Adds what one entry describes below `parent`: a method, or a node for each name that its key stands for.
  void addChildren(NodeIndex parent, const Location& location, const Entry& entry, bool inType) {
    if (auto signature = parseSignature(entry.key, findings_))
      return addMethod(parent, location, entry, *signature, inType);
    Text key = entry.key;
    const bool isOptional = key.text.ends_with('?');
    if (isOptional) key = key.part(0, key.text.size() - 1);
    if (isOptional && !inType) error(entry.key.place, "'?' marks an optional child of a type", "leave it out here");
    if (key.text.starts_with("./")) key = key.part(2);  // a child whose name is a word of the language
    for (const std::string& name : expandName(key, findings_)) {
      if (name.empty() || name.find('/') != std::string::npos) {
        error(key.place, fmt::format("'{}' can't be a name", name), "names are not empty and have no '/'");
        continue;
      }
      addChild(parent, location, entry, name, inType, isOptional);
    }
  }

  void addChild(NodeIndex parent, const Location& location, const Entry& entry, const std::string& name, bool inType,
                bool isOptional) {
    const Text* is = entry.value ? &*entry.value : entry.textOf("is");
    const Spec spec = is ? parseSpec(*is, findings_) : Spec();
    const Location here = location.in(name);
    // It holds for the node and what is below, until something below says otherwise.
    const auto accessAbove = access_;
    if (const Entry* access = entry.find("access")) {
      if (inType)
        error(access->key.place, "a type grants no access: its instances do", "write it with an object");
      else
        access_ = readAccess(*access);
    }
    addChildWith(parent, location, here, entry, spec, is, name, inType, isOptional);
    access_ = accessAbove;
  }

  std::optional<NodeId> roleNamed(const Text& name) {
    if (const auto known = space::roleNamed(name.text)) return NodeId(*known);
    if (const auto own = siteRoles_.find(name.text); own != siteRoles_.end()) return own->second;
    std::vector<std::string> names = space::roleNames();
    for (const auto& [own, id] : siteRoles_) names.push_back(own);
    const std::string near = nearest(name.text, names);
    error(name.place, fmt::format("there is no role '{}'", name.text),
          near.empty() ? fmt::format("there are {}", fmt::join(names, ", ")) : fmt::format("did you mean '{}'?", near));
    return std::nullopt;
  }

  /// access: {Operator: read write call, Observer: read, needs: encryption}
  space::PermissionSet readAccess(const Entry& access) {
    space::PermissionSet set;
    if (!access.isMapping) error(access.key.place, "access lists roles", "as in: access: {Operator: read write}");
    for (const Entry& line : access.entries) {
      if (!line.value) {
        error(line.key.place, fmt::format("'{}' is followed by words", line.key.text), "as in: Operator: read write");
        continue;
      }
      if (line.key.text == "needs") {
        set.restrictions |= restrictionNamed(*line.value);
        continue;
      }
      const auto role = roleNamed(line.key);
      if (role) set.roles.push_back({*role, permissionsNamed(*line.value)});
    }
    return set;
  }
  std::uint16_t restrictionNamed(const Text& word) {
    if (word.text == "signing") return AccessRestrictionType::SigningRequired;
    if (word.text == "encryption") return AccessRestrictionType::EncryptionRequired;
    error(word.place, fmt::format("'{}' is nothing that a node can need", word.text), "write signing or encryption");
    return 0;
  }
  std::uint32_t permissionsNamed(const Text& words) {
    std::uint32_t permissions = 0;
    std::size_t from = 0;
    while ((from = words.text.find_first_not_of(' ', from)) != std::string::npos) {
      const auto to = std::min(words.text.find(' ', from), words.text.size());
      const Text word = words.part(from, to - from);
      const auto* known = std::ranges::find(kAccessWords, word.text, &AccessWord::word);
      if (known == std::end(kAccessWords))
        error(word.place, fmt::format("'{}' is nothing that a role may do", word.text),
              "write nothing, see, read, write, call, change or grant");
      else
        permissions |= known->permissions;
      from = to;
    }
    return permissions;
  }

  void addChildWith(NodeIndex parent, const Location& location, const Location& here, const Entry& entry,
                    const Spec& spec, const Text* is, const std::string& name, bool inType, bool isOptional) {
    const Text* about = entry.textOf("about");
    NodeIndex node = childNamed(parent, name);
    if (node == kNoNode && !inType) node = takeOptional(parent, location, name, entry.key.place);
    if (node != kNoNode && !spec.type) {
      if (!adjust(node, here, spec, entry.key.place)) return;
    } else if (node != kNoNode) {
      return error(entry.key.place, fmt::format("'{}' is there already", name),
                   "to change what comes from the type, leave the type's name out: '= value'");
    } else if (!spec.type) {
      if (spec.initial || spec.isWritable)
        return error(is->place, fmt::format("'{}' has no type", name),
                     fmt::format("as in: {}: Double {}", name, is->text));
      node = addObject(parent, here, name, space_.at(id::BaseObjectType), inType, isOptional, entry.key.place);
    } else {
      const NodeIndex type = findType(*spec.type);
      if (type == kNoNode) return;
      if (space_.nodeClass(type) == NodeClass::ObjectType) {
        if (spec.unit || spec.range || spec.initial)
          error(is->place, fmt::format("'{}' is an object type: it has no value", spec.type->text),
                "leave out what follows it");
        node = addObject(parent, here, name, type, inType, isOptional, entry.key.place);
      } else {
        node = addVariable(parent, here, name, type, spec, inType, isOptional, entry.key.place);
      }
    }
    if (node == kNoNode) return;
    if (access_) space_.setPermissions(node, *access_);
    if (about) space_.rareOf(node).description = LocalizedText(String(about->text));
    for (const Entry& child : entry.entries)
      if (std::ranges::find(kReserved, child.key.text) == kReserved.end()) addChildren(node, here, child, inType);
  }

  /// Changes a child that came from the type; false when what is asked for can't be.
  bool adjust(NodeIndex node, const Location& here, const Spec& spec, const Place& place) {
    if (space_.nodeClass(node) != NodeClass::Variable) {
      if (spec.initial || spec.isWritable) error(place, fmt::format("'{}' is no variable: it has no value", here.path));
      return !(spec.initial || spec.isWritable);
    }
    if (spec.isWritable) space_.traits(node).accessLevel |= AccessLevelType::CurrentWrite;
    if (spec.initial) setInitial(node, *spec.initial, here);
    return true;
  }

  NodeIndex childNamed(NodeIndex parent, const std::string& name) const {
    const NodeIndex hasChild = space_.at(id::HierarchicalReferences);
    for (const auto& reference : space_.references(parent))
      if (reference.isForward() && space_.browseName(reference.target()).name.view() == name &&
          space_.isSubtype(reference.type(), hasChild))
        return reference.target();
    return kNoNode;
  }

  /// An optional child of the parent's type comes into being by being named.
  NodeIndex takeOptional(NodeIndex parent, const Location& location, const std::string& name, const Place& place) {
    for (NodeIndex type = space_.typeDefinition(parent); type != kNoNode; type = space_.supertype(type)) {
      const NodeIndex model = childNamed(type, name);
      if (model == kNoNode || space_.nodeClass(model) == NodeClass::ObjectType) continue;
      space::copyDeclaration(space_, parent, model, adder(parent, location, place));
      return childNamed(parent, name);
    }
    return kNoNode;
  }

  NodeIndex add(NewNode node, const Place& place) {
    if (const auto first = places_.find(node.nodeId); first != places_.end()) {
      error(place, fmt::format("'{}' is there already", node.nodeId.octets().view()),
            fmt::format("the first is at {}:{}", first->second.file, first->second.line));
      return kNoNode;
    }
    places_.emplace(node.nodeId, place);
    auto added = space_.add(std::move(node));
    if (added && access_) space_.setPermissions(*added, *access_);
    if (added) return *added;
    error(place, added.error().cause, added.error().next);
    return kNoNode;
  }

  void place(NodeIndex parent, NodeIndex node, bool isProperty, bool inType, bool isOptional) {
    const NodeIndex parentType = space_.typeDefinition(parent);
    const bool inFolder = parentType != kNoNode && space_.isSubtype(parentType, id::FolderType);
    space_.refer(parent, isProperty ? id::HasProperty : inFolder ? id::Organizes : id::HasComponent, node);
    if (inType)
      space_.refer(node, id::HasModellingRule,
                   space_.at(isOptional ? id::ModellingRule_Optional : id::ModellingRule_Mandatory));
  }

  NodeIndex addObject(NodeIndex parent, const Location& here, const std::string& name, NodeIndex type, bool inType,
                      bool isOptional, const Place& at) {
    NewNode node;
    node.nodeId = NodeId(here.ns, String(here.path));
    node.nodeClass = NodeClass::Object;
    node.browseName = {here.ns, String(name)};
    const NodeIndex added = add(std::move(node), at);
    if (added == kNoNode) return added;
    place(parent, added, false, inType, isOptional);
    space_.refer(added, id::HasTypeDefinition, type);
    space::instantiate(space_, added, type, adder(added, here, at));
    return added;
  }

  /// How copies of a type's children come into being below an instance: by the path of the instance.
  space::AddCopy adder(NodeIndex instance, const Location& location, const Place& at) {
    auto paths = std::make_shared<std::map<NodeIndex, Location>>();
    paths->emplace(instance, location);
    return [this, paths, at](NodeIndex parent, NewNode node) {
      const Location here = paths->at(parent).in(node.browseName.name.str());
      node.nodeId = NodeId(here.ns, String(here.path));
      const NodeIndex added = add(std::move(node), at);
      if (added != kNoNode) paths->emplace(added, here);
      return added;
    };
  }

  // Variables
  NodeIndex addVariable(NodeIndex parent, const Location& here, const std::string& name, NodeIndex type,
                        const Spec& spec, bool inType, bool isOptional, const Place& at) {
    const bool isVariableType = space_.nodeClass(type) == NodeClass::VariableType;
    NewNode node;
    node.nodeId = NodeId(here.ns, String(here.path));
    node.nodeClass = NodeClass::Variable;
    node.browseName = {here.ns, String(name)};
    node.traits.dataType = isVariableType ? space_.traits(type).dataType : type;
    node.traits.accessLevel =
        static_cast<std::uint8_t>(AccessLevelType::CurrentRead | (spec.isWritable ? AccessLevelType::CurrentWrite : 0));
    if (spec.dimensions) setDimensions(node, *spec.dimensions, spec.type->place);
    const bool isNumber = space_.isSubtype(node.traits.dataType, id::Number);
    if ((spec.unit || spec.range) && !isNumber)
      error(spec.unit ? spec.unit->place : spec.range->place,
            spec.unit ? fmt::format("'{}' is no word for a {}", spec.unit->text, spec.type->text)
                      : fmt::format("a {} has no range", spec.type->text),
            "units and ranges go with numbers");
    const NodeIndex added = add(std::move(node), at);
    if (added == kNoNode) return added;
    place(parent, added, spec.isProperty, inType, isOptional);
    NodeIndex definition = isVariableType ? type : space_.at(id::BaseDataVariableType);
    if (!isVariableType && spec.range) definition = space_.at(id::AnalogItemType);
    if (!isVariableType && spec.unit && !spec.range) definition = space_.at(id::AnalogUnitType);
    if (spec.isProperty) definition = space_.at(id::PropertyType);
    space_.refer(added, id::HasTypeDefinition, definition);
    if (spec.range) {
      addProperty(added, here, "EURange", id::Range, ExtensionObject::of(Range{spec.range->low, spec.range->high}), at);
      if (inType) markMandatory(added, "EURange");
    }
    if (spec.unit && isNumber) {
      if (auto unit = findUnit(spec.unit->text)) {
        addProperty(added, here, "EngineeringUnits", id::EUInformation, ExtensionObject::of(*unit), at);
        if (inType) markMandatory(added, "EngineeringUnits");
      } else {
        const std::string near = nearestUnit(spec.unit->text);
        error(spec.unit->place, fmt::format("there is no unit '{}'", spec.unit->text),
              near.empty() ? "" : fmt::format("did you mean '{}'?", near));
      }
    }
    if (isVariableType) space::instantiate(space_, added, type, adder(added, here, at));
    if (spec.initial)
      setInitial(added, *spec.initial, here);
    else
      space_.setValue(added, DataValue(Variant(), {}, status::BadWaitingForInitialData));
    return added;
  }

  void markMandatory(NodeIndex owner, const char* property) {
    space_.refer(space_.child(owner, {0, property}), id::HasModellingRule, space_.at(id::ModellingRule_Mandatory));
  }

  void setDimensions(NewNode& node, const std::string& inside, const Place& place) {
    node.traits.valueRank = 1 + static_cast<std::int32_t>(std::ranges::count(inside, ','));
    std::size_t from = 0;
    while (from <= inside.size()) {
      const auto comma = std::min(inside.find(',', from), inside.size());
      const std::string_view one = std::string_view(inside).substr(from, comma - from);
      auto length = one.empty() ? Result<Variant>(Variant(std::uint32_t{0})) : parse(one, BuiltInType::UInt32);
      if (!length)
        return error(place, fmt::format("'{}' is no array length", one), "write Double[], Double[8] or Double[2,3]");
      node.arrayDimensions.push_back(*length->get<std::uint32_t>());
      from = comma + 1;
    }
  }

  void setInitial(NodeIndex node, const Text& text, const Location& here) {
    const auto& traits = space_.traits(node);
    std::string typed = text.text;
    if (typed.size() >= 2 && typed.front() == '"' && typed.back() == '"') typed = typed.substr(1, typed.size() - 2);
    auto value = enumerationValue(traits.dataType, typed);
    if (!value) value = parse(typed, space_.builtInType(traits.dataType), traits.valueRank >= 1);
    if (!*value)
      return error(text.place,
                   fmt::format("'{}' can't be the value of {}: {}", text.text, here.path, value->error().cause),
                   value->error().next);
    double number = 0;
    const NodeIndex range = space_.child(node, {0, "EURange"});
    if (range != kNoNode && (*value)->toDouble(number)) {
      const DataValue held = space_.value(range);
      if (const auto* object = held.value.get<ExtensionObject>())
        if (auto bounds = object->as<Range>(); bounds && (number < bounds->low || number > bounds->high))
          findings_.warn(text.place,
                         fmt::format("{} starts outside its range {} to {}", here.path, bounds->low, bounds->high));
    }
    space_.setValue(node, DataValue(std::move(**value)));
  }

  /// A value of an enumeration by its name; nothing when the type is none.
  std::optional<Result<Variant>> enumerationValue(NodeIndex dataType, const std::string& name) const {
    const auto* rare = dataType == kNoNode ? nullptr : space_.rare(dataType);
    if (!rare || !rare->typeDefinition.is<EnumDefinition>()) return std::nullopt;
    auto definition = rare->typeDefinition.as<EnumDefinition>();
    if (!definition) return std::nullopt;
    std::string members;
    for (const auto& field : definition->fields) {
      if (field.name.view() == name || std::to_string(field.value) == name)
        return Result<Variant>(Variant(static_cast<std::int32_t>(field.value)));
      members += (members.empty() ? "" : ", ") + field.name.str();
    }
    return Result<Variant>(Error{status::BadTypeMismatch,
                                 fmt::format("{} has no such value", space_.browseName(dataType).name.view()),
                                 "it has: " + members});
  }

  void addProperty(NodeIndex owner, const Location& location, const char* name, StandardId dataType, Variant value,
                   const Place& at) {
    NewNode node;
    node.nodeId = NodeId(location.ns, String(location.in(name).path));
    node.nodeClass = NodeClass::Variable;
    node.browseName = {0, name};
    node.traits.dataType = space_.at(dataType);
    node.traits.valueRank = value.valueRank();
    if (value.isArray()) node.arrayDimensions = List<std::uint32_t>(1, 0u);
    node.value = std::move(value);
    const NodeIndex added = add(std::move(node), at);
    if (added == kNoNode) return;
    space_.refer(owner, id::HasProperty, added);
    space_.refer(added, id::HasTypeDefinition, space_.at(id::PropertyType));
  }

  // Methods
  void addMethod(NodeIndex parent, const Location& location, const Entry& entry, const Signature& signature,
                 bool inType) {
    Text name = signature.name;
    const bool isOptional = name.text.ends_with('?');
    if (isOptional) name = name.part(0, name.text.size() - 1);
    if (childNamed(parent, name.text) != kNoNode)
      return error(name.place, fmt::format("'{}' is there already", name.text));
    const Location here = location.in(name.text);
    NewNode node;
    node.nodeId = NodeId(here.ns, String(here.path));
    node.nodeClass = NodeClass::Method;
    node.browseName = {here.ns, String(name.text)};
    if (entry.value && !entry.value->text.empty()) node.description = LocalizedText(String(entry.value->text));
    const NodeIndex method = add(std::move(node), entry.key.place);
    if (method == kNoNode) return;
    place(parent, method, false, inType, isOptional);
    addArguments(method, here, "InputArguments", signature.inputs, inType);
    addArguments(method, here, "OutputArguments", signature.outputs, inType);
  }

  void addArguments(NodeIndex method, const Location& here, const char* property,
                    const std::vector<Signature::Argument>& arguments, bool inType) {
    std::vector<ExtensionObject> list;
    for (const auto& one : arguments) {
      const NodeIndex type = findType(one.type);
      if (type == kNoNode) continue;
      if (space_.nodeClass(type) != NodeClass::DataType) {
        error(one.type.place, fmt::format("'{}' is no data type", one.type.text),
              "arguments are values, such as Double or String");
        continue;
      }
      Argument argument;
      argument.name = one.name.text;
      argument.dataType = space_.nodeId(type);
      argument.valueRank = one.dimensions ? 1 : -1;
      if (one.dimensions) argument.arrayDimensions = List<std::uint32_t>(1, 0u);
      list.push_back(ExtensionObject::of(argument));
    }
    if (list.empty()) return;
    addProperty(method, here, property, id::Argument, Variant::array(list), arguments.front().name.place);
    if (inType) markMandatory(method, property);
  }

  Space& space_;
  Findings& findings_;
  std::map<const Entry*, std::uint16_t> namespaces_;
  std::map<std::string, TypeDeclaration> types_;
  std::map<std::string, NodeIndex> standardTypes_;
  std::unordered_map<NodeId, Place> places_;
  const std::map<std::string, NodeId>& siteRoles_;
  std::optional<space::PermissionSet> access_;  // of what is being added; the namespace's when there is none
};

}  // namespace

void build(Space& space, const std::vector<ModelFile>& files, Findings& findings,
           const std::map<std::string, NodeId>& siteRoles) {
  std::vector<Entry> roots;
  for (const auto& file : files) roots.push_back(readYaml(file.name, file.text, findings));
  Builder(space, findings, siteRoles).run(roots);
  findings.sort();
}

}  // namespace zunth::model
