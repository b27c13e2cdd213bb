#pragma once

#include "core/ua/result.hpp"

#include <filesystem>
#include <map>
#include <string>

namespace zunth::admin {

/// The users of a site with the hashes of their passwords, in state/users.yaml. Read anew at each login, so that a
/// change counts at once.
class UserStore {
 public:
  explicit UserStore(std::filesystem::path file) : file_(std::move(file)) {}

  struct User {
    std::string hash;
    bool isEnabled = true;
  };
  /// By name; empty when there is no file. BadConfigurationError for one that can't be read.
  ua::Result<std::map<std::string, User>> load() const;
  ua::Result<void> save(const std::map<std::string, User>& users) const;

  /// Good, or BadUserAccessDenied without saying whether it was the name or the password. Takes as long for a name that
  /// isn't there.
  ua::Result<void> check(const std::string& name, const std::string& password) const;

 private:
  std::filesystem::path file_;
};

}  // namespace zunth::admin
