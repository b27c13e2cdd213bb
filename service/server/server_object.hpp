#pragma once

#include "core/aggregate/function.hpp"
#include "service/server/core.hpp"

#include <set>

namespace zunth::server {

/// The Server object of namespace 0 (Part 5, 6.3): state, capabilities, diagnostics, roles and namespaces, kept true.
class ServerObject : Service {
 public:
  explicit ServerObject(Core& core) : Service(core) {}

  /// Gives its nodes their values, the live ones by computing them at each read.
  void fill();
  /// A session's own object (Part 5, 6.3.5), whose NodeId is the session's id.
  void showSession(const Session& session);
  void hideSession(const Session& session);
  /// Shows the role rules below Server/ServerCapabilities/RoleSet (Part 18, 4.2), to administrators: those of the
  /// settings, those that are always there, and those that the site's users have of their own.
  void fillRoles();
  void showUsers(std::vector<secure::RoleRule> rules) {
    userRules_ = std::move(rules);
    fillRoles();
  }
  /// Each namespace has its NamespaceMetadata object (Part 5, 6.3.13), with what its model says of itself.
  void showModels();
  /// There is an archive: shows what of history is served, and how variables are kept (Part 11, 5.2 and 5.4).
  void fillHistory(std::function<ua::DateTime()> beginsAt);
  /// Gives the variables that have a history their configuration; again when models changed.
  void showHistories(std::function<aggregate::Configuration(space::NodeIndex)> usual);
  /// Takes a client's write to one of its own nodes; false when it is none of them.
  bool write(space::NodeIndex node, const ua::Variant& value);

 private:
  void showHistories();
  space::NodeIndex historyConfiguration(bool isStepped, const aggregate::Configuration& how);
  void showAnnotations(space::NodeIndex variable);
  void fillCapabilities();
  void fillDiagnostics();
  ua::ServerStatusDataType serverStatus() const;
  ua::ServerDiagnosticsSummaryDataType diagnosticsSummary() const;
  ua::SessionDiagnosticsDataType diagnosticsOf(const Session& session) const;
  ua::SessionSecurityDiagnosticsDataType securityOf(const Session& session) const;
  std::vector<ua::SubscriptionDiagnosticsDataType> subscriptionDiagnostics(const Session* ofOne) const;
  std::vector<ua::SamplingIntervalDiagnosticsDataType> samplingDiagnostics() const;
  void switchDiagnostics(bool on);

  std::vector<secure::RoleRule> userRules_;
  std::function<ua::DateTime()> historyBegins_;
  std::function<aggregate::Configuration(space::NodeIndex)> usualAggregation_;
  std::set<std::string> annotated_;  // the ids of the properties Annotations
};

}  // namespace zunth::server
