#pragma once

#include "core/ua/variant.hpp"

#include <algorithm>
#include <string>
#include <string_view>
#include <tuple>

/// Values as people read and type them. Not an encoding of the standard: see json.hpp and the binary writer.
namespace zunth::ua {

/// How long a text may become, and how deeply what it shows may nest; "..." stands for the rest.
struct TextLimits {
  std::size_t octets = 16u << 20;
  std::size_t depth = 100;
};

/// A scalar as its shortest exact text: digits that its type carries, text without quotes, times in UTC.
/// Arrays as [1, 2, 3], matrices row by row, structures as {Field: value, ...}; unknown structures by their size.
std::string format(const Variant& value, const TextLimits& limits = {});

/// Reads `text` as a scalar of `type`, or as an array when `isArray` ("[1, 2, 3]" or "1, 2, 3").
/// BadTypeMismatch when the text is no such value, BadOutOfRange when the type can't hold it; the cause says so.
Result<Variant> parse(std::string_view text, BuiltInType type, bool isArray = false);

/// The same value as another numeric type (Boolean counts as 0 or 1), rounding fractions to the nearest integer
/// when `round` is set. BadOutOfRange when it doesn't fit, BadTypeMismatch when it is no number.
Result<Variant> convert(const Variant& value, BuiltInType type, bool round = false);

/// The name among `known` that is nearest to `typed` by edits (a letter lost, added, mistaken, or two swapped), or
/// empty when none is near (more than a third differs).
template <class Names>
std::string nearest(std::string_view typed, const Names& known);
std::size_t editDistance(std::string_view a, std::string_view b);

template <class Names>
std::string nearest(std::string_view typed, const Names& known) {
  std::string best;
  // Among equally near names, one of the same length is likelier (a letter is mistaken more often than lost), then
  // one that begins alike.
  std::tuple<std::size_t, std::size_t, std::size_t> least{std::max<std::size_t>(1, typed.size() / 3) + 1, 0, 0};
  for (const std::string& name : known) {
    const std::size_t apart = name.size() > typed.size() ? name.size() - typed.size() : typed.size() - name.size();
    const auto alike = std::ranges::mismatch(typed, name).in1 - typed.begin();
    const std::tuple<std::size_t, std::size_t, std::size_t> distance{editDistance(typed, name), apart,
                                                                     typed.size() - static_cast<std::size_t>(alike)};
    if (distance < least) {
      least = distance;
      best = name;
    }
  }
  return best;
}

}  // namespace zunth::ua
