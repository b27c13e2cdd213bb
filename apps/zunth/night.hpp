#pragma once

#include "core/ua/result.hpp"

#include <filesystem>

namespace zunth::cli {

/// Writes the twelve hours before now into the history of the demo's site, which isn't served yet: made up, and marked
/// so as inserted by hand.
ua::Result<void> makeUpNight(const std::filesystem::path& site);

}  // namespace zunth::cli
