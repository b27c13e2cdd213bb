#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/json_type.hpp"
#include "core/ua/structure_schema.hpp"

#include <span>

/// OPC UA JSON (Part 6, 5.4), in the forms of version 1.04 and those that 1.05 has put in their place; both are read
/// wherever JSON is read. Text from strangers goes through json_parser.hpp first.
namespace zunth::ua {

enum class JsonForm {
  Reversible,     // 1.04: with the types and indexes that it takes to read it back
  NonReversible,  // 1.04: for readers without knowledge of types: namespaces by URI, enumerations by name
  Compact,        // 1.05: typed, what has no value left out, enumerations by number, ids as text
  Verbose,        // 1.05: typed, with all fields, enumerations and status codes by name
  Plain,          // ours, for scripts: bare values, ids and qualified names in their text form
};

struct JsonOptions {
  JsonForm form = JsonForm::Reversible;
  const TypeCatalog* types = &TypeCatalog::standard();
  // By index. All but the reversible form name namespaces by them, and servers; without them, indexes stay.
  std::span<const String> namespaceUris = {}, serverUris = {};
};

/// A value in the plain form: numbers as numbers, 64-bit integers as strings, text as its words, structures as
/// objects of their fields; those of an unknown type by the id of their encoding and their octets in base64.
Json toJson(const Variant& value);

/// A value as a Variant field has it: {"Type": 11, "Body": 3.5} in 1.04's reversible form, {"UaType": 11, "Value": 3.5}
/// in the forms of 1.05, the bare value otherwise.
Json toJson(const Variant& value, const JsonOptions& options);
/// A structure as an object of its fields, from its binary encoding. BadDecodingError when `binary` doesn't hold it.
Result<Json> toJson(const StructureSchema& schema, BytesView binary, const JsonOptions& options);

/// Reads what the reversible form or one of 1.05 wrote; namespaces that are named by URI must be among `namespaceUris`.
/// BadDecodingError, naming the field and what was expected there; BadEncodingLimitsExceeded for what nests too deeply.
Result<Variant> variantFromJson(const Json& json, const TypeCatalog& types = TypeCatalog::standard(),
                                std::span<const String> namespaceUris = {});
Result<NodeId> nodeIdFromJson(const Json& json);
/// The binary encoding of the structure that the object holds; fields that are missing get their default.
Result<Bytes> structureFromJson(const Json& json, const StructureSchema& schema,
                                const TypeCatalog& types = TypeCatalog::standard(),
                                std::span<const String> namespaceUris = {});

}  // namespace zunth::ua
