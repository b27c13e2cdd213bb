#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/structure_schema.hpp"

namespace zunth::ua {

class BinaryReader;

/// Sees a structure's fields one by one, in wire order; what text, JSON, XML and traces are derived from. An element
/// of a list comes with the list's field.
class StructureWalker {
 public:
  virtual ~StructureWalker() = default;
  /// A value of a built-in type or an enumeration, a matrix of them, or null for a null list.
  virtual void value(const FieldSchema& field, const Variant& value) = 0;
  /// `field` is nullptr for the structure that the walk began with. `selector` is the mask of the optional fields
  /// that are there, or the number of the field that a union holds (0 for none); 0 for a plain structure.
  virtual void openStructure(const FieldSchema* field, const StructureSchema& schema, std::uint32_t selector) = 0;
  virtual void closeStructure() = 0;
  virtual void openList(const FieldSchema& field) = 0;
  virtual void closeList() = 0;
};

/// Walks the structure that `object` carries, between one openStructure and closeStructure.
/// BadDataTypeIdUnknown when the catalog doesn't know it, BadDecodingError when its octets are not sound.
Result<void> walk(const ExtensionObject& object, StructureWalker& walker,
                  const TypeCatalog& types = TypeCatalog::standard());
/// Walks the structure that begins where the reader stands. What is wrong with its octets is in the reader.
void walk(const StructureSchema& schema, BinaryReader& reader, StructureWalker& walker);

/// The symbolic name of the standard's structure with this binary encoding id ("ReadRequest"), or empty.
std::string_view structureNamed(std::uint32_t binaryId);

}  // namespace zunth::ua
