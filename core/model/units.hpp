#pragma once

#include "core/ua/generated/structures.hpp"

#include <optional>
#include <string>
#include <string_view>

namespace zunth::model {

/// The unit that people write as `symbol` ("L/min", "°C"), as EUInformation with its UNECE code (Part 8, 5.6.3).
/// Case matters only where two symbols differ by nothing else.
std::optional<ua::EUInformation> findUnit(std::string_view symbol);
/// The known symbol that is nearest, or empty.
std::string nearestUnit(std::string_view symbol);

}  // namespace zunth::model
