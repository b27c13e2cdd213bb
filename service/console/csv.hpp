#pragma once

#include "service/console/web.hpp"

namespace zunth::console {

/// One field of CSV (RFC 4180). What a spreadsheet would take for a formula is kept from being one.
std::string csvField(const std::string& text);
/// Values as "node,value,unit,status,time", a line each.
Answer csvOf(const Json& rows);

}  // namespace zunth::console
