#include "service/admin/user_store.hpp"

#include "core/secure/password.hpp"
#include "service/admin/state_file.hpp"
#include "service/logs/logs.hpp"

#include <fstream>
#include <functional>

#include <fmt/format.h>
#include <yaml-cpp/yaml.h>

namespace zunth::admin {

using namespace ua;
namespace fs = std::filesystem;

namespace {

constexpr int kVersion = 1;

Error unreadable(const fs::path& file, const std::string& why) {
  return {status::BadConfigurationError, fmt::format("{} can't be read: {}", file.string(), why),
          "put its last copy back; or move it away, and add the users again (zunth user add)"};
}

/// Calls `broken` for each entry that can't be read; an error when the file itself can't.
Result<std::map<std::string, UserStore::User>> readUsers(const fs::path& file,
                                                         const std::function<void(const std::string&)>& broken) {
  std::map<std::string, UserStore::User> users;
  if (!fs::exists(file)) return users;
  try {
    const YAML::Node root = YAML::LoadFile(file.string());
    const int version = root["version"].as<int>(0);
    if (version > kVersion)
      return Error{status::BadNotSupported,
                   fmt::format("{} was written by a newer version of this program", file.string()),
                   "start that one, or put an older copy of the file back"};
    if (version < kVersion || !root["users"].IsMap()) return unreadable(file, "it has no users of a known version");
    for (const auto& entry : root["users"]) {
      try {
        UserStore::User user;
        user.hash = entry.second["password"].as<std::string>();
        user.isEnabled = entry.second["enabled"].as<bool>(true);
        if (const auto roles = entry.second["roles"]) user.roles = roles.as<std::vector<std::string>>();
        users[entry.first.as<std::string>()] = std::move(user);
      } catch (const YAML::Exception& e) {
        broken(fmt::format("{}: an entry can't be read: {}", file.string(), e.what()));
      }
    }
  } catch (const YAML::Exception& e) {
    return unreadable(file, e.what());
  }
  return users;
}

/// Those who can be read, for logging in: one broken entry shuts one user out and nobody else. What is wrong is for the
/// log, not for whoever tries.
std::map<std::string, UserStore::User> usersOf(const fs::path& file) {
  auto users = readUsers(file, [](const std::string& what) { logs::site().error("{}", what); });
  if (users) return std::move(*users);
  logs::site().error("nobody can log in by name: {}", users.error().cause);
  return {};
}

}  // namespace

Result<std::map<std::string, UserStore::User>> UserStore::load() const {
  std::string what;
  auto users = readUsers(file_, [&what](const std::string& one) { what = one; });
  if (users && !what.empty()) return Error{status::BadConfigurationError, what, "mend or remove the entry"};
  return users;
}

Result<void> UserStore::readable() const {
  auto users = readUsers(file_, [](const std::string&) {});
  return users ? Result<void>() : users.error();
}

Result<void> UserStore::save(const std::map<std::string, User>& users) const {
  YAML::Emitter out;
  out << YAML::BeginMap << YAML::Key << "version" << YAML::Value << kVersion << YAML::Key << "users" << YAML::Value
      << YAML::BeginMap;
  for (const auto& [name, user] : users)
    out << YAML::Key << name << YAML::Value << YAML::BeginMap << YAML::Key << "password" << YAML::Value << user.hash
        << YAML::Key << "enabled" << YAML::Value << user.isEnabled << YAML::Key << "roles" << YAML::Value << YAML::Flow
        << user.roles << YAML::EndMap;
  out << YAML::EndMap << YAML::EndMap;
  return replaceFile(file_, std::string(out.c_str()) + "\n");
}

Result<UserStore::User> UserStore::check(const std::string& name, const std::string& password) const {
  static const std::string nobody = secure::hashPassword("nobody's password");
  const auto users = usersOf(file_);
  const auto found = users.find(name);
  const bool isThere = found != users.end() && found->second.isEnabled;
  const bool fits = secure::verifyPassword(isThere ? found->second.hash : nobody, password);
  if (isThere && fits) return found->second;
  return Error{status::BadUserAccessDenied, "the user name or the password is wrong", {}};
}

Result<UserStore::User> UserStore::find(const std::string& name) const {
  const auto users = usersOf(file_);
  const auto found = users.find(name);
  if (found == users.end() || !found->second.isEnabled)
    return Error{status::BadUserAccessDenied, "the user may log in no longer", {}};
  return found->second;
}

}  // namespace zunth::admin
