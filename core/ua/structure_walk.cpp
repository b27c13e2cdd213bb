#include "core/ua/structure_walk.hpp"

#include "core/ua/generated/structures.hpp"

namespace zunth::ua {
namespace {

class FieldWalk {
 public:
  explicit FieldWalk(StructureWalker& walker) : walker_(walker) {}

  template <class T>
  void operator()(std::string_view name, const T& field) {
    if constexpr (std::is_enum_v<T>) {
      walker_.value(name, Variant(static_cast<std::int32_t>(field)));
    } else if constexpr (IsStructure<T>) {
      walker_.openStructure(name);
      T::eachField(field, [this](const char* inner, const auto& f) { (*this)(inner, f); });
      walker_.closeStructure();
    } else if constexpr (std::is_same_v<T, Variant>) {
      walker_.value(name, field);
    } else {
      walker_.value(name, Variant(field));
    }
  }
  template <class T>
  void operator()(std::string_view name, const List<T>& items) {
    walker_.openList(name);
    for (const auto& item : items) (*this)({}, item);
    walker_.closeList();
  }

 private:
  StructureWalker& walker_;
};

}  // namespace

Result<void> walk(const ExtensionObject& object, StructureWalker& walker) {
  Bytes written;
  if (object.held()) {
    BinaryWriter writer(written);
    object.held()->encode(writer);
  }
  BinaryReader reader(object.held() ? BytesView(written) : object.octets().bytes());
  FieldWalk walkFields(walker);
  const bool known = object.encodingId().isNumericIn0() && object.body() != ExtensionObject::Body::Xml &&
                     visitStructure(object.encodingId().numeric(), [&]<class T>(std::type_identity<T>) {
                       T structure;
                       reader.read(structure);
                       if (reader.ok()) walkFields(std::string_view(), structure);
                     });
  if (!known)
    return Error{status::BadDataTypeIdUnknown, "no structure has the encoding " + object.encodingId().text(), {}};
  if (!reader.ok()) return reader.error();
  return {};
}

Result<Bytes> recode(std::uint32_t binaryId, BytesView body) {
  BinaryReader reader(body);
  Bytes out;
  BinaryWriter writer(out);
  const bool known = visitStructure(binaryId, [&]<class T>(std::type_identity<T>) {
    T structure;
    reader.read(structure);
    if (reader.ok()) writer.write(structure);
  });
  if (!known) return status::BadDataTypeIdUnknown;
  if (!reader.ok()) return reader.error();
  if (reader.remaining()) return Error{status::BadDecodingError, "octets remain after the structure", {}};
  return out;
}

std::string_view structureNamed(std::uint32_t binaryId) {
  std::string_view name;
  visitStructure(binaryId, [&]<class T>(std::type_identity<T>) { name = T::kName; });
  return name;
}

}  // namespace zunth::ua
