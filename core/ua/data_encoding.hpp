#pragma once

#include "core/ua/structure_schema.hpp"

#include <optional>

namespace zunth::ua {

/// How a client wants structures in values encoded (Part 4, 5.10.2; Part 3, 5.8.4).
enum class DataEncoding { Binary, Xml, Json };

/// Of the names that the standard gives its encodings: "Default Binary", "Default XML", "Default JSON".
std::optional<DataEncoding> dataEncodingNamed(const QualifiedName& name);

/// The value with its structures in this encoding; JSON text stands in a ByteString body. Values without structures
/// come back as they are. BadDataEncodingUnsupported for a structure that has no such encoding or isn't known.
Result<Variant> encodedAs(const Variant& value, DataEncoding encoding,
                          const TypeCatalog& types = TypeCatalog::standard());

}  // namespace zunth::ua
