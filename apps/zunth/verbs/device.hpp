#pragma once

#include "apps/zunth/command.hpp"

#include <filesystem>

namespace zunth::cli {

/// A device that is tried before it is bound, or one of a site.
struct TryWish {
  std::string what;                   // a kind of device, or a device of the site
  std::vector<std::string> settings;  // KEY=VALUE, as in its file
  std::vector<std::string> points;    // the words of points
};
int tryDevice(const Options& options, const TryWish& wish, const std::string& folder);

/// A device that is looked through, and what is done with what is found.
struct ScanOrder {
  std::string kind;
  std::vector<std::string> settings;
  int first = 0, last = 199;      // of registers and bits
  double seconds = 5;             // of listening
  std::vector<std::string> only;  // names; empty for all
  std::string into;               // name of the files that are written; empty for none
};
int scanDevice(const Options& options, const ScanOrder& order, const std::string& folder);

/// What a device of a site offers, and which nodes show it: by the site's files, whether or not it runs.
int tellPoints(const Options& options, const std::filesystem::path& folder, const std::string& name);

}  // namespace zunth::cli
