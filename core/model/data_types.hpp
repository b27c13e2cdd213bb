#pragma once

#include "core/model/draft.hpp"
#include "core/model/words.hpp"

namespace zunth::model {

/// Fills a data type's node, which is there already, with what its words and lines say: definition (Part 3, 8.47 to
/// 8.51), texts of its values, encodings.
void fillDataType(Draft& draft, space::NodeIndex node, const DataTypeWords& words, const Entry& entry);

/// What the data type derives from when `extends:` doesn't say: Enumeration, the smallest unsigned integer that holds
/// all options, Structure or Union.
ua::StandardId usualSupertype(const DataTypeWords& words, const Entry& entry);

/// Entries of a type that are words of the language, not children or fields.
bool isTypeWord(std::string_view key);

}  // namespace zunth::model
