#include "core/model/nodeset.hpp"
#include "core/model/nodeset_parts.hpp"
#include "core/model/nodeset_split.hpp"
#include "core/model/utf8.hpp"
#include "core/space/type_catalog.hpp"
#include "core/ua/text.hpp"
#include "core/ua/xml.hpp"

#include <algorithm>
#include <charconv>
#include <set>
#include <unordered_map>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::ModelInfo;
using space::NewNode;
using space::NodeIndex;
using space::Space;

namespace {

NodeClass classOf(std::string_view element) {
  for (const auto& known : kClasses)
    if (element == known.element) return known.nodeClass;
  return NodeClass::Unspecified;
}

String extrasOf(pugi::xml_node element) {
  bool any = false;
  for (const char* name : kExtraAttributes) any |= static_cast<bool>(element.attribute(name));
  for (const char* name : kExtraElements) any |= static_cast<bool>(element.child(name));
  if (!any) return {};
  pugi::xml_document document;
  auto extras = document.append_child("Extras");
  for (const char* name : kExtraAttributes)
    if (const auto attribute = element.attribute(name)) extras.append_copy(attribute);
  for (const char* name : kExtraElements)
    for (const auto child : element.children(name)) extras.append_copy(child);
  return String(xmlOf(extras));
}

struct TextHash {
  using is_transparent = void;
  std::size_t operator()(std::string_view text) const { return std::hash<std::string_view>()(text); }
};

class NodeSetReader {
 public:
  NodeSetReader(Space& space, const ModelFile& file, Findings& findings)
      : space_(space),
        file_(file),
        findings_(findings),
        hasTypeDefinition_(space.at(id::HasTypeDefinition)),
        hasModellingRule_(space.at(id::HasModellingRule)),
        renumber_([this](std::uint16_t index) { return index < namespaces_.size() ? namespaces_[index] : index; }) {}

  void run() {
    if (!checkUtf8(file_.name, file_.text, findings_)) return;
    const auto split = splitNodeSet(file_.text);
    pugi::xml_document head;  // aliases point into it
    // What is split off is read on its own: the root is closed for it.
    const std::string closed = split ? std::string(split->head) + "</UANodeSet>" : std::string();
    const std::string_view text = split ? std::string_view(closed) : std::string_view(file_.text);
    if (!load(head, headBuffer_, text, pugi::parse_default)) return;
    const pugi::xml_node root = head.child("UANodeSet");
    if (!root)
      return findings_.error(placeAt(0), "the file is no NodeSet2: it has no <UANodeSet>",
                             "model files are YAML (*.yaml) or NodeSet2 (*.xml)");
    readNamespaces(root);
    if (findings_.hasErrors()) return;
    addAll(root);
    if (split)
      for (const auto piece : split->pieces) {
        pugi::xml_document document;
        base_ = static_cast<std::size_t>(piece.data() - file_.text.data());
        if (!load(document, pieceBuffer_, piece, pugi::parse_default | pugi::parse_fragment)) return;
        addAll(document);
        resolve();
      }
    finish();
  }

 private:
  /// A node that many name, by the text that names it: types, rules, types of references.
  struct Named {
    NodeIndex node = kNoNode;
    bool isId = true;  // else the text is none, which was told
  };
  /// What can only be done when all nodes are there.
  struct LaterReference {
    NodeIndex node;
    Named *type, *named;  // one that many name, or
    NodeId other;         // one by its id
    bool isForward;
    std::size_t offset;
    NodeIndex found = kNoNode;  // the node of that id, once it is there
  };
  struct LaterXml {
    NodeIndex node;
    std::string xml;
    std::size_t offset;
  };

  /// The document points into `buffer`, which is the reader's own and serves the next piece again.
  bool load(pugi::xml_document& document, std::string& buffer, std::string_view text, unsigned options) {
    buffer.assign(text);
    const auto parsed = document.load_buffer_inplace(buffer.data(), buffer.size(), options);
    if (!parsed)
      findings_.error(placeAt(parsed.offset), fmt::format("the file is no sound XML: {}", parsed.description()));
    return static_cast<bool>(parsed);
  }

  void addAll(pugi::xml_node parent) {
    for (const auto xml : parent.children())
      if (const auto nodeClass = classOf(xml.name()); nodeClass != NodeClass::Unspecified) add(xml, nodeClass);
  }

  /// Finds what the references of a piece lead to, as far as it has come: most of it is in the same piece, and still in
  /// the processor's caches.
  void resolve() {
    for (; resolved_ < references_.size(); ++resolved_)
      if (auto& reference = references_[resolved_]; !reference.named) reference.found = space_.find(reference.other);
  }

  /// When all nodes are there: references, then types, then values, which need them.
  void finish() {
    for (auto& [text, named] : named_)
      if (named.node == kNoNode && named.isId) named.node = space_.find(idOf({}, text));
    for (const auto& reference : references_) refer(reference);
    references_ = {};
    refuseCycles();
    for (const auto& [node, type, offset] : dataTypes_) {
      space_.traits(node).dataType = type ? type->node : space_.at(id::BaseDataType);
      if (space_.traits(node).dataType == kNoNode)
        findings_.error(placeAtOffset(offset), fmt::format("there is no data type {}", textOf(*type)));
    }
    for (const auto& later : definitions_) {
      pugi::xml_document document;
      document.load_string(later.xml.c_str());
      base_ = later.offset;
      readDefinition(document.first_child(), later.node);
    }
    if (!definitions_.empty()) inheritFields();
    catalog_ = space::typeCatalog(space_);
    for (const auto& later : values_) {
      pugi::xml_document document;
      document.load_string(later.xml.c_str());
      auto value = variantFromXml(document.first_child(), catalog_);
      if (value)
        space_.setValue(later.node, DataValue(std::move(*value)));
      else
        findings_.error(placeAtOffset(later.offset), value.error().cause);
    }
    for (const auto& [node, offset] : valued_) {
      const Variant value = space_.value(node).value;
      if (!value.isNull() && !space_.accepts(space_.traits(node), value))
        findings_.warn(placeAtOffset(offset), fmt::format("the value of {} is no {}", space_.path(node),
                                                          space_.name(space_.traits(node).dataType)));
    }
  }
  /// A type that is its own supertype, be it through others, would never end.
  void refuseCycles() {
    for (const NodeIndex node : added_) {
      if (space_.supertype(node) == kNoNode) continue;
      NodeIndex slow = node, fast = node;
      do {
        slow = space_.supertype(slow);
        fast = space_.supertype(fast);
        if (fast != kNoNode) fast = space_.supertype(fast);
      } while (fast != kNoNode && slow != fast);
      if (fast == kNoNode) continue;
      findings_.error(placeAtOffset(0), fmt::format("the type {} is its own supertype", space_.name(node)),
                      "look at its HasSubtype references, and at those of the types above");
      // Cut here, so that nothing goes round in it.
      space_.unrefer(space_.supertype(node), space_.at(id::HasSubtype), node);
    }
  }
  const std::string& textOf(const Named& wanted) const {
    return std::ranges::find_if(named_, [&](const auto& entry) { return &entry.second == &wanted; })->first;
  }

  Place placeAt(std::ptrdiff_t offsetInPiece) {
    return placeAtOffset(base_ + static_cast<std::size_t>(std::max<std::ptrdiff_t>(offsetInPiece, 0)));
  }
  Place placeAtOffset(std::size_t offset) {
    const auto at = std::min(offset, file_.text.size());
    if (lineStarts_.empty()) {
      lineStarts_.push_back(0);
      for (std::size_t i = 0; i < file_.text.size(); ++i)
        if (file_.text[i] == '\n') lineStarts_.push_back(i + 1);
    }
    const auto next = std::ranges::upper_bound(lineStarts_, at);
    return {file_.name, static_cast<std::size_t>(next - lineStarts_.begin()), at - *(next - 1) + 1, 1};
  }
  std::size_t offsetOf(pugi::xml_node node) const {
    return base_ + static_cast<std::size_t>(std::max<std::ptrdiff_t>(node.offset_debug(), 0));
  }
  Place placeOf(pugi::xml_node node) { return placeAtOffset(offsetOf(node)); }

  static DateTime timeOf(pugi::xml_attribute attribute) {
    const auto time = DateTime::parse(attribute.value());
    return time ? *time : DateTime();
  }

  void readNamespaces(pugi::xml_node root) {
    namespaces_ = {0};
    for (const auto uri : root.child("NamespaceUris").children("Uri"))
      namespaces_.push_back(space_.addNamespace(String(uri.text().get())));
    for (const auto alias : root.child("Aliases").children("Alias"))
      aliases_[alias.attribute("Alias").value()] = idOf(alias, alias.text().get());
    for (const auto model : root.child("Models").children("Model")) {
      ModelInfo info;
      info.version = String(model.attribute("Version").value());
      info.published = timeOf(model.attribute("PublicationDate"));
      const bool isFirst = model == root.child("Models").first_child();
      if (const auto extensions = root.child("Extensions"); extensions && isFirst)
        info.nodeSetExtras = String(xmlOf(extensions));
      for (const auto required : model.children("RequiredModel")) {
        const std::string uri = required.attribute("ModelUri").value();
        info.required.push_back({String(uri), String(required.attribute("Version").value()),
                                 timeOf(required.attribute("PublicationDate"))});
        if (const auto there = space_.namespaceIndex(uri)) checkVersion(required, info.required.back(), *there);
        const auto index = space_.namespaceIndex(uri);
        const bool isThere = root.child("Models").find_child_by_attribute("Model", "ModelUri", uri.c_str()) ||
                             (index.has_value() && (*index == 0 || hasNodes(*index)));
        if (!isThere)
          findings_.error(placeOf(required), fmt::format("the model {} is required, and it isn't there", uri),
                          "put its NodeSet2 file into model/, before this one in the order of names");
      }
      info.modelVersion = String(model.attribute("ModelVersion").value());
      info.xmlSchemaUri = String(model.attribute("XmlSchemaUri").value());
      const auto ns = space_.addNamespace(String(model.attribute("ModelUri").value()));
      if (ns < 2)
        findings_.error(placeOf(model),
                        fmt::format("{} is {} own namespace", space_.namespaces()[ns].view(),
                                    ns == 0 ? "the standard's" : "the server's"),
                        "a model has one of its own");
      space_.setModelInfo(ns, std::move(info));
      auto usual = space_.namespacePermissions(ns);
      if (const auto roles = model.child("RolePermissions")) usual.roles = rolesOf(roles);
      if (const auto restrictions = model.attribute("AccessRestrictions"))
        usual.restrictions = static_cast<std::uint16_t>(restrictions.as_uint());
      space_.setNamespacePermissions(ns, std::move(usual));
    }
  }
  /// A model that is there must be as new as the one that is asked for (Part 6, F.5).
  void checkVersion(pugi::xml_node where, const ModelInfo::Required& required, std::uint16_t ns) {
    const auto& there = space_.modelInfo(ns);
    if (required.published.isNull() || there.published.isNull() || there.published >= required.published) return;
    findings_.error(placeOf(where),
                    fmt::format("the model {} is required as of {}, and the one that is there is of {}",
                                required.uri.view(), required.published.text(), there.published.text()),
                    "put a newer one in its place");
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
    if (const auto alias = aliases_.find(text); alias != aliases_.end()) return alias->second;
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

  // One pass over attributes and children: a million nodes have ten of each.
  void add(pugi::xml_node xml, NodeClass nodeClass) {
    NewNode node;
    node.nodeClass = nodeClass;
    pugi::xml_attribute dataType;
    std::optional<std::uint16_t> restrictions;
    bool hasNoPermissions = false;
    bool hasExtras = false;
    for (const auto attribute : xml.attributes()) {
      const std::string_view name = attribute.name();
      if (name == "NodeId")
        node.nodeId = idOf(xml, attribute.value());
      else if (name == "DataType")
        dataType = attribute;
      else if (name == "AccessRestrictions")
        restrictions = static_cast<std::uint16_t>(attribute.as_uint());
      else if (name == "HasNoPermissions")
        hasNoPermissions = attribute.as_bool();
      else
        hasExtras |= !readAttribute(attribute, name, node);
    }
    if (node.nodeId.isNull()) {
      if (!xml.attribute("NodeId")) findings_.error(placeOf(xml), "the node has no NodeId");
      return;
    }
    pugi::xml_node references, value, definition, permissions;
    std::vector<LocalizedText> displayNames, descriptions;
    for (const auto child : xml.children()) {
      const std::string_view name = child.name();
      if (name == "References")
        references = child;
      else if (name == "DisplayName")
        displayNames.push_back(textOf(child));
      else if (name == "Description")
        descriptions.push_back(textOf(child));
      else if (name == "Value")
        value = child;
      else if (name == "Definition")
        definition = child;
      else if (name == "RolePermissions")
        permissions = child;
      else if (name == "InverseName")
        node.inverseName = textOf(child);
      else
        hasExtras |= child.type() == pugi::node_element;
    }
    if (displayNames.size() == 1) node.displayName = std::move(displayNames.front());
    if (descriptions.size() == 1) node.description = std::move(descriptions.front());
    auto added = space_.add(std::move(node));
    if (!added) {
      findings_.error(placeOf(xml), added.error().cause, added.error().next);
      return;
    }
    if (displayNames.size() > 1) space_.setDisplayNames(*added, std::move(displayNames));
    if (descriptions.size() > 1) space_.setDescriptions(*added, std::move(descriptions));
    if (hasExtras)
      if (auto extras = extrasOf(xml); !extras.empty()) space_.rareOf(*added).nodeSetExtras = std::move(extras);
    added_.push_back(*added);
    for (const auto reference : references.children("Reference")) remember(reference, *added);
    if (nodeClass == NodeClass::Variable || nodeClass == NodeClass::VariableType) {
      dataTypes_.push_back({*added, dataType ? &named(xml, dataType.value()) : nullptr, offsetOf(xml)});
      if (value) readValue(value, *added);
    }
    if (definition) definitions_.push_back({*added, xmlOf(definition), offsetOf(definition)});
    // What a node doesn't say is as the model says of all its nodes (Part 6, F.5).
    if (permissions || restrictions || hasNoPermissions) {
      auto set = space_.permissionSets()[space_.permissionSet(*added)];
      if (permissions || hasNoPermissions) set.roles = rolesOf(permissions);
      if (restrictions) set.restrictions = *restrictions;
      space_.setPermissions(*added, std::move(set));
    }
  }
  std::vector<RolePermissionType> rolesOf(pugi::xml_node permissions) {
    std::vector<RolePermissionType> roles;
    for (const auto one : permissions.children("RolePermission"))
      roles.push_back({idOf(one, one.text().get()), one.attribute("Permissions").as_uint()});
    return roles;
  }

  /// False for an attribute that the space has no place for.
  bool readAttribute(pugi::xml_attribute attribute, std::string_view name, NewNode& node) {
    if (name == "BrowseName")
      node.browseName = renumber_(QualifiedName::parse(attribute.value()));
    else if (name == "ParentNodeId")
      return true;  // the references say so, too
    else if (name == "ValueRank")
      node.traits.valueRank = attribute.as_int(-1);
    else if (name == "AccessLevel")
      node.traits.accessLevel = static_cast<std::uint16_t>(attribute.as_uint(1));
    else if (name == "ArrayDimensions")
      readDimensions(attribute.value(), node.arrayDimensions);
    else if (name == "IsAbstract")
      node.isAbstract = attribute.as_bool();
    else if (name == "Symmetric")
      node.isSymmetric = attribute.as_bool();
    else if (name == "EventNotifier")
      node.eventNotifier = static_cast<std::uint8_t>(attribute.as_uint());
    else if (name == "Executable")
      node.executable = attribute.as_bool(true);
    else if (name == "ContainsNoLoops")
      node.containsNoLoops = attribute.as_bool();
    else if (name == "Historizing")
      node.traits.historizing = attribute.as_bool();
    else if (name == "MinimumSamplingInterval")
      node.traits.minimumSamplingInterval = attribute.as_float();
    else
      return false;
    return true;
  }
  static void readDimensions(std::string_view rest, List<std::uint32_t>& dimensions) {
    while (!rest.empty()) {
      const auto comma = std::min(rest.find(','), rest.size());
      std::uint32_t length = 0;
      std::from_chars(rest.data(), rest.data() + comma, length);
      dimensions.push_back(length);
      rest.remove_prefix(std::min(comma + 1, rest.size()));
    }
  }
  static LocalizedText textOf(pugi::xml_node node) {
    if (!node) return {};
    const std::string locale = node.attribute("Locale").value();
    return LocalizedText(String(node.text().get()), locale.empty() ? String() : String(locale));
  }

  Named& named(pugi::xml_node where, std::string_view text) {
    const auto known = named_.find(text);
    if (known != named_.end()) return known->second;
    Named& made = named_.emplace(std::string(text), Named()).first->second;
    const NodeId id = idOf(where, text);
    made.isId = !id.isNull();
    made.node = space_.find(id);
    return made;
  }

  void remember(pugi::xml_node xml, NodeIndex node) {
    LaterReference later{node,
                         &named(xml, xml.attribute("ReferenceType").value()),
                         nullptr,
                         {},
                         xml.attribute("IsForward").as_bool(true),
                         offsetOf(xml)};
    const std::string_view other = xml.text().get();
    if (later.type->node == hasTypeDefinition_ || later.type->node == hasModellingRule_)
      later.named = &named(xml, other);
    else
      later.other = idOf(xml, other);
    if (later.named || !later.other.isNull()) references_.push_back(std::move(later));
  }
  /// An id as the file has it.
  std::string fileText(const NodeId& id) const {
    const auto index = std::ranges::find(namespaces_, id.namespaceIndex()) - namespaces_.begin();
    return id.inNamespace(static_cast<std::uint16_t>(index)).text();
  }
  void refer(const LaterReference& reference) {
    const NodeIndex type = reference.type->node;
    const NodeIndex other = reference.named              ? reference.named->node
                            : reference.found != kNoNode ? reference.found
                                                         : space_.find(reference.other);
    if (type == kNoNode || other == kNoNode) {
      const std::string missing = reference.named ? textOf(*reference.named) : fileText(reference.other);
      findings_.error(placeAtOffset(reference.offset),
                      other == kNoNode ? fmt::format("there is no node {} to refer to", missing)
                                       : fmt::format("there is no reference type {}", textOf(*reference.type)),
                      "is a file of another model missing?");
    } else if (reference.isForward) {
      space_.refer(reference.node, type, other);
    } else {
      space_.refer(other, type, reference.node);
    }
  }

  void readValue(pugi::xml_node element, NodeIndex node) {
    pugi::xml_node content = element.first_child();
    while (content && content.type() != pugi::node_element) content = content.next_sibling();
    renumber_(element);
    auto value = variantFromXml(content);
    // Of a type that the file may declare itself.
    if (value ? holdsXml(*value) : value.code() == status::BadDataTypeIdUnknown)
      return values_.push_back({node, xmlOf(content), offsetOf(element)});
    if (!value) return findings_.error(placeOf(element), value.error().cause);
    space_.setValue(node, DataValue(withUsualDimensions(std::move(*value))));
    valued_.emplace_back(node, offsetOf(element));
  }

  static bool holdsXml(const Variant& value) {
    if (value.type() != BuiltInType::ExtensionObject) return value.type() == BuiltInType::Variant;
    const auto isXml = [](const ExtensionObject& object) { return object.body() == ExtensionObject::Body::Xml; };
    return value.isArray() ? std::ranges::any_of(value.items<ExtensionObject>(), isXml)
                           : isXml(*value.get<ExtensionObject>());
  }

  /// No dimensions of an argument may be written as an empty list or as none (Part 3, 8.6): here it is none, and zeros
  /// for an array's.
  static Variant withUsualDimensions(Variant value) {
    const auto objects = value.isArray() ? value.items<ExtensionObject>() : std::span<const ExtensionObject>();
    if (value.type() != BuiltInType::ExtensionObject || objects.empty() || !objects.front().is<Argument>())
      return value;
    FixedArray<ExtensionObject> out(objects.size());
    for (std::size_t i = 0; i < objects.size(); ++i) {
      auto argument = objects[i].as<Argument>();
      if (!argument) return value;
      if (argument->arrayDimensions.empty())
        argument->arrayDimensions =
            argument->valueRank < 1
                ? List<std::uint32_t>()
                : List<std::uint32_t>(static_cast<std::size_t>(std::min(argument->valueRank, 10)), 0u);
      out[i] = ExtensionObject::of(std::move(*argument));
    }
    return Variant::array(std::move(out));
  }

  /// A file lists a structure's own fields; the attribute has those of the types above, too.
  void inheritFields() {
    std::set<NodeIndex> done;
    const auto inherit = [&](auto&& self, NodeIndex node) -> void {
      if (!done.insert(node).second || !isOfFile(node)) return;
      const NodeIndex super = space_.supertype(node);
      const auto* rare = space_.rare(node);
      if (super == kNoNode || !rare || !rare->typeDefinition.is<StructureDefinition>()) return;
      self(self, super);
      auto definition = rare->typeDefinition.as<StructureDefinition>();
      auto fields = space::allFields(space_, super);
      if (!definition || fields.empty()) return;
      if (std::ranges::any_of(fields, &StructureField::isOptional) &&
          definition->structureType == StructureType::Structure)
        definition->structureType = StructureType::StructureWithOptionalFields;
      fields.insert(fields.end(), definition->fields.begin(), definition->fields.end());
      definition->fields = std::move(fields);
      space_.rareOf(node).typeDefinition = ExtensionObject::of(std::move(*definition));
    };
    for (const NodeIndex node : added_)
      if (space_.nodeClass(node) == NodeClass::DataType) inherit(inherit, node);
  }
  bool isOfFile(NodeIndex node) const {
    const auto ns = space_.nodeId(node).namespaceIndex();
    return ns != 0 && std::ranges::find(namespaces_, ns) != namespaces_.end();
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
    bool anyOptional = false, anySubtyped = false;
    for (const auto field : definition.children("Field")) {
      StructureField one;
      one.name = String(field.attribute("Name").value());
      one.description = textOf(field.child("Description"));
      const auto type = field.attribute("DataType");
      one.dataType = type ? idOf(field, type.value()) : NodeId(id::BaseDataType);
      one.valueRank = field.attribute("ValueRank").as_int(-1);
      if (const auto dimensions = field.attribute("ArrayDimensions"))
        readDimensions(dimensions.value(), one.arrayDimensions);
      else if (one.valueRank > 0)
        one.arrayDimensions = List<std::uint32_t>(static_cast<std::size_t>(std::min(one.valueRank, 10)), 0u);
      one.maxStringLength = field.attribute("MaxStringLength").as_uint();
      // Where there may be subtypes, that is what the flag says (Part 3, 8.50).
      const bool isSubtyped = field.attribute("AllowSubTypes").as_bool();
      one.isOptional = isSubtyped || field.attribute("IsOptional").as_bool();
      anyOptional |= one.isOptional;
      anySubtyped |= isSubtyped;
      out.fields.push_back(std::move(one));
    }
    using enum StructureType;
    out.structureType = definition.attribute("IsUnion").as_bool() ? (anySubtyped ? UnionWithSubtypedValues : Union)
                        : anySubtyped                             ? StructureWithSubtypedValues
                        : anyOptional                             ? StructureWithOptionalFields
                                                                  : Structure;
    space_.rareOf(node).typeDefinition = ExtensionObject::of(std::move(out));
  }
  static LocalizedText nameOrText(pugi::xml_node field) {
    auto shown = textOf(field.child("DisplayName"));
    return shown.text.isNull() ? LocalizedText(String(field.attribute("Name").value())) : shown;
  }

  Space& space_;
  const ModelFile& file_;
  Findings& findings_;
  std::vector<std::uint16_t> namespaces_{0};              // the space's index by the file's
  std::unordered_map<std::string_view, NodeId> aliases_;  // texts live as long as the document
  std::unordered_map<std::string, Named, TextHash, std::equal_to<>> named_;
  std::vector<NodeIndex> added_;
  std::vector<LaterReference> references_;
  std::size_t resolved_ = 0;  // of these
  struct LaterDataType {
    NodeIndex node;
    Named* type;  // nullptr for any
    std::size_t offset;
  };
  std::vector<LaterDataType> dataTypes_;
  std::vector<LaterXml> definitions_, values_;
  std::vector<std::pair<NodeIndex, std::size_t>> valued_;
  std::string headBuffer_, pieceBuffer_;
  std::size_t base_ = 0;  // where the piece that is being read begins
  NodeIndex hasTypeDefinition_, hasModellingRule_;
  std::vector<std::size_t> lineStarts_;  // once something is to be told
  TypeCatalog catalog_;
  Renumber renumber_;
};

}  // namespace

void readNodeSet(Space& space, const ModelFile& file, Findings& findings) {
  NodeSetReader(space, file, findings).run();
}

}  // namespace zunth::model
