#include "core/ua/structure_walk.hpp"

#include "core/ua/generated/structures.hpp"

namespace zunth::ua {
namespace {

class FieldWalk {
 public:
  FieldWalk(BinaryReader& reader, StructureWalker& walker) : reader_(reader), walker_(walker) {}

  void structure(const FieldSchema* field, const StructureSchema& schema) {
    Nesting nesting(reader_);
    if (!nesting) return;
    const bool isPlain = schema.kind == StructureSchema::Kind::Plain;
    const auto selector = isPlain ? 0 : reader_.next<std::uint32_t>();
    if (schema.kind == StructureSchema::Kind::Union && selector > schema.fields.size())
      return reader_.reject("a union holds a field that its type doesn't have");
    walker_.openStructure(field, schema, selector);
    if (schema.kind == StructureSchema::Kind::Union) {
      if (selector) one(schema.fields[selector - 1]);
    } else {
      std::uint32_t bit = 1;
      for (const auto& each : schema.fields) {
        if (!reader_.ok()) return;
        const bool isThere = !each.isOptional || (selector & bit);
        if (each.isOptional) bit <<= 1;
        if (isThere) one(each);
      }
    }
    walker_.closeStructure();
  }

 private:
  void one(const FieldSchema& field) {
    if (field.valueRank == -1) return element(field);
    if (field.valueRank > 1) return matrix(field);
    const auto length = reader_.readLength(reader_.limits().maxArrayLength, "array");
    if (length < 0) return walker_.value(field, Variant());
    list(field, static_cast<std::uint32_t>(length));
  }
  void element(const FieldSchema& field) {
    if (field.structure) return structure(&field, *field.structure);
    if (field.enumeration) return scalar<std::int32_t>(field);
    if (field.type == BuiltInType::Variant) {
      const auto value = reader_.next<Variant>();
      if (reader_.ok()) walker_.value(field, value);
      return;
    }
    visitBuiltIn(field.type, [&]<class T>(std::type_identity<T>) {
      if constexpr (!std::is_same_v<T, Variant>) scalar<T>(field);
    });
  }
  template <class T>
  void scalar(const FieldSchema& field) {
    auto value = reader_.next<T>();
    if (reader_.ok()) walker_.value(field, Variant(std::move(value)));
  }
  void list(const FieldSchema& field, std::uint32_t length) {
    walker_.openList(field);
    for (std::uint32_t i = 0; i < length && reader_.ok(); ++i) element(field);
    walker_.closeList();
  }
  /// Its dimensions, then its elements (Part 6, 5.2.5); shown as lists within lists.
  void matrix(const FieldSchema& field) {
    const auto dimensions = reader_.next<List<std::int32_t>>();
    if (dimensions.isNull()) return walker_.value(field, Variant());
    std::uint64_t elements = 1;
    for (const auto dimension : dimensions) {
      elements *= static_cast<std::uint32_t>(std::max(dimension, 0));
      if (elements > reader_.remaining())
        return reader_.reject("a matrix has more elements than the message has octets");
    }
    if (elements == 0) return list(field, 0);
    rows(field, dimensions);
  }
  void rows(const FieldSchema& field, std::span<const std::int32_t> dimensions) {
    if (dimensions.empty() || !reader_.ok()) return;
    if (dimensions.size() == 1) return list(field, static_cast<std::uint32_t>(dimensions[0]));
    Nesting nesting(reader_);
    walker_.openList(field);
    for (std::int32_t i = 0; i < dimensions[0] && reader_.ok(); ++i) rows(field, dimensions.subspan(1));
    walker_.closeList();
  }

  BinaryReader& reader_;
  StructureWalker& walker_;
};

}  // namespace

void walk(const StructureSchema& schema, BinaryReader& reader, StructureWalker& walker) {
  FieldWalk(reader, walker).structure(nullptr, schema);
}

Result<void> walk(const ExtensionObject& object, StructureWalker& walker, const TypeCatalog& types) {
  const auto* schema = object.body() == ExtensionObject::Body::Xml ? nullptr : types.find(object.encodingId());
  if (!schema)
    return Error{status::BadDataTypeIdUnknown, "no structure has the encoding " + object.encodingId().text(), {}};
  Bytes written;
  if (object.held()) {
    BinaryWriter writer(written);
    object.held()->encode(writer);
  }
  BinaryReader reader(object.held() ? BytesView(written) : object.octets().bytes());
  walk(*schema, reader, walker);
  if (!reader.ok()) return reader.error();
  return {};
}

std::string_view structureNamed(std::uint32_t binaryId) {
  const auto* schema = TypeCatalog::standard().find(NodeId(binaryId));
  return schema && schema->binaryId == NodeId(binaryId) ? std::string_view(schema->name) : std::string_view();
}

}  // namespace zunth::ua
