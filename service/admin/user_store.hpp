#pragma once

#include "core/ua/result.hpp"

#include <filesystem>
#include <map>
#include <string>
#include <vector>

namespace zunth::admin {

/// The users of a site with the hashes of their passwords, in state/users.yaml. Read anew at each login, so that a
/// change counts at once.
class UserStore {
 public:
  explicit UserStore(std::filesystem::path file) : file_(std::move(file)) {}

  struct User {
    std::string hash;
    bool isEnabled = true;
    std::vector<std::string> roles{"Operator"};  // by name
  };
  /// By name; empty when there is no file. BadConfigurationError for one that can't be read, or has an entry that
  /// can't: it is not to be written again.
  ua::Result<std::map<std::string, User>> load() const;
  /// Whether the file as a whole can be read, whatever its single entries are.
  ua::Result<void> readable() const;
  ua::Result<void> save(const std::map<std::string, User>& users) const;

  /// The user, or BadUserAccessDenied without saying whether it was the name or the password. Takes as long for a name
  /// that isn't there.
  ua::Result<User> check(const std::string& name, const std::string& password) const;
  /// The user of this name who may log in; BadUserAccessDenied when there is none.
  ua::Result<User> find(const std::string& name) const;
  const std::filesystem::path& file() const { return file_; }

 private:
  std::filesystem::path file_;
};

}  // namespace zunth::admin
