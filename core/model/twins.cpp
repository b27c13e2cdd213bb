#include "core/model/twins.hpp"

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

std::vector<std::uint16_t> indexesIn(const Space& to, const Space& from) {
  std::vector<std::uint16_t> indexes;
  std::uint16_t none = UINT16_MAX;
  for (const auto& uri : from.namespaces())
    indexes.push_back(indexes.size() < 2 ? static_cast<std::uint16_t>(indexes.size())
                                         : to.namespaceIndex(uri.view()).value_or(none--));
  return indexes;
}

}  // namespace

Twins::Twins(const Space& from, const Space& to)
    : from_(from),
      to_(to),
      types_(space::typeCatalog(from)),
      renumbered_(indexesIn(to, from), types_),
      twins_(from.rows(), kNoNode) {
  for (NodeIndex node = 0; node < from.rows(); ++node)
    if (from.exists(node))
      twins_[node] = to.find(renumbered_.isIdle() ? from.nodeId(node) : renumbered_(from.nodeId(node)));
}

space::PermissionSet Twins::renumbered(space::PermissionSet permissions) const {
  for (auto& role : permissions.roles) role.roleId = renumbered_(role.roleId);
  return permissions;
}

bool Twins::haveSamePermissions(NodeIndex node, NodeIndex twin) const {
  const auto pair = std::pair(from_.permissionSet(node), to_.permissionSet(twin));
  const auto [known, isNew] = samePermissions_.try_emplace(pair);
  if (isNew) known->second = renumbered(from_.permissionSets()[pair.first]) == to_.permissionSets()[pair.second];
  return known->second;
}

}  // namespace zunth::model
