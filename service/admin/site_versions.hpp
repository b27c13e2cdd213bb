#pragma once

#include "core/ua/result.hpp"

#include <filesystem>
#include <vector>

/// A site's folder as a git repository, where it is one, or a part of one: what was applied becomes commits, and can be
/// looked through. Everything here runs `git` and waits for it, ten seconds at most.
namespace zunth::admin {

/// Whether the site's files are under version control.
bool isVersioned(const std::filesystem::path& site);

struct SiteVersion {
  std::string id, who, when, why;  // when: "2026-11-28T06:00:00+01:00"
  std::vector<std::string> files;  // that it changed, from the site's folder on
};
/// Commits these files. `who` is shown as the author; nothing of the machine's own configuration is needed.
ua::Result<void> commitSite(const std::filesystem::path& site, const std::vector<std::string>& files,
                            const std::string& who, const std::string& why);
/// The newest first.
ua::Result<std::vector<SiteVersion>> versionsOf(const std::filesystem::path& site, std::size_t most);
/// A file as it was at a version; empty where it wasn't there. BadNotFound for no such version.
ua::Result<std::string> textAt(const std::filesystem::path& site, const std::string& version, const std::string& file);
/// The files that were otherwise at that version than they are on disk.
ua::Result<std::vector<std::string>> changedSince(const std::filesystem::path& site, const std::string& version);

}  // namespace zunth::admin
