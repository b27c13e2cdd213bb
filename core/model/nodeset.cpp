#include "core/model/nodeset.hpp"

#include "core/ua/text.hpp"
#include "core/ua/xml.hpp"

#include <algorithm>
#include <charconv>
#include <map>
#include <sstream>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;
using space::Space;

namespace {

constexpr const char* kNodeSetXml = "http://opcfoundation.org/UA/2011/03/UANodeSet.xsd";

struct ClassName {
  const char* element;
  NodeClass nodeClass;
};
constexpr ClassName kClasses[] = {{"UAObject", NodeClass::Object},
                                  {"UAVariable", NodeClass::Variable},
                                  {"UAMethod", NodeClass::Method},
                                  {"UAObjectType", NodeClass::ObjectType},
                                  {"UAVariableType", NodeClass::VariableType},
                                  {"UAReferenceType", NodeClass::ReferenceType},
                                  {"UADataType", NodeClass::DataType},
                                  {"UAView", NodeClass::View}};

NodeClass classOf(std::string_view element) {
  for (const auto& known : kClasses)
    if (element == known.element) return known.nodeClass;
  return NodeClass::Unspecified;
}

/// Changes the namespace indexes of ids and names inside a value, as from a file's to a space's.
class Renumber {
 public:
  explicit Renumber(std::function<std::uint16_t(std::uint16_t)> index) : index_(std::move(index)) {}

  NodeId operator()(const NodeId& id) const { return id.inNamespace(index_(id.namespaceIndex())); }
  QualifiedName operator()(const QualifiedName& name) const { return {index_(name.namespaceIndex), name.name}; }
  ExpandedNodeId operator()(const ExpandedNodeId& id) const {
    ExpandedNodeId out = id;
    if (id.namespaceUri.isNull()) out.nodeId = (*this)(id.nodeId);
    return out;
  }
  ExtensionObject operator()(const ExtensionObject& object) const {
    // Of the standard's structures, these stand in values of models and name types.
    if (auto argument = object.as<Argument>()) {
      argument->dataType = (*this)(argument->dataType);
      return ExtensionObject::of(std::move(*argument));
    }
    if (object.encodingId().namespaceIndex() == 0 || object.body() == ExtensionObject::Body::None) return object;
    const NodeId id = (*this)(object.encodingId());
    return object.body() == ExtensionObject::Body::Xml
               ? ExtensionObject::xml(id, XmlElement(object.octets().view()))
               : ExtensionObject::binary(id, ByteString(object.octets().bytes()));
  }
  Variant operator()(const Variant& value) const {
    switch (value.type()) {
      case BuiltInType::NodeId: return each<NodeId>(value);
      case BuiltInType::ExpandedNodeId: return each<ExpandedNodeId>(value);
      case BuiltInType::QualifiedName: return each<QualifiedName>(value);
      case BuiltInType::ExtensionObject: return each<ExtensionObject>(value);
      case BuiltInType::Variant: return each<Variant>(value);
      default: return value;
    }
  }

 private:
  template <class T>
  Variant each(const Variant& value) const {
    if (!value.isArray()) {
      if constexpr (std::is_same_v<T, Variant>)
        return value;
      else
        return Variant((*this)(*value.get<T>()));
    }
    const auto items = value.items<T>();
    FixedArray<T> out(items.size());
    for (std::size_t i = 0; i < items.size(); ++i) out[i] = (*this)(items[i]);
    const auto dimensions = value.dimensions();
    return Variant::array(std::move(out), std::vector<std::uint32_t>(dimensions.begin(), dimensions.end()));
  }
  std::function<std::uint16_t(std::uint16_t)> index_;
};

class NodeSetReader {
 public:
  NodeSetReader(Space& space, const ModelFile& file, Findings& findings)
      : space_(space),
        file_(file),
        findings_(findings),
        renumber_([this](std::uint16_t index) { return index < namespaces_.size() ? namespaces_[index] : index; }) {}

  void run() {
    pugi::xml_document document;
    const auto parsed = document.load_buffer(file_.text.data(), file_.text.size());
    if (!parsed)
      return findings_.error(placeAt(parsed.offset), fmt::format("the file is no sound XML: {}", parsed.description()));
    const pugi::xml_node root = document.child("UANodeSet");
    if (!root)
      return findings_.error(placeAt(0), "the file is no NodeSet2: it has no <UANodeSet>",
                             "model files are YAML (*.yaml) or NodeSet2 (*.xml)");
    readNamespaces(root);
    if (findings_.hasErrors()) return;
    for (const auto alias : root.child("Aliases").children("Alias"))
      aliases_[alias.attribute("Alias").value()] = alias.text().get();
    std::vector<std::pair<pugi::xml_node, NodeIndex>> added;
    for (const auto element : root.children())
      if (const auto nodeClass = classOf(element.name()); nodeClass != NodeClass::Unspecified)
        if (const auto node = add(element, nodeClass); node != kNoNode) added.emplace_back(element, node);
    for (const auto& [element, node] : added) refer(element, node);
    // Types of fields and values are looked for when all are there.
    for (const auto& [element, node] : added) complete(element, node);
  }

 private:
  Place placeAt(std::ptrdiff_t offset) const {
    const auto at =
        static_cast<std::size_t>(std::clamp<std::ptrdiff_t>(offset, 0, static_cast<std::ptrdiff_t>(file_.text.size())));
    const std::string_view before = std::string_view(file_.text).substr(0, at);
    const auto line = static_cast<std::size_t>(std::ranges::count(before, '\n')) + 1;
    const auto start = before.rfind('\n');
    const auto column = start == std::string_view::npos ? at + 1 : at - start;
    return {file_.name, line, column, 1};
  }
  Place placeOf(pugi::xml_node node) const { return placeAt(node.offset_debug()); }

  void readNamespaces(pugi::xml_node root) {
    namespaces_ = {0};
    for (const auto uri : root.child("NamespaceUris").children("Uri"))
      namespaces_.push_back(space_.addNamespace(String(uri.text().get())));
    for (const auto model : root.child("Models").children("Model"))
      for (const auto required : model.children("RequiredModel")) {
        const std::string uri = required.attribute("ModelUri").value();
        const auto index = space_.namespaceIndex(uri);
        const bool isThere = index.has_value() && (*index == 0 || hasNodes(*index));
        if (!isThere)
          findings_.error(placeOf(required), fmt::format("the model {} is required, and it isn't there", uri),
                          "put its NodeSet2 file into model/, before this one in the order of names");
      }
  }
  bool hasNodes(std::uint16_t ns) const {
    for (NodeIndex node = 0; node < space_.rows(); ++node)
      if (space_.exists(node) && space_.nodeId(node).namespaceIndex() == ns) return true;
    return false;
  }

  /// An id as the file has it or by an alias; null when it is none, which is reported.
  NodeId idOf(pugi::xml_node where, std::string_view text) {
    while (!text.empty() && std::isspace(static_cast<unsigned char>(text.front()))) text.remove_prefix(1);
    while (!text.empty() && std::isspace(static_cast<unsigned char>(text.back()))) text.remove_suffix(1);
    if (const auto alias = aliases_.find(text); alias != aliases_.end()) text = alias->second;
    auto id = NodeId::parse(text);
    if (!id) {
      findings_.error(placeOf(where), fmt::format("'{}' is neither a node id nor an alias", text));
      return {};
    }
    if (id->namespaceIndex() >= namespaces_.size()) {
      findings_.error(placeOf(where), fmt::format("{} is of a namespace that the file doesn't list", text));
      return {};
    }
    return renumber_(*id);
  }

  NodeIndex add(pugi::xml_node element, NodeClass nodeClass) {
    NewNode node;
    node.nodeId = idOf(element, element.attribute("NodeId").value());
    if (node.nodeId.isNull()) return kNoNode;
    node.nodeClass = nodeClass;
    node.browseName = renumber_(QualifiedName::parse(element.attribute("BrowseName").value()));
    node.displayName = textOf(element.child("DisplayName"));
    node.description = textOf(element.child("Description"));
    node.isAbstract = element.attribute("IsAbstract").as_bool();
    node.isSymmetric = element.attribute("Symmetric").as_bool();
    node.inverseName = textOf(element.child("InverseName"));
    node.eventNotifier = static_cast<std::uint8_t>(element.attribute("EventNotifier").as_uint());
    node.executable = element.attribute("Executable").as_bool(true);
    node.containsNoLoops = element.attribute("ContainsNoLoops").as_bool();
    node.traits.valueRank = element.attribute("ValueRank").as_int(-1);
    node.traits.accessLevel = static_cast<std::uint8_t>(element.attribute("AccessLevel").as_uint(1));
    node.traits.historizing = element.attribute("Historizing").as_bool();
    node.traits.minimumSamplingInterval = element.attribute("MinimumSamplingInterval").as_float();
    for (std::string_view rest = element.attribute("ArrayDimensions").value(); !rest.empty();) {
      const auto comma = std::min(rest.find(','), rest.size());
      std::uint32_t length = 0;
      std::from_chars(rest.data(), rest.data() + comma, length);
      node.arrayDimensions.push_back(length);
      rest.remove_prefix(std::min(comma + 1, rest.size()));
    }
    auto added = space_.add(std::move(node));
    if (!added) {
      findings_.error(placeOf(element), added.error().cause, added.error().next);
      return kNoNode;
    }
    return *added;
  }
  static LocalizedText textOf(pugi::xml_node node) {
    if (!node) return {};
    const std::string locale = node.attribute("Locale").value();
    return LocalizedText(String(node.text().get()), locale.empty() ? String() : String(locale));
  }

  void refer(pugi::xml_node element, NodeIndex node) {
    for (const auto reference : element.child("References").children("Reference")) {
      const auto type = space_.find(idOf(reference, reference.attribute("ReferenceType").value()));
      const NodeId otherId = idOf(reference, reference.text().get());
      const auto other = space_.find(otherId);
      if (type == kNoNode || other == kNoNode) {
        if (!otherId.isNull())
          findings_.error(placeOf(reference),
                          other == kNoNode ? fmt::format("there is no node {} to refer to", reference.text().get())
                                           : fmt::format("there is no reference type {}",
                                                         reference.attribute("ReferenceType").value()),
                          "is a file of another model missing?");
        continue;
      }
      if (reference.attribute("IsForward").as_bool(true))
        space_.refer(node, type, other);
      else
        space_.refer(other, type, node);
    }
  }

  void complete(pugi::xml_node element, NodeIndex node) {
    const auto nodeClass = space_.nodeClass(node);
    if (nodeClass == NodeClass::Variable || nodeClass == NodeClass::VariableType) {
      const auto dataType = element.attribute("DataType");
      space_.traits(node).dataType =
          dataType ? space_.find(idOf(element, dataType.value())) : space_.at(id::BaseDataType);
      if (space_.traits(node).dataType == kNoNode)
        findings_.error(placeOf(element), fmt::format("there is no data type {}", dataType.value()));
      if (const auto value = element.child("Value")) readValue(value, node);
    }
    if (const auto definition = element.child("Definition")) readDefinition(definition, node);
    if (const auto permissions = element.child("RolePermissions")) {
      space::PermissionSet set;
      for (const auto one : permissions.children("RolePermission"))
        set.roles.push_back({idOf(one, one.text().get()), one.attribute("Permissions").as_uint()});
      set.restrictions = static_cast<std::uint16_t>(element.attribute("AccessRestrictions").as_uint());
      space_.setPermissions(node, std::move(set));
    }
  }

  void readValue(pugi::xml_node element, NodeIndex node) {
    pugi::xml_node content;
    for (const auto child : element.children())
      if (child.type() == pugi::node_element && !content) content = child;
    auto value = variantFromXml(content);
    if (!value) return findings_.error(placeOf(element), value.error().cause);
    const Variant renumbered = renumber_(*value);
    if (!renumbered.isNull() && !space_.accepts(space_.traits(node), renumbered))
      findings_.warn(placeOf(element), fmt::format("the value of {} is no {}", space_.path(node),
                                                   space_.browseName(space_.traits(node).dataType).name.view()));
    space_.setValue(node, DataValue(renumbered));
  }

  void readDefinition(pugi::xml_node definition, NodeIndex node) {
    const bool isEnum = space_.isSubtype(node, id::Enumeration) || definition.attribute("IsOptionSet").as_bool();
    if (isEnum) {
      EnumDefinition out;
      for (const auto field : definition.children("Field"))
        out.fields.push_back({field.attribute("Value").as_llong(-1), nameOrText(field),
                              textOf(field.child("Description")), String(field.attribute("Name").value())});
      space_.rareOf(node).typeDefinition = ExtensionObject::of(std::move(out));
      return;
    }
    StructureDefinition out;
    const auto super = space_.supertype(node);
    if (super != kNoNode) out.baseDataType = space_.nodeId(super);
    for (const auto& reference : space_.references(node))
      if (reference.isForward() && space_.nodeId(reference.type()).is(id::HasEncoding) &&
          space_.browseName(reference.target()).name.view() == "Default Binary")
        out.defaultEncodingId = space_.nodeId(reference.target());
    bool anyOptional = false;
    for (const auto field : definition.children("Field")) {
      StructureField one;
      one.name = String(field.attribute("Name").value());
      one.description = textOf(field.child("Description"));
      const auto type = field.attribute("DataType");
      one.dataType = type ? idOf(field, type.value()) : NodeId(id::BaseDataType);
      one.valueRank = field.attribute("ValueRank").as_int(-1);
      if (one.valueRank > 0)
        one.arrayDimensions = List<std::uint32_t>(static_cast<std::size_t>(std::min(one.valueRank, 10)), 0u);
      one.maxStringLength = field.attribute("MaxStringLength").as_uint();
      one.isOptional = field.attribute("IsOptional").as_bool();
      anyOptional |= one.isOptional;
      out.fields.push_back(std::move(one));
    }
    out.structureType = definition.attribute("IsUnion").as_bool() ? StructureType::Union
                        : anyOptional                             ? StructureType::StructureWithOptionalFields
                                                                  : StructureType::Structure;
    space_.rareOf(node).typeDefinition = ExtensionObject::of(std::move(out));
  }
  static LocalizedText nameOrText(pugi::xml_node field) {
    auto shown = textOf(field.child("DisplayName"));
    return shown.text.isNull() ? LocalizedText(String(field.attribute("Name").value())) : shown;
  }

  Space& space_;
  const ModelFile& file_;
  Findings& findings_;
  std::vector<std::uint16_t> namespaces_{0};  // the space's index by the file's
  std::map<std::string, std::string, std::less<>> aliases_;
  Renumber renumber_;
};

class NodeSetWriter {
 public:
  NodeSetWriter(const Space& space, std::span<const std::uint16_t> namespaces)
      : space_(space), renumber_([this](std::uint16_t index) { return fileIndex(index); }) {
    for (const auto ns : namespaces) {
      wanted_.push_back(ns);
      fileIndex(ns);
    }
  }

  std::string text() {
    pugi::xml_document document;
    auto declaration = document.append_child(pugi::node_declaration);
    declaration.append_attribute("version") = "1.0";
    declaration.append_attribute("encoding") = "utf-8";
    auto root = document.append_child("UANodeSet");
    root.append_attribute("xmlns") = kNodeSetXml;
    auto uris = root.append_child("NamespaceUris");
    auto models = root.append_child("Models");
    for (NodeIndex node = 0; node < space_.rows(); ++node)
      if (space_.exists(node) && isWanted(node)) write(root, node);
    for (const auto ns : listed_) uris.append_child("Uri").text().set(text(space_.namespaces()[ns]).c_str());
    for (const auto ns : wanted_) {
      auto model = models.append_child("Model");
      model.append_attribute("ModelUri") = text(space_.namespaces()[ns]).c_str();
      model.append_child("RequiredModel").append_attribute("ModelUri") = text(space_.namespaces()[0]).c_str();
      for (const auto other : listed_)
        if (std::ranges::find(wanted_, other) == wanted_.end())
          model.append_child("RequiredModel").append_attribute("ModelUri") = text(space_.namespaces()[other]).c_str();
    }
    std::ostringstream out;
    document.save(out, "  ");
    return std::move(out).str();
  }

 private:
  static std::string text(const Octets& octets) { return std::string(octets.view()); }
  bool isWanted(NodeIndex node) const {
    return std::ranges::find(wanted_, space_.nodeId(node).namespaceIndex()) != wanted_.end();
  }
  /// Namespaces are listed as they are met.
  std::uint16_t fileIndex(std::uint16_t ns) {
    if (ns == 0) return 0;
    const auto found = std::ranges::find(listed_, ns);
    if (found != listed_.end()) return static_cast<std::uint16_t>(found - listed_.begin() + 1);
    listed_.push_back(ns);
    return static_cast<std::uint16_t>(listed_.size());
  }
  std::string idText(NodeIndex node) { return renumber_(space_.nodeId(node)).text(); }

  void put(pugi::xml_node parent, const char* name, const LocalizedText& words) {
    if (words.text.isNull()) return;
    auto node = parent.append_child(name);
    if (!words.locale.empty()) node.append_attribute("Locale") = text(words.locale).c_str();
    node.text().set(text(words.text).c_str());
  }

  void write(pugi::xml_node root, NodeIndex node) {
    const auto nodeClass = space_.nodeClass(node);
    const auto* known = std::ranges::find(kClasses, nodeClass, &ClassName::nodeClass);
    if (known == std::end(kClasses)) return;
    auto element = root.append_child(known->element);
    element.append_attribute("NodeId") = idText(node).c_str();
    element.append_attribute("BrowseName") = renumber_(space_.browseName(node)).text().c_str();
    if (const auto parent = space_.parent(node); parent != kNoNode && nodeClass != NodeClass::DataType)
      element.append_attribute("ParentNodeId") = idText(parent).c_str();
    if (space_.isAbstract(node)) element.append_attribute("IsAbstract") = true;
    if (space_.isSymmetric(node)) element.append_attribute("Symmetric") = true;
    if (space_.eventNotifier(node)) element.append_attribute("EventNotifier") = space_.eventNotifier(node);
    if (nodeClass == NodeClass::Method && !space_.isExecutable(node)) element.append_attribute("Executable") = false;
    if (space_.containsNoLoops(node)) element.append_attribute("ContainsNoLoops") = true;
    const bool hasValue = nodeClass == NodeClass::Variable || nodeClass == NodeClass::VariableType;
    const auto* rare = space_.rare(node);
    if (hasValue) writeTraits(element, node, rare);
    const auto& permissions = space_.permissionSets()[space_.permissionSet(node)];
    const bool hasOwn = !(permissions == space::usualPermissions());
    if (hasOwn && permissions.restrictions) element.append_attribute("AccessRestrictions") = permissions.restrictions;
    put(element, "DisplayName", space_.displayName(node));
    if (rare) put(element, "Description", rare->description);
    writeReferences(element, node);
    if (hasOwn) {
      auto list = element.append_child("RolePermissions");
      for (const auto& role : permissions.roles) {
        auto one = list.append_child("RolePermission");
        one.append_attribute("Permissions") = role.permissions;
        one.text().set(renumber_(role.roleId).text().c_str());
      }
    }
    if (rare) put(element, "InverseName", rare->inverseName);
    if (rare && !rare->typeDefinition.isNull()) writeDefinition(element, node, rare->typeDefinition);
    if (!hasValue || space_.hasSource(node)) return;
    if (const Variant value = space_.value(node).value; !value.isNull())
      writeValue(element.append_child("Value"), renumber_(value));
  }

  static void writeValue(pugi::xml_node at, const Variant& value) {
    toXml(at, value);
    for (auto content : at.children()) content.append_attribute("xmlns") = std::string(kXmlTypes).c_str();
  }

  void writeTraits(pugi::xml_node element, NodeIndex node, const space::RareAttributes* rare) {
    const auto& traits = space_.traits(node);
    if (traits.dataType != kNoNode) element.append_attribute("DataType") = idText(traits.dataType).c_str();
    if (traits.valueRank != -1) element.append_attribute("ValueRank") = traits.valueRank;
    if (rare && !rare->arrayDimensions.empty())
      element.append_attribute("ArrayDimensions") = fmt::format("{}", fmt::join(rare->arrayDimensions, ",")).c_str();
    if (space_.nodeClass(node) != NodeClass::Variable) return;
    if (traits.accessLevel != 1) element.append_attribute("AccessLevel") = traits.accessLevel;
    if (traits.historizing) element.append_attribute("Historizing") = true;
    if (traits.minimumSamplingInterval != 0)
      element.append_attribute("MinimumSamplingInterval") = static_cast<double>(traits.minimumSamplingInterval);
  }

  /// Each reference once: at its source, or at its target when the source is of another model.
  void writeReferences(pugi::xml_node element, NodeIndex node) {
    auto list = element.append_child("References");
    for (const auto& reference : space_.references(node)) {
      if (!reference.isForward() && isWanted(reference.target())) continue;
      // What comes and goes with the service, as sessions do, is no part of a model.
      if (reference.isForward() && space_.nodeId(reference.target()).namespaceIndex() == 1 &&
          !isWanted(reference.target()))
        continue;
      auto one = list.append_child("Reference");
      one.append_attribute("ReferenceType") = idText(reference.type()).c_str();
      if (!reference.isForward()) one.append_attribute("IsForward") = false;
      one.text().set(idText(reference.target()).c_str());
    }
  }

  void writeDefinition(pugi::xml_node element, NodeIndex node, const ExtensionObject& object) {
    auto definition = element.append_child("Definition");
    definition.append_attribute("Name") = renumber_(space_.browseName(node)).text().c_str();
    if (auto members = object.as<EnumDefinition>()) {
      if (!space_.isSubtype(node, id::Enumeration)) definition.append_attribute("IsOptionSet") = true;
      for (const auto& member : members->fields) {
        auto field = definition.append_child("Field");
        field.append_attribute("Name") = text(member.name).c_str();
        field.append_attribute("Value") = static_cast<long long>(member.value);
        if (!(member.displayName.text == member.name)) put(field, "DisplayName", member.displayName);
        put(field, "Description", member.description);
      }
      return;
    }
    auto structure = object.as<StructureDefinition>();
    if (!structure) return;
    if (structure->structureType == StructureType::Union) definition.append_attribute("IsUnion") = true;
    for (const auto& each : structure->fields) {
      auto field = definition.append_child("Field");
      field.append_attribute("Name") = text(each.name).c_str();
      field.append_attribute("DataType") = renumber_(each.dataType).text().c_str();
      if (each.valueRank != -1) field.append_attribute("ValueRank") = each.valueRank;
      if (each.maxStringLength) field.append_attribute("MaxStringLength") = each.maxStringLength;
      if (each.isOptional) field.append_attribute("IsOptional") = true;
      put(field, "Description", each.description);
    }
  }

  const Space& space_;
  std::vector<std::uint16_t> wanted_;
  std::vector<std::uint16_t> listed_;  // the space's index of each namespace of the file
  Renumber renumber_;
};

}  // namespace

void readNodeSet(Space& space, const ModelFile& file, Findings& findings) {
  NodeSetReader(space, file, findings).run();
}

std::string writeNodeSet(const Space& space, std::span<const std::uint16_t> namespaces) {
  return NodeSetWriter(space, namespaces).text();
}

}  // namespace zunth::model
