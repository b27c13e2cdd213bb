#include "service/admin/role_configuration.hpp"

#include "service/admin/state_list.hpp"

#include <algorithm>
#include <fstream>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::admin {

using namespace ua;
using secure::RoleRule;
using server::CallOutcome;
using server::refused;

namespace {

constexpr std::size_t kMostOfEach = 1'000;  // identities, applications or endpoints of a role
constexpr std::size_t kMostRoles = 200;

bool isWellKnown(const NodeId& role) { return role.isNumericIn0(); }

Json jsonOf(const RoleRule& rule) {
  Json out{{"role", rule.role.text()},          {"identities", Json::array()},
           {"applications", rule.applications}, {"applicationsExclude", rule.applicationsExclude},
           {"endpoints", Json::array()},        {"endpointsExclude", rule.endpointsExclude}};
  for (const auto& identity : rule.identities)
    out["identities"].push_back(
        {{"type", static_cast<int>(identity.criteriaType)}, {"criteria", identity.criteria.str()}});
  for (const auto& endpoint : rule.endpoints)
    out["endpoints"].push_back({{"url", endpoint.endpointUrl.str()},
                                {"mode", static_cast<int>(endpoint.securityMode)},
                                {"policy", endpoint.securityPolicyUri.str()},
                                {"transport", endpoint.transportProfileUri.str()}});
  return out;
}

NodeId roleOf(const Json& json) {
  auto role = NodeId::parse(json.at("role").get<std::string>());
  if (!role) throw std::invalid_argument(role.error().cause);
  return *role;
}

RoleRule ruleOf(const Json& json) {
  RoleRule rule;
  rule.role = roleOf(json);
  for (const auto& identity : json.at("identities"))
    rule.identities.push_back({static_cast<IdentityCriteriaType>(identity.at("type").get<int>()),
                               String(identity.at("criteria").get<std::string>())});
  rule.applications = json.at("applications").get<std::vector<std::string>>();
  rule.applicationsExclude = json.at("applicationsExclude").get<bool>();
  for (const auto& endpoint : json.at("endpoints"))
    rule.endpoints.push_back({String(endpoint.at("url").get<std::string>()),
                              static_cast<MessageSecurityMode>(endpoint.at("mode").get<int>()),
                              String(endpoint.at("policy").get<std::string>()),
                              String(endpoint.at("transport").get<std::string>())});
  rule.endpointsExclude = json.at("endpointsExclude").get<bool>();
  return rule;
}

/// Without this file, roles that were taken away would come back: a damaged one is an error, not an empty list.
StateList listIn(const std::filesystem::path& file) {
  return {file, "roles", "put its last copy back; or move it away, and give and take the roles again"};
}

/// What a file of changed roles says: their rules, and nothing for one that was removed.
Result<std::vector<std::pair<NodeId, std::optional<RoleRule>>>> changesIn(const std::filesystem::path& file) {
  std::vector<std::pair<NodeId, std::optional<RoleRule>>> out;
  const auto kept = listIn(file);
  const auto list = kept.load();
  if (!list) return list.error();
  try {
    for (const auto& each : *list) {
      const NodeId role = roleOf(each);
      out.emplace_back(role, each.value("removed", false) ? std::nullopt : std::optional(ruleOf(each)));
    }
  } catch (const std::exception& problem) {
    return kept.damaged(problem.what());
  }
  return out;
}

/// Adds to a list what isn't in it yet.
template <class List, class Item>
CallOutcome addTo(List& list, Item item, const char* what) {
  if (std::ranges::find(list, item) != list.end())
    return refused(status::BadAlreadyExists, fmt::format("the role has this {} already", what));
  if (list.size() >= kMostOfEach)
    return refused(status::BadResourceUnavailable, fmt::format("a role has {} of these at most", kMostOfEach));
  list.push_back(std::move(item));
  return {};
}
template <class List, class Item>
CallOutcome takeFrom(List& list, const Item& item, const char* what) {
  const auto found = std::ranges::find(list, item);
  if (found == list.end()) return refused(status::BadNotFound, fmt::format("the role has no such {}", what));
  list.erase(found);
  return {};
}

template <class Structure>
std::optional<Structure> structureOf(const Variant& value) {
  const auto* object = value.get<ExtensionObject>();
  auto decoded = object ? object->as<Structure>() : Result<Structure>(Error{status::BadTypeMismatch, {}, {}});
  return decoded ? std::optional<Structure>(std::move(*decoded)) : std::nullopt;
}

/// Part 18, 4.4.4: what a criterion must say for its kind.
bool isSound(const IdentityMappingRuleType& rule) {
  switch (rule.criteriaType) {
    case IdentityCriteriaType::Anonymous:
    case IdentityCriteriaType::AuthenticatedUser:
    case IdentityCriteriaType::TrustedApplication: return true;
    case IdentityCriteriaType::UserName:
    case IdentityCriteriaType::Thumbprint:
    case IdentityCriteriaType::Role:
    case IdentityCriteriaType::Application:
    case IdentityCriteriaType::X509Subject: return !rule.criteria.empty();
    default: return false;
  }
}

}  // namespace

Result<std::vector<RoleRule>> RoleConfiguration::changed(std::vector<RoleRule> rules,
                                                         const std::filesystem::path& file) {
  auto changes = changesIn(file);
  if (!changes) return changes.error();
  for (auto& [role, rule] : *changes) {
    std::erase_if(rules, [&role = role](const RoleRule& old) { return old.role == role; });
    if (rule) rules.push_back(std::move(*rule));
  }
  return rules;
}

RoleConfiguration::RoleConfiguration(server::Server& server, std::filesystem::path file)
    : server_(server), file_(std::move(file)), rules_(server.settings().roles) {
  if (const auto changes = changesIn(file_))
    for (const auto& [role, rule] : *changes) touched_.push_back(role);
  auto& space = server_.space();
  const auto roleSet = space.at(id::Server_ServerCapabilities_RoleSet);
  if (roleSet == space::kNoNode) return;
  for (const auto& [name, method] :
       {std::pair{"AddRole", &RoleConfiguration::addRole}, std::pair{"RemoveRole", &RoleConfiguration::removeRole}})
    if (const auto node = space.child(roleSet, {0, name}); node != space::kNoNode) {
      space.setPermissions(node, space::securityAdministrators());
      server_.setSessionMethod(
          node, [this, method = method](const Inputs& inputs, const NodeId&) { return (this->*method)(inputs); });
    }
  std::vector<space::NodeIndex> roles;
  for (const auto& reference : space.references(roleSet))
    if (reference.isForward() && space.typeDefinition(reference.target()) == space.at(id::RoleType))
      roles.push_back(reference.target());
  for (const auto role : roles) bindRole(role);
}

void RoleConfiguration::bindRole(space::NodeIndex role) {
  auto& space = server_.space();
  for (const auto& [name, method] : {std::pair{"AddIdentity", &RoleConfiguration::addIdentity},
                                     std::pair{"RemoveIdentity", &RoleConfiguration::removeIdentity},
                                     std::pair{"AddApplication", &RoleConfiguration::addApplication},
                                     std::pair{"RemoveApplication", &RoleConfiguration::removeApplication},
                                     std::pair{"AddEndpoint", &RoleConfiguration::addEndpoint},
                                     std::pair{"RemoveEndpoint", &RoleConfiguration::removeEndpoint}}) {
    const auto node = space.child(role, {0, name});
    if (node == space::kNoNode) continue;
    space.setPermissions(node, space::securityAdministrators());
    server_.setSessionMethod(node,
                             [this, id = space.nodeId(role), method = method](const Inputs& inputs, const NodeId&) {
                               Rule changed = ruleOf(id);
                               Outcome outcome = (this->*method)(changed, inputs[0]);
                               if (outcome.error.code.isBad()) return outcome;
                               ruleOf(id) = std::move(changed);
                               if (auto kept = apply(id); !kept) return refused(kept.error());
                               return outcome;
                             });
  }
}

RoleRule& RoleConfiguration::ruleOf(const NodeId& role) {
  auto first = std::ranges::find(rules_, role, &Rule::role);
  if (first == rules_.end()) {
    Rule made;
    made.role = role;
    return rules_.emplace_back(std::move(made));
  }
  for (auto other = first + 1; other != rules_.end();) {
    if (!(other->role == role)) {
      ++other;
      continue;
    }
    first->identities.insert(first->identities.end(), other->identities.begin(), other->identities.end());
    other = rules_.erase(other);
  }
  return *first;
}

Result<void> RoleConfiguration::apply(const NodeId& role) {
  auto touched = touched_;
  if (std::ranges::find(touched, role) == touched.end()) touched.push_back(role);
  Json out = Json::array();
  for (const auto& each : touched) {
    const auto rule = std::ranges::find(rules_, each, &Rule::role);
    out.push_back(rule == rules_.end() ? Json{{"role", each.text()}, {"removed", true}} : jsonOf(*rule));
  }
  auto kept = listIn(file_).save(std::move(out));
  if (!kept) {
    rules_ = server_.settings().roles;
    return kept;
  }
  touched_ = std::move(touched);
  server_.setRoles(rules_);
  return {};
}

CallOutcome RoleConfiguration::addRole(const Inputs& inputs) {
  const auto *name = inputs[0].get<String>(), *uri = inputs[1].get<String>();
  if (!name || name->empty() || name->view().find('/') != std::string_view::npos)
    return refused(status::BadInvalidArgument, "a role needs a name, without a slash in it");
  if (uri && !uri->empty() && uri->view() != server_.settings().applicationUri)
    return refused(status::BadInvalidArgument, "roles are made in this server's own namespace");
  const NodeId role(1, String("roles/" + name->str()));
  if (server_.space().find(role) != space::kNoNode || space::roleNamed(name->view()))
    return refused(status::BadAlreadyExists, fmt::format("there is a role {} already", name->view()));
  if (rules_.size() >= kMostRoles) return refused(status::BadResourceUnavailable, "there are as many roles as may be");
  ruleOf(role);
  if (auto kept = apply(role); !kept) return refused(kept.error());
  bindRole(server_.space().find(role));
  CallOutcome out;
  out.outputs.push_back(Variant(role));
  return out;
}

CallOutcome RoleConfiguration::removeRole(const Inputs& inputs) {
  const auto* role = inputs[0].get<NodeId>();
  auto& space = server_.space();
  const auto node = role ? space.find(*role) : space::kNoNode;
  if (node == space::kNoNode || space.typeDefinition(node) != space.at(id::RoleType))
    return refused(status::BadNodeIdUnknown, "there is no such role");
  if (isWellKnown(*role)) return refused(status::BadNotSupported, "the standard's roles stay");
  const NodeId gone = *role;
  std::erase_if(rules_, [&](const Rule& rule) { return rule.role == gone; });
  if (auto kept = apply(gone); !kept) return refused(kept.error());
  // Children first: what stands below a removed node would be nowhere.
  std::vector<space::NodeIndex> nodes{node};
  for (std::size_t i = 0; i < nodes.size(); ++i)
    for (const auto& reference : space.references(nodes[i]))
      if (reference.isForward() && space.isSubtype(reference.type(), id::HierarchicalReferences))
        nodes.push_back(reference.target());
  for (auto at = nodes.rbegin(); at != nodes.rend(); ++at) space.remove(*at);
  return {};
}

CallOutcome RoleConfiguration::addIdentity(Rule& rule, const Variant& input) {
  auto identity = structureOf<IdentityMappingRuleType>(input);
  if (!identity || !isSound(*identity))
    return refused(status::BadInvalidArgument, "the rule is of no known kind, or lacks its criterion");
  return addTo(rule.identities, std::move(*identity), "identity");
}
CallOutcome RoleConfiguration::removeIdentity(Rule& rule, const Variant& input) {
  auto identity = structureOf<IdentityMappingRuleType>(input);
  if (!identity) return refused(status::BadInvalidArgument, "that is no identity mapping rule");
  return takeFrom(rule.identities, *identity, "identity");
}
CallOutcome RoleConfiguration::addApplication(Rule& rule, const Variant& input) {
  const auto* uri = input.get<String>();
  if (!uri || uri->empty()) return refused(status::BadInvalidArgument, "an application has a URI");
  return addTo(rule.applications, uri->str(), "application");
}
CallOutcome RoleConfiguration::removeApplication(Rule& rule, const Variant& input) {
  const auto* uri = input.get<String>();
  return takeFrom(rule.applications, uri ? uri->str() : std::string(), "application");
}
CallOutcome RoleConfiguration::addEndpoint(Rule& rule, const Variant& input) {
  auto endpoint = structureOf<EndpointType>(input);
  const bool saysNothing = endpoint && endpoint->endpointUrl.empty() && endpoint->securityPolicyUri.empty() &&
                           endpoint->transportProfileUri.empty() &&
                           endpoint->securityMode == MessageSecurityMode::Invalid;
  if (!endpoint || saysNothing)
    return refused(status::BadInvalidArgument, "an endpoint has a URL, a mode, a policy or a transport");
  return addTo(rule.endpoints, std::move(*endpoint), "endpoint");
}
CallOutcome RoleConfiguration::removeEndpoint(Rule& rule, const Variant& input) {
  auto endpoint = structureOf<EndpointType>(input);
  if (!endpoint) return refused(status::BadInvalidArgument, "that is no endpoint");
  return takeFrom(rule.endpoints, *endpoint, "endpoint");
}

}  // namespace zunth::admin
