#include "core/space/type_catalog.hpp"

#include <algorithm>
#include <set>

namespace zunth::space {

using namespace ua;

namespace {

std::optional<StructureDefinition> definitionOf(const Space& space, NodeIndex dataType) {
  const auto* rare = dataType == kNoNode ? nullptr : space.rare(dataType);
  if (!rare || !rare->typeDefinition.is<StructureDefinition>()) return std::nullopt;
  auto definition = rare->typeDefinition.as<StructureDefinition>();
  return definition ? std::optional(std::move(*definition)) : std::nullopt;
}

class CatalogBuilder {
 public:
  explicit CatalogBuilder(const Space& space) : space_(space) {}

  TypeCatalog run() {
    const NodeIndex structure = space_.at(id::Structure);
    for (NodeIndex node = 0; node < space_.rows(); ++node)
      if (space_.exists(node) && space_.nodeClass(node) == NodeClass::DataType &&
          space_.nodeId(node).namespaceIndex() != 0 && space_.isSubtype(node, structure))
        structureOf(node);
    return std::move(catalog_);
  }

 private:
  const StructureSchema* structureOf(NodeIndex node) {
    if (const auto* known = catalog_.find(space_.nodeId(node))) return known;
    if (!underway_.insert(node).second) return nullptr;
    const auto definition = definitionOf(space_, node);
    if (!definition) return nullptr;
    StructureSchema schema;
    schema.name = space_.browseName(node).name.str();
    schema.typeId = space_.nodeId(node);
    using Kind = StructureSchema::Kind;
    schema.kind = definition->structureType == StructureType::Union                         ? Kind::Union
                  : definition->structureType == StructureType::StructureWithOptionalFields ? Kind::WithOptionalFields
                                                                                            : Kind::Plain;
    for (const auto& reference : space_.references(node)) {
      if (!reference.isForward() || !space_.nodeId(reference.type()).is(id::HasEncoding)) continue;
      const auto name = space_.browseName(reference.target()).name;
      const NodeId& encoding = space_.nodeId(reference.target());
      if (name.view() == "Default Binary") schema.binaryId = encoding;
      if (name.view() == "Default XML") schema.xmlId = encoding;
      if (name.view() == "Default JSON") schema.jsonId = encoding;
    }
    if (schema.binaryId.isNull()) schema.binaryId = definition->defaultEncodingId;
    for (const auto& field : definition->fields) {
      auto known = fieldOf(field);
      if (!known) return nullptr;
      schema.fields.push_back(std::move(*known));
    }
    return catalog_.add(std::move(schema));
  }

  std::optional<FieldSchema> fieldOf(const StructureField& field) {
    FieldSchema out;
    out.name = field.name.str();
    out.valueRank = field.valueRank;
    out.isOptional = field.isOptional;
    const NodeIndex type = space_.find(field.dataType);
    if (type == kNoNode) return std::nullopt;
    out.type = space_.builtInType(type);
    if (out.type == BuiltInType::ExtensionObject && !space_.isAbstract(type)) {
      out.structure = structureOf(type);
      if (!out.structure) return std::nullopt;
    }
    if (space_.isSubtype(type, id::Enumeration)) out.enumeration = enumerationOf(type);
    return out;
  }

  const EnumerationSchema* enumerationOf(NodeIndex type) {
    auto& known = enumerations_[type];
    if (known) return known;
    EnumerationSchema schema;
    schema.name = space_.browseName(type).name.str();
    if (const auto* rare = space_.rare(type))
      if (auto definition = rare->typeDefinition.as<EnumDefinition>())
        for (const auto& field : definition->fields)
          schema.members.emplace_back(field.name.str(), static_cast<std::int32_t>(field.value));
    return known = catalog_.add(std::move(schema));
  }

  const Space& space_;
  TypeCatalog catalog_;
  std::set<NodeIndex> underway_;
  std::map<NodeIndex, const EnumerationSchema*> enumerations_;
};

}  // namespace

TypeCatalog typeCatalog(const Space& space) { return CatalogBuilder(space).run(); }

List<StructureField> allFields(const Space& space, NodeIndex dataType) {
  const auto definition = definitionOf(space, dataType);
  return definition ? definition->fields : List<StructureField>();
}

}  // namespace zunth::space
