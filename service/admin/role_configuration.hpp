#pragma once

#include "service/server/server.hpp"

#include <filesystem>

namespace zunth::admin {

/// The RoleSet object (Part 18, 4.2 to 4.4): a security administrator adds and removes roles, and says by which users,
/// applications and endpoints sessions get them. Over encrypted channels only. What was changed so is kept in a file,
/// and stands for what site.yaml says of the same role.
class RoleConfiguration {
 public:
  /// `file` is the service's own; it need not be there.
  RoleConfiguration(server::Server& server, std::filesystem::path file);

  /// The rules with what the file says in the place of those of the same roles. BadConfigurationError for a file that
  /// can't be read: without it, rights that were taken away would come back.
  static ua::Result<std::vector<secure::RoleRule>> changed(std::vector<secure::RoleRule> rules,
                                                           const std::filesystem::path& file);
  /// The site says other rules now; they are the server's already.
  void rulesChanged() { rules_ = server_.settings().roles; }

 private:
  using Inputs = std::vector<ua::Variant>;
  using Outcome = server::CallOutcome;
  using Rule = secure::RoleRule;

  void bindRole(space::NodeIndex role);
  Outcome addRole(const Inputs& inputs);
  Outcome removeRole(const Inputs& inputs);
  Outcome addIdentity(Rule& rule, const ua::Variant& input);
  Outcome removeIdentity(Rule& rule, const ua::Variant& input);
  Outcome addApplication(Rule& rule, const ua::Variant& input);
  Outcome removeApplication(Rule& rule, const ua::Variant& input);
  Outcome addEndpoint(Rule& rule, const ua::Variant& input);
  Outcome removeEndpoint(Rule& rule, const ua::Variant& input);
  /// The one rule of a role, into which several are drawn together.
  Rule& ruleOf(const ua::NodeId& role);
  /// Keeps the change for the next start, then lets it count; what can't be kept is undone.
  ua::Result<void> apply(const ua::NodeId& role);

  server::Server& server_;
  std::filesystem::path file_;
  std::vector<Rule> rules_;
  std::vector<ua::NodeId> touched_;  // roles that the file speaks of
};

}  // namespace zunth::admin
