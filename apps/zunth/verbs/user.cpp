#include "apps/zunth/command.hpp"
#include "core/secure/password.hpp"
#include "core/space/permissions.hpp"
#include "core/ua/text.hpp"
#include "service/admin/user_store.hpp"

#include <filesystem>

#include <fmt/format.h>
#include <yaml-cpp/yaml.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

Result<admin::UserStore> userStoreOf(const std::string& site) {
  const auto folder = siteFolder(site, "zunth user --site FOLDER");
  if (!folder) return folder.error();
  return admin::UserStore(*folder / "state/users.yaml");
}

/// The roles that can be given at a site: the standard's, and its own.
std::vector<std::string> rolesAt(const fs::path& site) {
  std::vector<std::string> names = space::roleNames();
  try {
    for (const auto& role : YAML::LoadFile((site / "site.yaml").string())["roles"]) {
      const auto name = role.first.as<std::string>();
      if (!space::roleNamed(name)) names.push_back(name);
    }
  } catch (const YAML::Exception&) {
    // `zunth check` says what is wrong with it.
  }
  return names;
}

using Users = std::map<std::string, admin::UserStore::User>;

int listUsers(const Options& options, const Users& users) {
  Records records({"user", "state", "roles"});
  for (const auto& [name, user] : users)
    records.add({name, user.isEnabled ? "enabled" : "disabled", fmt::format("{}", fmt::join(user.roles, ", "))});
  if (records.empty() && options.format == Format::Table)
    std::fprintf(stderr, "no user is there yet\ntry: zunth user add NAME\n");
  else
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

enum class UserChange { Add, Password, Roles, Disable, Enable, Remove };

int changeUser(const Options& options, const admin::UserStore& store, Users users, UserChange change,
               const std::string& name, const std::vector<std::string>& roles) {
  const bool isThere = users.contains(name);
  if (change == UserChange::Add && isThere)
    return wrongUse(fmt::format("there is a user '{}' already", name), fmt::format("zunth user password {}", name));
  if (change != UserChange::Add && !isThere) return wrongUse(fmt::format("there is no user '{}'", name), "zunth user");
  std::string said;
  switch (change) {
    case UserChange::Add:
    case UserChange::Password: {
      auto password = askPassword(fmt::format("New password of {}: ", name));
      if (!password) return fail(password.error()), kWrongUse;
      if (password->size() < 8) return wrongUse("a password has eight characters or more", "another one");
      users[name].hash = secure::hashPassword(*password);
      if (!roles.empty()) users[name].roles = roles;
      said = change == UserChange::Add ? fmt::format("may log in as {}", fmt::join(users[name].roles, ", "))
                                       : std::string("has a new password");
      break;
    }
    case UserChange::Roles:
      users[name].roles = roles;
      said = fmt::format("is {} now", fmt::join(roles, ", "));
      break;
    case UserChange::Disable:
    case UserChange::Enable:
      users[name].isEnabled = change == UserChange::Enable;
      said = change == UserChange::Enable ? "may log in again" : "may log in no longer";
      break;
    case UserChange::Remove:
      users.erase(name);
      said = "is gone";
      break;
  }
  if (auto saved = store.save(users); !saved) return fail(saved.error());
  if (!options.quiet) std::printf("%s %s\n", name.c_str(), said.c_str());
  return kDone;
}

}  // namespace

void addUser(Program program) {
  auto site = std::make_shared<std::string>();
  auto name = std::make_shared<std::string>();
  auto roles = std::make_shared<std::vector<std::string>>();
  const std::string known = fmt::format("{}", fmt::join(space::roleNames(), ", "));
  const auto verb = addLocalVerb(
      program, program.top, "user", "Who may log in to a site with a password, and as what; alone: list them.",
      "zunth user add hanna --role Operator --site my-plant\n"
      "A password is asked for, or taken from ZUNTH_PASSWORD. Changes count within a second.",
      *site);
  std::vector<std::pair<Verb, UserChange>> changes;
  for (const auto& [word, about, change] :
       {std::tuple{"add", "Let somebody log in.", UserChange::Add},
        std::tuple{"password", "Give somebody a new password.", UserChange::Password},
        std::tuple{"role", "Give somebody other roles.", UserChange::Roles},
        std::tuple{"disable", "Let somebody log in no longer.", UserChange::Disable},
        std::tuple{"enable", "Let somebody log in again.", UserChange::Enable},
        std::tuple{"remove", "Forget somebody.", UserChange::Remove}}) {
    const auto part = addLocalVerb(program, verb, word, about, {}, *site);
    part.option("NAME", *name, "The user's name").required();
    if (change == UserChange::Roles)
      part.option("ROLE", *roles, "What they are from now on: " + known).required();
    else if (change == UserChange::Add)
      part.option("--role", *roles, "What they are: " + known + "; Operator without it");
    changes.emplace_back(part, change);
  }
  verb.runs([program, site, name, roles, changes] {
    auto store = userStoreOf(*site);
    if (!store) {
      program.exitCode = fail(store.error());
      return;
    }
    auto users = store->load();
    if (!users) {
      program.exitCode = fail(users.error());
      return;
    }
    const auto given = rolesAt(site->empty() ? "." : *site);
    for (const auto& role : *roles)
      if (std::ranges::find(given, role) == given.end()) {
        const auto near = nearest(role, given);
        program.exitCode = wrongUse(fmt::format("there is no role '{}'", role),
                                    near.empty() ? fmt::format("one of {}", fmt::join(given, ", ")) : near);
        return;
      }
    for (const auto& [part, change] : changes)
      if (part.isGiven()) {
        program.exitCode = changeUser(program.options, *store, std::move(*users), change, *name, *roles);
        return;
      }
    program.exitCode = listUsers(program.options, *users);
  });
}

}  // namespace zunth::cli
