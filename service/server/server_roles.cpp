#include "core/space/instances.hpp"
#include "service/server/server.hpp"

namespace zunth::server {

using namespace ua;

namespace {

template <class Structure>
Variant asObjects(const List<Structure>& list) {
  std::vector<ExtensionObject> objects;
  for (const auto& item : list) objects.push_back(ExtensionObject::of(item));
  return Variant::array(objects);
}
Variant asTexts(const std::vector<std::string>& texts) {
  std::vector<String> out;
  for (const auto& text : texts) out.emplace_back(text);
  return Variant::array(out);
}
Variant asEndpoints(const std::vector<std::string>& urls) {
  List<EndpointType> out;
  for (const auto& url : urls) out.push_back({String(url), MessageSecurityMode::Invalid, {}, {}});
  return asObjects(out);
}

}  // namespace

/// Shows the role rules below Server/ServerCapabilities/RoleSet (Part 18, 4.2), to administrators.
void Server::fillRoles() {
  const auto roleSet = space_.at(id::Server_ServerCapabilities_RoleSet);
  if (roleSet == space::kNoNode) return;
  for (const auto& rule : settings_.roles) {
    auto node = space_.find(rule.role);
    if (node == space::kNoNode) {
      space::NewNode made;
      made.nodeId = rule.role;
      made.browseName = {1, String(rule.role.octets().view().substr(std::string_view("roles/").size()))};
      auto added = space_.add(std::move(made));
      if (!added) continue;
      node = *added;
      space_.refer(roleSet, id::HasComponent, node);
      space_.refer(node, id::HasTypeDefinition, space_.at(id::RoleType));
      space::instantiate(space_, node, space_.at(id::RoleType), [&](space::NodeIndex parent, space::NewNode copy) {
        copy.nodeId =
            NodeId(1, String(std::string(space_.nodeId(parent).octets().view()) + "/" + copy.browseName.name.str()));
        auto child = space_.add(std::move(copy));
        return child ? *child : space::kNoNode;
      });
    }
    auto show = [&](const char* property, Variant value) {
      const auto child = space_.child(node, {0, property});
      if (child == space::kNoNode) return;
      space_.setPermissions(child, space::administrators());
      space_.setValue(child, DataValue(std::move(value), startTime_));
    };
    show("Identities", asObjects(rule.identities));
    show("Applications", asTexts(rule.applications));
    show("ApplicationsExclude", Variant(rule.applicationsExclude));
    show("Endpoints", asEndpoints(rule.endpoints));
    show("EndpointsExclude", Variant(rule.endpointsExclude));
  }
}

}  // namespace zunth::server
