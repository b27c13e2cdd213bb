#pragma once

#include "core/ua/json.hpp"

/// Messages of services as JSON (Part 6, 5.4.9): {"TypeId": {"Id": 629}, "Body": {...}}, over WebSockets and HTTPS
/// where no secure channel stands between.
namespace zunth::channel {

/// The binary form, encoding id first, as a channel would deliver it. BadDecodingError for what is no JSON or lacks a
/// part; BadServiceUnsupported for a message that the standard doesn't have.
ua::Result<ua::Bytes> messageFromJson(std::string_view text);
/// From the binary form, encoding id first.
ua::Result<std::string> messageToJson(ua::BytesView message);

}  // namespace zunth::channel
