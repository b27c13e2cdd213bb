#include "core/ua/structure_schema.hpp"

#include <fmt/format.h>

namespace zunth::ua {
namespace {

struct EnumerationRow {
  const char* name;
  std::size_t members;
};
struct MemberRow {
  const char* name;
  std::int32_t value;
};
struct StructureRow {
  const char* name;
  std::uint32_t type, binary, xml, json;
  std::size_t fields;
};
struct FieldRow {
  const char* name;
  int type, structure, enumeration, valueRank;
};
#include "core/ua/generated/schema_rows.inc"

NodeId idOrNull(std::uint32_t id) { return id ? NodeId(id) : NodeId(); }

}  // namespace

std::string EnumerationSchema::text(std::int32_t value) const {
  for (const auto& [name, number] : members)
    if (number == value) return fmt::format("{}_{}", name, value);
  return std::to_string(value);
}

const TypeCatalog& TypeCatalog::standard() {
  static const TypeCatalog catalog = [] {
    TypeCatalog made(nullptr);
    made.addStandard();
    return made;
  }();
  return catalog;
}

void TypeCatalog::addStandard() {
  const MemberRow* member = kMembers;
  for (const EnumerationRow& row : kEnumerations) {
    EnumerationSchema schema{row.name, {}};
    for (std::size_t i = 0; i < row.members; ++i, ++member) schema.members.emplace_back(member->name, member->value);
    add(std::move(schema));
  }
  const FieldRow* field = kFields;
  for (const StructureRow& row : kStructures) {
    StructureSchema schema;
    schema.name = row.name;
    schema.typeId = idOrNull(row.type);
    schema.binaryId = idOrNull(row.binary);
    schema.xmlId = idOrNull(row.xml);
    schema.jsonId = idOrNull(row.json);
    for (std::size_t i = 0; i < row.fields; ++i, ++field) {
      FieldSchema one;
      one.name = field->name;
      one.type = static_cast<BuiltInType>(field->type);
      // Structures are listed after those that their fields hold.
      if (field->structure >= 0) one.structure = structures_[static_cast<std::size_t>(field->structure)].get();
      if (field->enumeration >= 0) one.enumeration = enumerations_[static_cast<std::size_t>(field->enumeration)].get();
      one.valueRank = field->valueRank;
      schema.fields.push_back(std::move(one));
    }
    add(std::move(schema));
  }
}

const StructureSchema* TypeCatalog::find(const NodeId& typeOrEncoding) const {
  const auto found = byId_.find(typeOrEncoding);
  if (found != byId_.end()) return found->second;
  return base_ ? base_->find(typeOrEncoding) : nullptr;
}

const StructureSchema* TypeCatalog::find(std::string_view name) const {
  const auto found = byName_.find(name);
  if (found != byName_.end()) return found->second;
  return base_ ? base_->find(name) : nullptr;
}

const StructureSchema* TypeCatalog::add(StructureSchema schema) {
  const auto* added = structures_.emplace_back(std::make_unique<StructureSchema>(std::move(schema))).get();
  for (const NodeId* id : {&added->typeId, &added->binaryId, &added->xmlId, &added->jsonId})
    if (!id->isNull()) byId_[*id] = added;
  byName_[added->name] = added;
  return added;
}

const EnumerationSchema* TypeCatalog::add(EnumerationSchema schema) {
  return enumerations_.emplace_back(std::make_unique<EnumerationSchema>(std::move(schema))).get();
}

}  // namespace zunth::ua
