#pragma once

#include "core/ua/basic_types.hpp"
#include "core/ua/result.hpp"

#include <chrono>
#include <string_view>

namespace zunth::cli {

/// A moment as people say it, by this machine's clock: "now", "-2h", "-90s", "yesterday 06:00", "today", "06:00",
/// "2026-11-28", "2026-11-28 06:00", or with its zone "2026-11-28T06:00:00Z". BadSyntaxError for anything else.
ua::Result<ua::DateTime> momentOf(std::string_view text, std::chrono::system_clock::time_point now);

/// A length of time: "90s", "1min", "15 min", "2h", "1d", "250ms". ms; BadSyntaxError for anything else.
ua::Result<double> lengthOf(std::string_view text);

}  // namespace zunth::cli
