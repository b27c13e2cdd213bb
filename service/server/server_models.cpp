#include "core/space/instances.hpp"
#include "service/server/server_object.hpp"
#include "service/server/structure_nodes.hpp"

#include <set>

namespace zunth::server {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

namespace {

/// The languages of the texts that models bring.
std::vector<String> localesOf(const space::Space& space) {
  std::set<std::string> found;
  for (NodeIndex node = 0; node < space.rows(); ++node) {
    const auto* rare = space.exists(node) ? space.rare(node) : nullptr;
    if (!rare) continue;
    for (const auto* texts : {&rare->displayNames, &rare->descriptions})
      for (const auto& text : *texts)
        if (!text.locale.empty()) found.insert(text.locale.str());
  }
  found.erase("en");
  std::vector<String> out{String("en")};
  for (const auto& locale : found) out.emplace_back(locale);
  return out;
}

/// The object that tells of a namespace, below Server/Namespaces; made when there is none yet.
NodeIndex metadataOf(space::Space& space, std::uint16_t ns) {
  const String uri = space.namespaces()[ns];
  const NodeId nodeId(1, String("namespaces/" + uri.str()));
  if (const NodeIndex there = space.find(nodeId); there != kNoNode) return there;
  space::NewNode made;
  made.nodeId = nodeId;
  made.browseName = {ns, uri};
  auto added = space.add(std::move(made));
  if (!added) return kNoNode;
  space.refer(space.at(id::Server_Namespaces), id::HasComponent, *added);
  space.refer(*added, id::HasTypeDefinition, space.at(id::NamespaceMetadataType));
  space::instantiate(space, *added, space.at(id::NamespaceMetadataType), [&](NodeIndex parent, space::NewNode copy) {
    copy.nodeId =
        NodeId(1, String(std::string(space.nodeId(parent).octets().view()) + "/" + copy.browseName.name.str()));
    auto child = space.add(std::move(copy));
    return child ? *child : kNoNode;
  });
  return *added;
}

/// An optional property of a namespace's metadata, made when it isn't there yet.
NodeIndex optionalOf(space::Space& space, NodeIndex metadata, const char* name) {
  if (const NodeIndex there = space.child(metadata, {0, name}); there != kNoNode) return there;
  const NodeIndex declared = space.child(space.at(id::NamespaceMetadataType), {0, name});
  if (declared == kNoNode) return kNoNode;
  NodeIndex made = kNoNode;
  space::copyDeclaration(space, metadata, declared, [&](NodeIndex parent, space::NewNode copy) {
    const bool isStandard = space.nodeId(parent).is(id::OPCUANamespaceMetadata);
    const bool isRoles = copy.browseName.name.view() == "DefaultRolePermissions";
    copy.nodeId = !isStandard ? NodeId(1, String(std::string(space.nodeId(parent).octets().view()) + "/" + name))
                  : isRoles   ? NodeId(id::OPCUANamespaceMetadata_DefaultRolePermissions)
                              : NodeId(id::OPCUANamespaceMetadata_DefaultAccessRestrictions);
    auto child = space.add(std::move(copy));
    return made = child ? *child : kNoNode;
  });
  return made;
}

}  // namespace

void ServerObject::showModels() {
  core_.typesChanged();
  for (std::size_t i = 1; i < space_.namespaces().size(); ++i) {
    const auto ns = static_cast<std::uint16_t>(i);
    const NodeIndex metadata = metadataOf(space_, ns);
    if (metadata == kNoNode) continue;
    const auto& info = space_.modelInfo(ns);
    const auto show = [&](const char* property, Variant value) {
      if (const NodeIndex child = space_.child(metadata, {0, property}); child != kNoNode)
        space_.setValue(child, DataValue(std::move(value), clock_.wallClock()));
    };
    show("NamespaceUri", space_.namespaces()[ns]);
    show("NamespaceVersion", info.version);
    show("NamespacePublicationDate", info.published);
    show("IsNamespaceSubset", false);
    // Ids of a model follow from its paths and stay; those of the server's own namespace come and go.
    show("StaticNodeIdTypes",
         Variant::array(ns == 1 ? std::vector<std::int32_t>()
                                : std::vector<std::int32_t>{static_cast<std::int32_t>(IdType::Numeric),
                                                            static_cast<std::int32_t>(IdType::String)}));
    show("StaticNumericNodeIdRange", Variant::array(std::vector<String>()));
    show("StaticStringNodeIdPattern", String(ns == 1 ? "" : ".*"));
  }
  // What nodes get that say nothing else (Part 5, 6.3.13); who has which rights is for administrators to see.
  for (std::size_t i = 0; i < space_.namespaces().size(); ++i) {
    const auto ns = static_cast<std::uint16_t>(i);
    const NodeIndex metadata = ns == 0 ? space_.at(id::OPCUANamespaceMetadata) : metadataOf(space_, ns);
    if (metadata == kNoNode) continue;
    const auto& usual = space_.namespacePermissions(ns);
    if (const NodeIndex roles = optionalOf(space_, metadata, "DefaultRolePermissions"); roles != kNoNode) {
      space_.setPermissions(roles, space::administrators());
      space_.setValue(roles, DataValue(asValue(List<RolePermissionType>(usual.roles)), clock_.wallClock()));
    }
    if (const NodeIndex restrictions = optionalOf(space_, metadata, "DefaultAccessRestrictions");
        restrictions != kNoNode)
      space_.setValue(restrictions, DataValue(Variant(usual.restrictions), clock_.wallClock()));
  }
  if (const NodeIndex locales = space_.at(id::Server_ServerCapabilities_LocaleIdArray); locales != kNoNode)
    space_.setValue(locales, DataValue(Variant::array(localesOf(space_)), clock_.wallClock()));
}

}  // namespace zunth::server
