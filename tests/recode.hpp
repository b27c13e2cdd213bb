#pragma once

#include "core/ua/generated/structures.hpp"

namespace zunth::test {

/// Decodes the structure with this binary encoding id and encodes it again: what tests and fuzzers compare.
/// BadDataTypeIdUnknown, or BadDecodingError when `body` doesn't hold it or goes on after it.
inline ua::Result<ua::Bytes> recode(std::uint32_t binaryId, ua::BytesView body) {
  ua::BinaryReader reader(body);
  ua::Bytes out;
  ua::BinaryWriter writer(out);
  const bool known = ua::visitStructure(binaryId, [&]<class T>(std::type_identity<T>) {
    T structure;
    reader.read(structure);
    if (reader.ok()) writer.write(structure);
  });
  if (!known) return ua::status::BadDataTypeIdUnknown;
  if (!reader.ok()) return reader.error();
  if (reader.remaining()) return ua::Error{ua::status::BadDecodingError, "octets remain after the structure", {}};
  return out;
}

}  // namespace zunth::test
