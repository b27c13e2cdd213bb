#pragma once

#include "core/ua/structure_schema.hpp"

#include <pugixml.hpp>

/// OPC UA XML (Part 6, 5.3), for values in files and for clients that ask for it.
namespace zunth::ua {

inline constexpr std::string_view kXmlTypes = "http://opcfoundation.org/UA/2008/02/Types.xsd";

/// Appends the content of a Variant to `value`, as a <Value> element holds it: <Double>3.5</Double>,
/// <ListOfString>...</ListOfString>, <Matrix>...</Matrix>; nothing for null.
void toXml(pugi::xml_node value, const Variant& content, const TypeCatalog& types = TypeCatalog::standard());

/// Reads what an element as <Double> or <ListOfString> holds, by its name without the prefix; null for no element.
/// BadDecodingError, naming the element; BadDataTypeIdUnknown for a structure that the catalog doesn't have.
Result<Variant> variantFromXml(pugi::xml_node content, const TypeCatalog& types = TypeCatalog::standard());

/// The structure with its XML encoding as body, for a Read with that data encoding. BadDataEncodingUnsupported when
/// the catalog doesn't know it or it has no XML encoding.
Result<ExtensionObject> withXmlBody(const ExtensionObject& object, const TypeCatalog& types = TypeCatalog::standard());
/// The other way round. An object whose body isn't XML comes back as it is.
Result<ExtensionObject> withBinaryBody(const ExtensionObject& object,
                                       const TypeCatalog& types = TypeCatalog::standard());

}  // namespace zunth::ua
