#pragma once

#include "core/ua/result.hpp"

#include <map>
#include <optional>
#include <string>

namespace zunth::cli {

/// Servers saved under a name, and the one last chosen for each folder. Kept in
/// $XDG_CONFIG_HOME/zunth/places.yaml (or ~/.config/zunth/places.yaml).
class Places {
 public:
  static Places load();
  ua::Result<void> save() const;

  std::map<std::string, std::string> urls;    // by name
  std::map<std::string, std::string> chosen;  // names by folder

  /// The URL that `at` means: a URL itself, a saved name; when it is empty the place chosen for this folder, else the
  /// endpoint of the site in this folder, else the standard's own port on this machine.
  ua::Result<std::string> resolve(const std::string& at) const;
};

}  // namespace zunth::cli
