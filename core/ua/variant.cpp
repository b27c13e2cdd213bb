#include "core/ua/variant.hpp"

#include "core/ua/binary_writer.hpp"
#include "core/ua/structure_codec.hpp"

#include <algorithm>

namespace zunth::ua {

std::string_view nameOf(BuiltInType type) {
  static constexpr std::string_view names[] = {
      "Null",          "Boolean",    "SByte",      "Byte",         "Int16",          "UInt16",     "Int32",
      "UInt32",        "Int64",      "UInt64",     "Float",        "Double",         "String",     "DateTime",
      "Guid",          "ByteString", "XmlElement", "NodeId",       "ExpandedNodeId", "StatusCode", "QualifiedName",
      "LocalizedText", "Structure",  "DataValue",  "BaseDataType", "DiagnosticInfo"};
  const auto index = static_cast<std::size_t>(type);
  return index < std::size(names) ? names[index] : "reserved";
}

bool Variant::toDouble(double& out) const {
  if (isArray_ || !(isNumeric(type_) || type_ == BuiltInType::Boolean)) return false;
  visitBuiltIn(type_, [&]<class T>(std::type_identity<T>) {
    if constexpr (std::is_arithmetic_v<T>) out = static_cast<double>(*get<T>());
  });
  return true;
}

bool Variant::operator==(const Variant& other) const {
  if (type_ != other.type_ || isArray_ != other.isArray_) return false;
  if (isNull()) return true;
  if (counted_ && pointer() == other.pointer()) return true;
  if (isArray_ && !std::ranges::equal(dimensions(), other.dimensions())) return false;
  return visitBuiltIn(type_, [&]<class T>(std::type_identity<T>) {
    if (!isArray_) return *get<T>() == *other.get<T>();
    return std::ranges::equal(items<T>(), other.items<T>());
  });
}

bool ExtensionObject::operator==(const ExtensionObject& other) const {
  if (!(encodingId_ == other.encodingId_)) return false;
  if (body_ == other.body_ && body_ != Body::Held) return octets_ == other.octets_;
  return encode(*this) == encode(other);
}

}  // namespace zunth::ua
