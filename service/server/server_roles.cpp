#include "core/space/instances.hpp"
#include "service/server/server_object.hpp"
#include "service/server/structure_nodes.hpp"

namespace zunth::server {

using namespace ua;

namespace {

Variant asTexts(const std::vector<std::string>& texts) {
  std::vector<String> out;
  for (const auto& text : texts) out.emplace_back(text);
  return Variant::array(out);
}
NodeId below(const space::Space& space, space::NodeIndex parent, const QualifiedName& name) {
  return NodeId(1, String(std::string(space.nodeId(parent).octets().view()) + "/" + name.name.str()));
}

/// The object of a role that the standard doesn't have, with everything that a role can have.
space::NodeIndex addRoleObject(space::Space& space, const NodeId& role) {
  space::NewNode made;
  made.nodeId = role;
  made.browseName = {1, String(role.octets().view().substr(std::string_view("roles/").size()))};
  auto node = space.add(std::move(made));
  if (!node) return space::kNoNode;
  // As the standard's own roles: what its methods demand decides.
  space.setPermissions(*node, space::standardPermissions());
  const auto type = space.at(id::RoleType);
  space.refer(space.at(id::Server_ServerCapabilities_RoleSet), id::HasComponent, *node);
  space.refer(*node, id::HasTypeDefinition, type);
  const auto add = [&](space::NodeIndex parent, space::NewNode copy) {
    copy.nodeId = below(space, parent, copy.browseName);
    auto child = space.add(std::move(copy));
    return child ? *child : space::kNoNode;
  };
  space::instantiate(space, *node, type, add);
  const std::vector<space::Reference> declared(space.references(type).begin(), space.references(type).end());
  for (const auto& reference : declared)
    if (reference.isForward() && space.isSubtype(reference.type(), id::Aggregates) &&
        space.child(*node, space.browseName(reference.target())) == space::kNoNode)
      space::copyDeclaration(space, *node, reference.target(), add);
  return *node;
}

/// Rules that no site makes: who is not logged in is anonymous, and everybody else is not (Part 18, 4.2.1).
std::vector<secure::RoleRule> builtInRules() {
  std::vector<secure::RoleRule> out(2);
  out[0].role = NodeId(id::WellKnownRole_Anonymous);
  out[0].identities.push_back({IdentityCriteriaType::Anonymous, {}});
  out[1].role = NodeId(id::WellKnownRole_AuthenticatedUser);
  out[1].identities.push_back({IdentityCriteriaType::AuthenticatedUser, {}});
  return out;
}

}  // namespace

void ServerObject::fillRoles() {
  const auto roleSet = space_.at(id::Server_ServerCapabilities_RoleSet);
  if (roleSet == space::kNoNode) return;
  for (const auto& rule : settings_.roles)
    if (space_.find(rule.role) == space::kNoNode) addRoleObject(space_, rule.role);
  std::vector<secure::RoleRule> rules = builtInRules();
  rules.insert(rules.end(), settings_.roles.begin(), settings_.roles.end());
  rules.insert(rules.end(), userRules_.begin(), userRules_.end());
  for (const auto& reference : space_.references(roleSet)) {
    const auto node = reference.target();
    if (!reference.isForward() || space_.typeDefinition(node) != space_.at(id::RoleType)) continue;
    secure::RoleRule all;
    for (const auto& rule : rules) {
      if (!(rule.role == space_.nodeId(node))) continue;
      all.identities.insert(all.identities.end(), rule.identities.begin(), rule.identities.end());
      all.applications.insert(all.applications.end(), rule.applications.begin(), rule.applications.end());
      all.endpoints.insert(all.endpoints.end(), rule.endpoints.begin(), rule.endpoints.end());
      all.applicationsExclude |= rule.applicationsExclude;
      all.endpointsExclude |= rule.endpointsExclude;
    }
    auto show = [&](const char* property, Variant value) {
      const auto child = space_.child(node, {0, property});
      if (child == space::kNoNode) return;
      space_.setPermissions(child, space::administrators());
      space_.setValue(child, DataValue(std::move(value), clock_.wallClock()));
    };
    show("Identities", asValue(all.identities));
    show("Applications", asTexts(all.applications));
    show("ApplicationsExclude", Variant(all.applicationsExclude));
    show("Endpoints", asValue(all.endpoints));
    show("EndpointsExclude", Variant(all.endpointsExclude));
    show("CustomConfiguration", Variant(false));
  }
}

}  // namespace zunth::server
