#pragma once

#include "core/ua/variant.hpp"

#include <nlohmann/json.hpp>

namespace zunth::ua {

/// A value as JSON for scripts: the non-reversible form of Part 6, 5.4 (numbers as numbers, 64-bit integers as
/// strings, text as its words, ids in their text form, structures as objects of their fields).
nlohmann::ordered_json toJson(const Variant& value);

}  // namespace zunth::ua
