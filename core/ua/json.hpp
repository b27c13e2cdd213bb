#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/structure_schema.hpp"

#include <span>

#include <nlohmann/json.hpp>

/// OPC UA JSON (Part 6, 5.4). Text from strangers goes through json_parser.hpp first.
namespace zunth::ua {

using Json = nlohmann::ordered_json;

enum class JsonForm {
  Reversible,     // with the types and indexes that it takes to read it back
  NonReversible,  // for readers without knowledge of types: namespaces by URI, enumerations by name
  Plain,          // the same for scripts: ids and qualified names in their text form
};

struct JsonOptions {
  JsonForm form = JsonForm::Reversible;
  const TypeCatalog* types = &TypeCatalog::standard();
  std::span<const String> namespaceUris = {};  // by index; the non-reversible form names them
};

/// A value in the plain form: numbers as numbers, 64-bit integers as strings, text as its words, structures as
/// objects of their fields; those of an unknown type by the id of their encoding and their octets in base64.
Json toJson(const Variant& value);

/// A value as a Variant field has it: {"Type": 11, "Body": 3.5} in the reversible form, the bare value otherwise.
Json toJson(const Variant& value, const JsonOptions& options);
/// A structure as an object of its fields, from its binary encoding. BadDecodingError when `binary` doesn't hold it.
Result<Json> toJson(const StructureSchema& schema, BytesView binary, const JsonOptions& options);

/// Reads what the reversible form wrote. BadDecodingError, naming the field and what was expected there;
/// BadEncodingLimitsExceeded for what nests too deeply.
Result<Variant> variantFromJson(const Json& json, const TypeCatalog& types = TypeCatalog::standard());
Result<NodeId> nodeIdFromJson(const Json& json);
/// The binary encoding of the structure that the object holds; fields that are missing get their default.
Result<Bytes> structureFromJson(const Json& json, const StructureSchema& schema,
                                const TypeCatalog& types = TypeCatalog::standard());

}  // namespace zunth::ua
