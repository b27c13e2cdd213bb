#pragma once

#include "core/model/draft.hpp"

/// Values that variables start with.
namespace zunth::model {

/// What stands after '=': a scalar, an enumeration's value or options by name ("Hot | Wet"), or "[1, 2, 3]".
ua::Result<ua::Variant> valueOf(const space::Space& space, const space::ValueTraits& traits, const std::string& text);

/// What `starts:` says: a structure by its fields, lists of anything. Nothing when there is a mistake in it, which is
/// reported where it stands.
std::optional<ua::Variant> valueOf(Draft& draft, const space::ValueTraits& traits, const Entry& starts);

}  // namespace zunth::model
