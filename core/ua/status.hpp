#pragma once

#include <cstdint>
#include <optional>
#include <string_view>

namespace zunth::ua {

/// StatusCode (Part 4, 7.39): severity in the top two bits, the condition in the high word, info bits below.
struct StatusCode {
  std::uint32_t value = 0;

  constexpr bool isGood() const { return (value >> 30) == 0; }
  constexpr bool isUncertain() const { return (value >> 30) == 1; }
  constexpr bool isBad() const { return (value >> 31) != 0; }
  /// The condition without limit, overflow and other info bits.
  constexpr StatusCode condition() const { return {value & 0xFFFF0000u}; }
  /// With the bits that mark a monitored item's queue overflow (InfoType DataValue, Overflow).
  constexpr StatusCode withOverflow() const { return {value | 0x0480u}; }
  constexpr bool hasOverflow() const { return (value & 0x0480u) == 0x0480u; }
  /// With the bit that says that the meaning of the value has changed, as its range or unit did (Part 4, 7.39.1).
  constexpr StatusCode withSemanticsChanged() const { return {value | 0x4000u}; }
  constexpr bool hasSemanticsChanged() const { return (value & 0x4000u) != 0; }
  /// The standard's symbolic name of the condition, or "0x8ABC0000" for one it doesn't name.
  std::string_view name() const;

  constexpr bool operator==(const StatusCode&) const = default;
};

/// The StatusCode of this symbolic name ("BadNodeIdUnknown").
std::optional<StatusCode> statusNamed(std::string_view name);

}  // namespace zunth::ua

#include "core/ua/generated/status_codes.hpp"
