#pragma once

#include "core/ua/json.hpp"

namespace zunth::ua {

/// What is accepted of JSON that strangers wrote.
struct JsonLimits {
  std::size_t depth = 100;
  std::size_t members = 256;       // of one object; no type of the standard has as many fields
  std::size_t values = 2'000'000;  // in all
};

/// Reads JSON within these limits, with steps and memory in proportion to its length. BadDecodingError for what is no
/// JSON, with the octet where; BadEncodingLimitsExceeded.
Result<Json> parseJson(std::string_view text, const JsonLimits& limits = {});

/// Something about a JSON value for an error text: a scalar itself, cut; what kind of thing it is otherwise.
std::string describe(const Json& json);

}  // namespace zunth::ua
