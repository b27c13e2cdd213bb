#include "service/admin/user_store.hpp"

#include "core/secure/password.hpp"

#include <fstream>

#include <fmt/format.h>
#include <yaml-cpp/yaml.h>

namespace zunth::admin {

using namespace ua;
namespace fs = std::filesystem;

Result<std::map<std::string, UserStore::User>> UserStore::load() const {
  std::map<std::string, User> users;
  if (!fs::exists(file_)) return users;
  try {
    const YAML::Node root = YAML::LoadFile(file_.string());
    for (const auto& entry : root)
      users[entry.first.as<std::string>()] = {entry.second["password"].as<std::string>(),
                                              entry.second["enabled"].as<bool>(true)};
  } catch (const YAML::Exception& e) {
    return Error{status::BadConfigurationError, fmt::format("{} can't be read: {}", file_.string(), e.what()), {}};
  }
  return users;
}

Result<void> UserStore::save(const std::map<std::string, User>& users) const {
  YAML::Emitter out;
  out << YAML::BeginMap;
  for (const auto& [name, user] : users)
    out << YAML::Key << name << YAML::Value << YAML::BeginMap << YAML::Key << "password" << YAML::Value << user.hash
        << YAML::Key << "enabled" << YAML::Value << user.isEnabled << YAML::EndMap;
  out << YAML::EndMap;
  std::error_code failed;
  fs::create_directories(file_.parent_path(), failed);
  const fs::path temporary = file_.string() + ".new";
  std::ofstream stream(temporary);
  fs::permissions(temporary, fs::perms::owner_read | fs::perms::owner_write, failed);
  stream << out.c_str() << '\n';
  stream.close();
  if (!stream) return Error{status::BadConfigurationError, fmt::format("{} can't be written", file_.string()), {}};
  fs::rename(temporary, file_, failed);
  if (failed) return Error{status::BadConfigurationError, fmt::format("{} can't be written", file_.string()), {}};
  return {};
}

Result<void> UserStore::check(const std::string& name, const std::string& password) const {
  static const std::string nobody = secure::hashPassword("nobody's password");
  auto users = load();
  if (!users) return users.error();
  const auto found = users->find(name);
  const bool isThere = found != users->end() && found->second.isEnabled;
  const bool fits = secure::verifyPassword(isThere ? found->second.hash : nobody, password);
  if (isThere && fits) return {};
  return Error{status::BadUserAccessDenied, "the user name or the password is wrong", {}};
}

}  // namespace zunth::admin
