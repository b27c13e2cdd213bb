#include "core/ua/renumbering.hpp"

#include "core/ua/binary_reader.hpp"
#include "core/ua/binary_writer.hpp"
#include "core/ua/diagnostic_info.hpp"

#include <algorithm>

namespace zunth::ua {

namespace {

template <class T>
constexpr bool kHasNamespaces =
    std::is_same_v<T, NodeId> || std::is_same_v<T, ExpandedNodeId> || std::is_same_v<T, QualifiedName> ||
    std::is_same_v<T, ExtensionObject> || std::is_same_v<T, Variant> || std::is_same_v<T, DataValue>;

/// Copies a structure field by field (Part 6, 5.2.6 to 5.2.8).
class Copy {
 public:
  Copy(const Renumbering& renumbered, BinaryReader& reader, BinaryWriter& writer)
      : renumbered_(renumbered), reader_(reader), writer_(writer) {}

  void structure(const StructureSchema& schema) {
    Nesting nesting(reader_);
    if (!nesting) return;
    const bool isPlain = schema.kind == StructureSchema::Kind::Plain;
    const auto selector = isPlain ? 0 : take<std::uint32_t>();
    if (schema.kind == StructureSchema::Kind::Union) {
      if (selector > schema.fields.size()) return reader_.reject("a union holds a field that its type doesn't have");
      if (selector) field(schema.fields[selector - 1]);
      return;
    }
    std::uint32_t bit = 1;
    for (const auto& each : schema.fields) {
      if (!reader_.ok()) return;
      if (!each.isOptional || (selector & bit)) field(each);
      if (each.isOptional) bit <<= 1;
    }
  }

 private:
  void field(const FieldSchema& field) {
    std::uint64_t elements = 1;
    if (field.valueRank > 1) {
      const auto dimensions = take<List<std::int32_t>>();
      elements = !dimensions.isNull();
      for (const auto dimension : dimensions) {
        elements *= static_cast<std::uint32_t>(std::max(dimension, 0));
        if (elements > reader_.remaining())
          return reader_.reject("a matrix has more elements than the structure has octets");
      }
    } else if (field.valueRank != -1) {
      const auto length = reader_.readLength(reader_.limits().maxArrayLength, "array");
      writer_.write(length);
      elements = static_cast<std::uint64_t>(std::max(length, 0));
    }
    for (std::uint64_t i = 0; i < elements && reader_.ok(); ++i) element(field);
  }
  void element(const FieldSchema& field) {
    if (field.structure) return structure(*field.structure);
    if (field.enumeration) return void(take<std::int32_t>());
    visitBuiltIn(field.type, [&]<class T>(std::type_identity<T>) {
      if constexpr (kHasNamespaces<T>)
        writer_.write(renumbered_(reader_.next<T>()));
      else
        take<T>();
    });
  }
  template <class T>
  T take() {
    auto value = reader_.next<T>();
    writer_.write(value);
    return value;
  }

  const Renumbering& renumbered_;
  BinaryReader& reader_;
  BinaryWriter& writer_;
};

}  // namespace

Renumbering::Renumbering(std::vector<std::uint16_t> indexes, const TypeCatalog& types)
    : indexes_(std::move(indexes)), types_(types) {
  for (std::size_t i = 0; i < indexes_.size(); ++i) isIdle_ = isIdle_ && indexes_[i] == i;
}

ExpandedNodeId Renumbering::operator()(const ExpandedNodeId& id) const {
  ExpandedNodeId out = id;
  if (id.namespaceUri.empty()) out.nodeId = (*this)(id.nodeId);
  return out;
}

QualifiedName Renumbering::operator()(const QualifiedName& name) const {
  return {(*this)(name.namespaceIndex), name.name};
}

ExtensionObject Renumbering::operator()(const ExtensionObject& object) const {
  if (isIdle_ || object.isNull()) return object;
  const NodeId id = (*this)(object.encodingId());
  if (object.body() == ExtensionObject::Body::None) return ExtensionObject::withoutBody(id);
  if (object.body() == ExtensionObject::Body::Xml) return ExtensionObject::xml(id, XmlElement(object.octets().view()));
  Bytes octets;
  if (object.held()) {
    BinaryWriter writer(octets);
    object.held()->encode(writer);
  } else {
    const auto bytes = object.octets().bytes();
    octets.assign(bytes.begin(), bytes.end());
  }
  if (const auto* schema = types_.find(object.encodingId())) {
    BinaryReader reader{BytesView(octets)};
    Bytes copied;
    BinaryWriter writer(copied);
    Copy(*this, reader, writer).structure(*schema);
    if (reader.ok() && reader.remaining() == 0) octets = std::move(copied);
  }
  return ExtensionObject::binary(id, ByteString(BytesView(octets)));
}

Variant Renumbering::operator()(const Variant& value) const {
  if (isIdle_ || value.isNull()) return value;
  return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) -> Variant {
    if constexpr (!kHasNamespaces<T>) {
      return value;
    } else {
      if (value.isArray()) {
        FixedArray<T> items(value.length());
        std::ranges::transform(value.items<T>(), items.begin(), [this](const T& item) { return (*this)(item); });
        return Variant::array(std::move(items), {value.dimensions().begin(), value.dimensions().end()});
      }
      if constexpr (std::is_same_v<T, Variant>)
        return value;  // a Variant holds others in arrays alone
      else
        return Variant((*this)(*value.get<T>()));
    }
  });
}

DataValue Renumbering::operator()(const DataValue& value) const {
  DataValue out = value;
  out.value = (*this)(value.value);
  return out;
}

}  // namespace zunth::ua
