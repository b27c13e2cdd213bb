#pragma once

#include "core/ua/variant.hpp"

#include <string>
#include <string_view>

/// For devices that send and take text, and say nothing of its type.
namespace zunth::device {

/// What a text says by itself, without white space around it: true or false as Boolean, a whole number as Int64, a
/// number as Double, anything else as String.
ua::Variant plainValue(std::string_view text);
/// How a value is written for such a device: numbers with the digits that their type carries, Boolean as true or false.
std::string plainText(const ua::Variant& value);
/// A Float as Double with the digits that it carries: 0.1, not 0.10000000149011612.
double widened(float value);
/// Octets of a device as text: what is no UTF-8 is taken for Latin-1, as most that isn't is.
ua::String textOf(std::string_view octets);
/// Without white space at both ends.
std::string_view trimmed(std::string_view text);

}  // namespace zunth::device
