#pragma once

#include "core/alarm/alarm.hpp"

namespace zunth::alarm {

/// A method of conditions (Part 9, 5.5 to 5.8).
struct Method {
  std::string_view name;
  Answer (*carryOut)(Alarm& alarm, const std::vector<ua::Variant>& inputs, const Alarm::Who& who, const Moment& moment);
};
/// Null for a name that no such method has.
const Method* methodNamed(std::string_view name);

}  // namespace zunth::alarm
