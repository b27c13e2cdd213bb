#pragma once

#include "core/ua/generated/structures.hpp"

#include <span>
#include <string>
#include <utility>

/// Attributes of nodes as people read them.
namespace zunth::client {

/// Those that are shown, in their order, with the standard's names.
std::span<const std::pair<ua::AttributeId, const char*>> attributeNames();
/// Classes and ranks by their names, masks by what their bits mean, everything else as ua::format() has it.
std::string attributeText(ua::AttributeId attribute, const ua::Variant& value);

}  // namespace zunth::client
