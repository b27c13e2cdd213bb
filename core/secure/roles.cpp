#include "core/secure/roles.hpp"

#include "core/ua/generated/node_ids.hpp"

#include <algorithm>

namespace zunth::secure {

using namespace ua;

namespace {

bool fits(const Caller& caller, const IdentityMappingRuleType& rule) {
  const std::string criteria = rule.criteria.str();
  switch (rule.criteriaType) {
    case IdentityCriteriaType::UserName: return !caller.userName.empty() && caller.userName == criteria;
    case IdentityCriteriaType::Thumbprint: return !caller.userThumbprint.empty() && caller.userThumbprint == criteria;
    case IdentityCriteriaType::Role: return std::ranges::find(caller.tokenRoles, criteria) != caller.tokenRoles.end();
    case IdentityCriteriaType::Anonymous: return caller.isAnonymous;
    case IdentityCriteriaType::AuthenticatedUser: return !caller.isAnonymous;
    case IdentityCriteriaType::Application: return !caller.applicationUri.empty() && caller.applicationUri == criteria;
    case IdentityCriteriaType::X509Subject: return !caller.userSubject.empty() && caller.userSubject == criteria;
    case IdentityCriteriaType::TrustedApplication: return !caller.applicationUri.empty();
    default: return false;
  }
}

bool fits(const EndpointType& endpoint, const EndpointType& wanted) {
  const auto agrees = [](const String& own, const String& asked) {
    return asked.empty() || own.view() == asked.view();
  };
  return agrees(endpoint.endpointUrl, wanted.endpointUrl) &&
         (wanted.securityMode == MessageSecurityMode::Invalid || endpoint.securityMode == wanted.securityMode) &&
         agrees(endpoint.securityPolicyUri, wanted.securityPolicyUri) &&
         agrees(endpoint.transportProfileUri, wanted.transportProfileUri);
}

bool counts(const std::string& application, const RoleRule& rule) {
  if (rule.applications.empty()) return true;
  return (std::ranges::find(rule.applications, application) != rule.applications.end()) != rule.applicationsExclude;
}
bool counts(const EndpointType& endpoint, const RoleRule& rule) {
  if (rule.endpoints.empty()) return true;
  const bool isListed = std::ranges::any_of(rule.endpoints, [&](const auto& wanted) { return fits(endpoint, wanted); });
  return isListed != rule.endpointsExclude;
}

}  // namespace

std::vector<NodeId> rolesOf(const Caller& caller, const std::vector<RoleRule>& rules) {
  // Part 18, 4.3: every session has Anonymous, every user who says who they are AuthenticatedUser.
  std::vector<NodeId> out{NodeId(id::WellKnownRole_Anonymous)};
  if (!caller.isAnonymous) out.push_back(NodeId(id::WellKnownRole_AuthenticatedUser));
  for (const auto& rule : rules) {
    const bool isOne =
        std::ranges::any_of(rule.identities, [&](const auto& identity) { return fits(caller, identity); });
    if (isOne && counts(caller.applicationUri, rule) && counts(caller.endpoint, rule) &&
        std::ranges::find(out, rule.role) == out.end())
      out.push_back(rule.role);
  }
  return out;
}

}  // namespace zunth::secure
