#pragma once

#include "core/ua/variant.hpp"

namespace zunth::ua {

/// NumericRange (Part 4, 7.27): a part of an array, a matrix, or of the strings in them: "3", "1:4", "1:2,0:3".
class IndexRange {
 public:
  /// BadIndexRangeInvalid when the text is no range. An empty text is the whole value.
  static Result<IndexRange> parse(std::string_view text);
  bool isWhole() const { return bounds_.empty(); }

  /// The part of `value`; BadIndexRangeNoData when nothing of it lies inside.
  Result<Variant> of(const Variant& value) const;
  /// `value` with the part replaced by `part`, which must have its shape: BadIndexRangeDataMismatch, or
  /// BadIndexRangeNoData when the part lies outside.
  Result<Variant> replace(const Variant& value, const Variant& part) const;

 private:
  struct Bound {
    std::uint32_t first, last;  // both inside
  };
  std::vector<Bound> bounds_;
};

}  // namespace zunth::ua
