#include "apps/zunth/command.hpp"
#include "core/secure/password.hpp"
#include "core/space/permissions.hpp"
#include "core/ua/text.hpp"
#include "service/admin/office.hpp"

#include <filesystem>

#include <fmt/format.h>
#include <yaml-cpp/yaml.h>

namespace zunth::cli {

using namespace ua;
namespace fs = std::filesystem;

namespace {

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

/// What is done is the office's to say no to; a password is asked for before, when there is somebody to have it.
int changeUser(const Options& options, const fs::path& site, const Users& users, const std::string& change,
               const std::string& name, const std::vector<std::string>& roles) {
  Json asked{{"verb", "user"}, {"change", change}, {"name", name}};
  if (!roles.empty()) asked["roles"] = roles;
  if (change == "password" || (change == "add" && !users.contains(name))) {
    if (change == "password" && !users.contains(name))
      return wrongUse(fmt::format("there is no user '{}'", name), "zunth user");
    auto password = askPassword(fmt::format("New password of {}: ", name));
    if (!password) return fail(password.error()), kWrongUse;
    if (password->size() < 8) return wrongUse("a password has eight characters or more", "another one");
    asked["hash"] = secure::hashPassword(*password);
  }
  const auto done = admin::administer(site, asked, milliseconds(options.timeout * 1000));
  if (!done)
    return fail(done.error()),
           done.code() == status::BadNotFound || done.code() == status::BadEntryExists ? kWrongUse : kNo;
  const std::string become =
      roles.empty() ? admin::UserStore::User().roles.front() : fmt::format("{}", fmt::join(roles, ", "));
  const std::map<std::string, std::string> said{{"add", "may log in as " + become}, {"password", "has a new password"},
                                                {"role", "is " + become + " now"},  {"disable", "may log in no longer"},
                                                {"enable", "may log in again"},     {"remove", "is gone"}};
  if (!options.quiet) std::printf("%s %s\n", name.c_str(), said.at(change).c_str());
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
  std::vector<std::pair<Verb, std::string>> changes;
  for (const auto& [word, about] :
       {std::pair{"add", "Let somebody log in."}, std::pair{"password", "Give somebody a new password."},
        std::pair{"role", "Give somebody other roles."}, std::pair{"disable", "Let somebody log in no longer."},
        std::pair{"enable", "Let somebody log in again."}, std::pair{"remove", "Forget somebody."}}) {
    const auto part = addLocalVerb(program, verb, word, about, {}, *site);
    part.option("NAME", *name, "The user's name").required();
    if (std::string(word) == "role")
      part.option("ROLE", *roles, "What they are from now on: " + known).required();
    else if (std::string(word) == "add")
      part.option("--role", *roles, "What they are: " + known + "; Operator without it");
    changes.emplace_back(part, word);
  }
  verb.runs([program, site, name, roles, changes] {
    const auto folder = siteFolder(*site, "zunth user --site FOLDER");
    if (!folder) {
      program.exitCode = fail(folder.error());
      return;
    }
    const auto users = admin::UserStore(*folder / "state/users.yaml").load();
    if (!users) {
      program.exitCode = fail(users.error());
      return;
    }
    const auto given = rolesAt(*folder);
    for (const auto& role : *roles)
      if (std::ranges::find(given, role) == given.end()) {
        const auto near = nearest(role, given);
        program.exitCode = wrongUse(fmt::format("there is no role '{}'", role),
                                    near.empty() ? fmt::format("one of {}", fmt::join(given, ", ")) : near);
        return;
      }
    for (const auto& [part, change] : changes)
      if (part.isGiven()) {
        program.exitCode = changeUser(program.options, *folder, *users, change, *name, *roles);
        return;
      }
    program.exitCode = listUsers(program.options, *users);
  });
}

}  // namespace zunth::cli
