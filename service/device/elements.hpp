#pragma once

#include "core/ua/result.hpp"
#include "core/ua/variant.hpp"

#include <functional>

/// What is done to a value is done to each element of an array.
namespace zunth::device {

/// The array of what `step` makes of each element, or of a scalar what it makes of that. The first error, with the
/// number of its element; BadTypeMismatch when elements come out with different types.
ua::Result<ua::Variant> eachElement(const ua::Variant& value,
                                    const std::function<ua::Result<ua::Variant>(const ua::Variant&)>& step);

/// A value, or each element of it, as a node of this type shows it: numbers rounded, a Float as Double with the digits
/// that it carries, anything as its text where text is wanted. BadTypeMismatch, BadOutOfRange.
ua::Result<ua::Variant> convertedTo(ua::BuiltInType type, const ua::Variant& value);

/// The elements of an array, each by itself; the value itself when it is none.
std::vector<ua::Variant> elementsOf(const ua::Variant& value);
/// The array of these scalars; BadTypeMismatch when they are of different types. `type` is that of an empty array.
ua::Result<ua::Variant> arrayOf(const std::vector<ua::Variant>& elements, ua::BuiltInType type);

}  // namespace zunth::device
