#pragma once

#include "core/ua/data_value.hpp"

namespace zunth::ua {

/// Octets that a value holds in memory beside itself, shared or not; about what its encoding takes, too. Strings and
/// arrays count with what they hold, structures of the standard that aren't encoded yet with a guess. Counting ends soon
/// after `enough`, for who wants to know only whether it is more than that.
std::size_t footprint(const Variant& value, std::size_t enough = SIZE_MAX);

/// The same of many values, with what each takes itself.
inline std::size_t footprint(std::span<const Variant> values) {
  std::size_t octets = 0;
  for (const auto& value : values) octets += sizeof value + footprint(value);
  return octets;
}

}  // namespace zunth::ua
