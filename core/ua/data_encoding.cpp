#include "core/ua/data_encoding.hpp"

#include "core/ua/binary_writer.hpp"
#include "core/ua/json.hpp"
#include "core/ua/xml.hpp"

namespace zunth::ua {
namespace {

Result<ExtensionObject> withJsonBody(const ExtensionObject& object, const TypeCatalog& types) {
  const auto* schema = types.find(object.encodingId());
  const Error unsupported{status::BadDataEncodingUnsupported,
                          "the structure " + object.encodingId().text() + " can't be written as JSON",
                          {}};
  if (!schema || schema->jsonId.isNull() || object.body() == ExtensionObject::Body::Xml) return unsupported;
  Bytes held;
  if (object.held()) {
    BinaryWriter writer(held);
    object.held()->encode(writer);
  }
  auto json = toJson(*schema, object.held() ? BytesView(held) : object.octets().bytes(), {.types = &types});
  if (!json) return unsupported;
  const std::string text = json->dump(-1, ' ', false, Json::error_handler_t::replace);
  return ExtensionObject::binary(schema->jsonId, ByteString(text.data(), text.size()));
}

}  // namespace

std::optional<DataEncoding> dataEncodingNamed(const QualifiedName& name) {
  if (name.namespaceIndex != 0) return std::nullopt;
  if (name.name.view() == "Default Binary") return DataEncoding::Binary;
  if (name.name.view() == "Default XML") return DataEncoding::Xml;
  if (name.name.view() == "Default JSON") return DataEncoding::Json;
  return std::nullopt;
}

Result<Variant> encodedAs(const Variant& value, DataEncoding encoding, const TypeCatalog& types) {
  if (value.type() != BuiltInType::ExtensionObject || encoding == DataEncoding::Binary) return value;
  auto encoded = [&](const ExtensionObject& object) -> Result<ExtensionObject> {
    if (object.isNull()) return object;
    return encoding == DataEncoding::Xml ? withXmlBody(object, types) : withJsonBody(object, types);
  };
  if (const auto* object = value.get<ExtensionObject>()) {
    auto one = encoded(*object);
    if (!one) return one.error();
    return Variant(std::move(*one));
  }
  const auto items = value.items<ExtensionObject>();
  FixedArray<ExtensionObject> out(items.size());
  for (std::size_t i = 0; i < items.size(); ++i) {
    auto one = encoded(items[i]);
    if (!one) return one.error();
    out[i] = std::move(*one);
  }
  const auto dimensions = value.dimensions();
  return Variant::array(std::move(out), std::vector<std::uint32_t>(dimensions.begin(), dimensions.end()));
}

}  // namespace zunth::ua
