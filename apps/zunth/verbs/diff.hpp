#pragma once

#include "apps/zunth/command.hpp"

namespace zunth::cli {

/// Prints what differs between two sites' folders or NodeSet2 files; kNo when something does.
int showDifference(const Options& options, const std::string& before, const std::string& after);

}  // namespace zunth::cli
