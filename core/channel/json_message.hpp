#pragma once

#include "core/ua/json.hpp"

/// Messages of services as JSON (Part 6, 5.4.9), over WebSockets and HTTPS where no secure channel stands between:
/// {"TypeId": {"Id": 629}, "Body": {...}} as in 1.04, or as structures of 1.05 are, {"UaTypeId": "i=629", ...}.
namespace zunth::channel {

struct FromJson {
  ua::Bytes message;  // binary, encoding id first, as a channel would deliver it
  ua::JsonForm form;  // in which the other side writes, and so reads
};
/// BadDecodingError for what is no JSON or lacks a part; BadServiceUnsupported for a message that the standard doesn't
/// have.
ua::Result<FromJson> messageFromJson(std::string_view text);
/// From the binary form, encoding id first.
ua::Result<std::string> messageToJson(ua::BytesView message, ua::JsonForm form);

}  // namespace zunth::channel
