#pragma once

#include "core/ua/binary_reader.hpp"
#include "core/ua/binary_writer.hpp"

/// Binary encoding of structures, derived from their field lists.
namespace zunth::ua {

template <IsStructure T>
void BinaryWriter::write(const T& structure) {
  T::eachField(structure, [this](const char*, const auto& field) { write(field); });
}

template <IsStructure T>
void BinaryReader::read(T& structure) {
  T::eachField(structure, [this](const char*, auto& field) { read(field); });
}

template <class T>
class HeldStructureOf final : public HeldStructure {
 public:
  explicit HeldStructureOf(T s) : structure(std::move(s)) {}
  void encode(BinaryWriter& writer) const override { writer.write(structure); }
  const T structure;
};

template <class Structure>
ExtensionObject ExtensionObject::of(Structure structure) {
  ExtensionObject object(NodeId(Structure::kBinaryId), Body::Held, {});
  object.held_ = Ref<const HeldStructure>(new HeldStructureOf<Structure>(std::move(structure)));
  return object;
}

template <class Structure>
Result<Structure> ExtensionObject::as() const {
  if (!is<Structure>())
    return Error{status::BadDecodingError,
                 "a " + std::string(Structure::kName) + " was expected, not the structure " + encodingId_.text(),
                 {}};
  if (body_ == Body::Held) return static_cast<const HeldStructureOf<Structure>*>(held_.get())->structure;
  BinaryReader reader(octets_.bytes());
  Structure structure;
  reader.read(structure);
  if (!reader.ok()) return reader.error();
  return structure;
}

/// A structure's octets without an encoding id.
template <class T>
Bytes encode(const T& value) {
  Bytes out;
  BinaryWriter(out).write(value);
  return out;
}

/// The value that fills all these octets; BadDecodingError when some remain.
template <class T>
Result<T> decode(BytesView octets, const DecodingLimits& limits = {}) {
  BinaryReader reader(octets, limits);
  T value{};
  reader.read(value);
  if (!reader.ok()) return reader.error();
  if (reader.remaining())
    return Error{status::BadDecodingError, std::to_string(reader.remaining()) + " octets remain after the value", {}};
  return value;
}

}  // namespace zunth::ua
