#pragma once

#include "core/ua/result.hpp"

#include <filesystem>
#include <string_view>

namespace zunth::admin {

/// Puts a file in the place of another so that a reader, or a start after a power cut, finds the old or the new and
/// nothing between: written beside under a name of its own, private from its creation (`mode`), synced, renamed, and
/// the folder synced. BadOutOfMemory when the disk is full, BadUserAccessDenied, BadResourceUnavailable; the old file
/// is untouched then.
ua::Result<void> replaceFile(const std::filesystem::path& file, std::string_view text, unsigned mode = 0600);

/// Fails the n-th system call of replaceFile() from now on, as a full disk or a dying machine would; 0 fails none. For
/// tests.
void failReplacingAt(int call);

}  // namespace zunth::admin
