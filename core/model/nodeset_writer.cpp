#include "core/model/nodeset.hpp"
#include "core/model/nodeset_parts.hpp"
#include "core/space/type_catalog.hpp"
#include "core/ua/xml.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::ModelInfo;
using space::NodeIndex;
using space::Space;

namespace {

class NodeSetWriter {
 public:
  NodeSetWriter(const Space& space, std::span<const std::uint16_t> namespaces)
      : space_(space),
        catalog_(space::typeCatalog(space)),
        renumber_([this](std::uint16_t index) { return fileIndex(index); }) {
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
    for (const auto ns : wanted_) {
      writeModel(models.append_child("Model"), ns);
      pugi::xml_document extras;
      if (const auto& written = space_.modelInfo(ns).nodeSetExtras; !written.empty()) {
        extras.load_buffer(written.view().data(), written.view().size());
        root.insert_copy_after(extras.first_child(), models);
      }
    }
    for (const auto ns : listed_) uris.append_child("Uri").text().set(text(space_.namespaces()[ns]).c_str());
    std::ostringstream out;
    document.save(out, "  ");
    return std::move(out).str();
  }

 private:
  void writeModel(pugi::xml_node model, std::uint16_t ns) {
    const auto& info = space_.modelInfo(ns);
    model.append_attribute("ModelUri") = text(space_.namespaces()[ns]).c_str();
    if (!info.version.empty()) model.append_attribute("Version") = text(info.version).c_str();
    if (!info.published.isNull()) model.append_attribute("PublicationDate") = info.published.text().c_str();
    if (!info.modelVersion.empty()) model.append_attribute("ModelVersion") = text(info.modelVersion).c_str();
    if (!info.xmlSchemaUri.empty()) model.append_attribute("XmlSchemaUri") = text(info.xmlSchemaUri).c_str();
    if (const auto& usual = space_.namespacePermissions(ns); !(usual == space::usualPermissions())) {
      if (usual.restrictions) model.append_attribute("AccessRestrictions") = usual.restrictions;
      writeRoles(model, usual);
    }
    const auto require = [&](const String& uri, const String& version, DateTime published) {
      auto required = model.append_child("RequiredModel");
      required.append_attribute("ModelUri") = text(uri).c_str();
      if (!version.empty()) required.append_attribute("Version") = text(version).c_str();
      if (!published.isNull()) required.append_attribute("PublicationDate") = published.text().c_str();
    };
    if (std::ranges::find(info.required, space_.namespaces()[0], &ModelInfo::Required::uri) == info.required.end())
      require(space_.namespaces()[0], {}, {});
    for (const auto& required : info.required) require(required.uri, required.version, required.published);
    for (const auto other : listed_) {
      const bool isNamed = std::ranges::find(info.required, space_.namespaces()[other], &ModelInfo::Required::uri) !=
                           info.required.end();
      if (!isNamed && std::ranges::find(wanted_, other) == wanted_.end()) require(space_.namespaces()[other], {}, {});
    }
  }

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

  void writeRoles(pugi::xml_node parent, const space::PermissionSet& permissions) {
    auto list = parent.append_child("RolePermissions");
    for (const auto& role : permissions.roles) {
      auto one = list.append_child("RolePermission");
      one.append_attribute("Permissions") = role.permissions;
      one.text().set(renumber_(role.roleId).text().c_str());
    }
  }

  void write(pugi::xml_node root, NodeIndex node) {
    const auto nodeClass = space_.nodeClass(node);
    const auto* known = std::ranges::find(kClasses, nodeClass, &ClassName::nodeClass);
    if (known == std::end(kClasses)) return;
    auto element = root.append_child(known->element);
    element.append_attribute("NodeId") = idText(node).c_str();
    element.append_attribute("BrowseName") = renumber_(space_.browseName(node)).text().c_str();
    // Types have none in the schema of Part 6, annex F.
    if (const auto parent = space_.parent(node); parent != kNoNode && !space::isType(nodeClass))
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
    const auto& usual = space_.namespacePermissions(space_.nodeId(node).namespaceIndex());
    const bool hasOwn = !(permissions.roles == usual.roles);
    if (permissions.restrictions != usual.restrictions)
      element.append_attribute("AccessRestrictions") = permissions.restrictions;
    if (hasOwn && permissions.roles.empty()) element.append_attribute("HasNoPermissions") = true;
    putAll(element, "DisplayName", space_.displayName(node), rare ? &rare->displayNames : nullptr);
    if (rare) putAll(element, "Description", rare->description, &rare->descriptions);
    pugi::xml_document extras;
    if (rare && !rare->nodeSetExtras.empty())
      extras.load_buffer(rare->nodeSetExtras.view().data(), rare->nodeSetExtras.view().size());
    for (const auto attribute : extras.first_child().attributes()) element.append_copy(attribute);
    for (const char* name : {"Category", "Documentation"})
      for (const auto child : extras.first_child().children(name)) element.append_copy(child);
    writeReferences(element, node);
    if (hasOwn && !permissions.roles.empty()) writeRoles(element, permissions);
    for (const auto child : extras.first_child().children("Extensions")) element.append_copy(child);
    if (rare) put(element, "InverseName", rare->inverseName);
    if (rare && !rare->typeDefinition.isNull()) writeDefinition(element, node, rare->typeDefinition);
    if (hasValue && !space_.hasSource(node))
      if (const Variant value = space_.value(node).value; !value.isNull())
        writeValue(element.append_child("Value"), value);
  }
  void putAll(pugi::xml_node parent, const char* name, const LocalizedText& usual,
              const std::vector<LocalizedText>* translated) {
    if (!translated || translated->empty()) return put(parent, name, usual);
    for (const auto& each : *translated) put(parent, name, each);
  }

  void writeValue(pugi::xml_node at, const Variant& value) const {
    toXml(at, value, catalog_);
    renumber_(at);
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
    using enum StructureType;
    const auto kind = structure->structureType;
    if (kind == Union || kind == UnionWithSubtypedValues) definition.append_attribute("IsUnion") = true;
    // Where there may be subtypes, that is what the flag of a field says (Part 3, 8.50).
    const char* flag =
        kind == StructureWithSubtypedValues || kind == UnionWithSubtypedValues ? "AllowSubTypes" : "IsOptional";
    const auto inherited = space::allFields(space_, space_.supertype(node)).size();
    for (std::size_t i = std::min(inherited, structure->fields.size()); i < structure->fields.size(); ++i) {
      const auto& each = structure->fields[i];
      auto field = definition.append_child("Field");
      field.append_attribute("Name") = text(each.name).c_str();
      field.append_attribute("DataType") = renumber_(each.dataType).text().c_str();
      if (each.valueRank != -1) field.append_attribute("ValueRank") = each.valueRank;
      if (std::ranges::any_of(each.arrayDimensions, [](std::uint32_t most) { return most > 0; }))
        field.append_attribute("ArrayDimensions") = fmt::format("{}", fmt::join(each.arrayDimensions, ",")).c_str();
      if (each.maxStringLength) field.append_attribute("MaxStringLength") = each.maxStringLength;
      if (each.isOptional) field.append_attribute(flag) = true;
      put(field, "Description", each.description);
    }
  }

  const Space& space_;
  std::vector<std::uint16_t> wanted_;
  std::vector<std::uint16_t> listed_;  // the space's index of each namespace of the file
  TypeCatalog catalog_;
  Renumber renumber_;
};

}  // namespace

std::string writeNodeSet(const Space& space, std::span<const std::uint16_t> namespaces) {
  return NodeSetWriter(space, namespaces).text();
}

}  // namespace zunth::model
