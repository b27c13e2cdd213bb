#include "core/channel/json_message.hpp"

#include "core/ua/binary_reader.hpp"
#include "core/ua/binary_writer.hpp"
#include "core/ua/json_parser.hpp"

namespace zunth::channel {

using namespace ua;

Result<FromJson> messageFromJson(std::string_view text) {
  auto parsed = parseJson(text);
  if (!parsed) return parsed.error();
  const Json& json = *parsed;
  if (!json.is_object()) return Error{status::BadDecodingError, "the message is no JSON object", {}};
  const auto newer = json.find("UaTypeId");
  const bool isNewer = newer != json.end();
  // Clients name a message by its type or by one of its encodings, as an id or as a bare number.
  const auto type = isNewer ? newer : json.find("TypeId");
  const auto body = json.find("Body");
  if (type == json.end() || (!isNewer && body == json.end()))
    return Error{status::BadDecodingError, "the message has no TypeId or no Body", {}};
  NodeId id;
  if (type->is_number_unsigned() && type->get<std::uint64_t>() <= UINT32_MAX) {
    id = NodeId(type->get<std::uint32_t>());
  } else {
    auto read = nodeIdFromJson(*type);
    if (!read) return read.error();
    id = *read;
  }
  const auto* schema = TypeCatalog::standard().find(id);
  if (!schema || schema->binaryId.isNull())
    return Error{status::BadServiceUnsupported, "the standard has no message " + id.text(), {}};
  auto fields = structureFromJson(isNewer ? json : *body, *schema);
  if (!fields) return fields.error();
  FromJson out{{}, isNewer ? JsonForm::Compact : JsonForm::Reversible};
  BinaryWriter writer(out.message);
  writer.write(schema->binaryId);
  writer.raw(*fields);
  return out;
}

Result<std::string> messageToJson(BytesView message, JsonForm form) {
  BinaryReader reader(message);
  const auto id = reader.next<NodeId>();
  const auto* schema = TypeCatalog::standard().find(id);
  if (!schema) return Error{status::BadEncodingError, "the standard has no message " + id.text(), {}};
  auto body = toJson(*schema, reader.rest(), {.form = form});
  if (!body) return body.error();
  Json out;
  if (form == JsonForm::Reversible) {
    out["TypeId"] = {{"Id", schema->typeId.numeric()}};
    out["Body"] = std::move(*body);
  } else {
    out["UaTypeId"] = schema->typeId.text();
    for (auto& [name, value] : body->items()) out[name] = std::move(value);
  }
  return out.dump(-1, ' ', false, Json::error_handler_t::replace);
}

}  // namespace zunth::channel
