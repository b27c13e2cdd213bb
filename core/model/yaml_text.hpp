#pragma once

#include "core/space/space.hpp"
#include "core/ua/structure_schema.hpp"

#include <optional>
#include <string>

/// Texts and values as they stand in a model file.
namespace zunth::model {

/// A text: plain where that is safe, else in double quotes.
std::string scalar(std::string_view text);
/// In double quotes. What a foreign server says may be no UTF-8: what isn't is replaced.
std::string inQuotes(const std::string& text);
/// The words of a spec, which hold no quotes of their own unless a value brings them.
std::string plainWords(std::string_view text);
/// A value: an enumeration's by its name, structures and arrays by their fields and items. Nothing for what the
/// language can't say. `catalog` has the model's structures.
std::optional<std::string> yamlValue(const space::Space& space, const ua::TypeCatalog& catalog,
                                     const ua::Variant& value, space::NodeIndex dataType);

}  // namespace zunth::model
