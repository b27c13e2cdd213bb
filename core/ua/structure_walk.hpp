#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/variant.hpp"

namespace zunth::ua {

/// Sees a structure's fields one by one, in wire order; what text, JSON and traces are derived from.
/// `name` is empty for an element of a list.
class StructureWalker {
 public:
  virtual ~StructureWalker() = default;
  virtual void value(std::string_view name, const Variant& value) = 0;
  virtual void openStructure(std::string_view name) = 0;
  virtual void closeStructure() = 0;
  virtual void openList(std::string_view name) = 0;
  virtual void closeList() = 0;
};

/// Walks the structure of the standard that `object` carries, between one openStructure and closeStructure.
/// BadDataTypeIdUnknown when it is none that is known here, BadDecodingError when its octets are not sound.
Result<void> walk(const ExtensionObject& object, StructureWalker& walker);

/// Decodes the structure with this binary encoding id and encodes it again: what tests and fuzzers compare.
/// BadDataTypeIdUnknown, or BadDecodingError when `body` doesn't hold it or goes on after it.
Result<Bytes> recode(std::uint32_t binaryId, BytesView body);

/// The symbolic name of the structure with this binary encoding id ("ReadRequest"), or empty.
std::string_view structureNamed(std::uint32_t binaryId);

}  // namespace zunth::ua
