#pragma once

#include "core/ua/bytes.hpp"

#include <optional>
#include <string>
#include <string_view>

namespace zunth::ua {

/// Base64 (RFC 4648), padded, as the text forms of ids and ByteStrings use it.
std::string toBase64(BytesView octets);
/// Nothing when `text` is not padded base64.
std::optional<Bytes> fromBase64(std::string_view text);

}  // namespace zunth::ua
