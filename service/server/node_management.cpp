#include "service/server/node_management.hpp"

#include "core/space/node_management.hpp"
#include "core/ua/foreign.hpp"

namespace zunth::server {

using namespace ua;

namespace {

using Verb = ModelChangeStructureVerbMask;

ModelChangeStructureDataType change(const space::Space& space, space::NodeIndex node, std::uint8_t verb) {
  const auto type = space.typeDefinition(node);
  return {space.nodeId(node), type == space::kNoNode ? NodeId() : space.nodeId(type), verb};
}

}  // namespace

Result<void> NodeManagement::mayManage(std::size_t operations) const {
  if (!settings_.allowNodeManagement)
    return Error{status::BadUserAccessDenied, "clients may not change the address space of this server",
                 "set 'node-management: on' in its site.yaml"};
  return core_.checkCount(operations);
}

Result<void> NodeManagement::mayDo(const Context& context, space::NodeIndex node, std::uint32_t permission) const {
  if (node == space::kNoNode) return {};
  const auto code = space_.check(context.rights(), node, permission);
  if (code.isBad()) return Error{code, "this user may not change " + shown(space_.nodeId(node).text()), {}};
  return {};
}

Result<space::NodeIndex> NodeManagement::add(const AddNodesItem& item, const Context& context, Changes& changes) {
  const auto parent = space::local(space_, item.parentNodeId);
  if (auto may = mayDo(context, parent, PermissionType::AddNode); !may) return may.error();
  const std::size_t left =
      settings_.limits.maxAddedNodes - std::min<std::size_t>(core_.addedNodes, settings_.limits.maxAddedNodes);
  const std::size_t before = space_.size();
  auto added = space::addNode(space_, item, std::min<std::size_t>(left, settings_.limits.maxNodesPerInstance));
  if (!added) return added.error();
  core_.addedNodes += space_.size() - before;
  changes.push_back(change(space_, *added, Verb::NodeAdded));
  if (const auto above = space_.parent(*added); above != space::kNoNode)
    changes.push_back(change(space_, above, Verb::ReferenceAdded));
  return *added;
}

Job NodeManagement::addNodes(AddNodesRequest request, Context context) {
  if (auto fine = mayManage(request.nodesToAdd.size()); !fine)
    co_return core_.answer<AddNodesResponse>(context, fine.error());
  AddNodesResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  Changes changes;
  bool allGood = true;
  for (const auto& item : request.nodesToAdd) {
    auto added = add(item, context, changes);
    allGood &= static_cast<bool>(added);
    response.results.push_back({added.code(), added ? space_.nodeId(*added) : NodeId()});
    if (!added) diagnostics.note(response.results.size() - 1, added.error());
    co_await context.turn(core_.turns, true);
  }
  announcer_.modelChanged(std::move(changes));
  announcer_.nodesAdded(context.actor(), request.nodesToAdd, allGood);
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<AddNodesResponse>(context, std::move(response));
}

Result<void> NodeManagement::remove(const DeleteNodesItem& item, const Context& context, Changes& changes) {
  const auto node = space_.find(item.nodeId);
  if (auto may = mayDo(context, node, PermissionType::DeleteNode); !may) return may;
  const auto parent = node == space::kNoNode ? node : space_.parent(node);
  auto parentChange =
      parent == space::kNoNode ? ModelChangeStructureDataType() : change(space_, parent, Verb::ReferenceDeleted);
  const std::size_t before = space_.size();
  auto deleted = space::deleteNode(
      space_, item, [&](space::NodeIndex one) { changes.push_back(change(space_, one, Verb::NodeDeleted)); });
  core_.addedNodes -= std::min(core_.addedNodes, before - space_.size());
  if (deleted && parent != space::kNoNode) changes.push_back(std::move(parentChange));
  return deleted;
}

Result<void> NodeManagement::refer(const AddReferencesItem& item, const Context& context, Changes& changes) {
  // Both ends have it afterwards.
  for (const auto end : {space_.find(item.sourceNodeId), space::local(space_, item.targetNodeId)})
    if (auto may = mayDo(context, end, PermissionType::AddReference); !may) return may;
  auto added = space::addReference(space_, item);
  if (added) changes.push_back(change(space_, space_.find(item.sourceNodeId), Verb::ReferenceAdded));
  return added;
}

Result<void> NodeManagement::unrefer(const DeleteReferencesItem& item, const Context& context, Changes& changes) {
  for (const auto end : {space_.find(item.sourceNodeId), space::local(space_, item.targetNodeId)})
    if (auto may = mayDo(context, end, PermissionType::RemoveReference); !may) return may;
  auto deleted = space::deleteReference(space_, item);
  if (deleted) changes.push_back(change(space_, space_.find(item.sourceNodeId), Verb::ReferenceDeleted));
  return deleted;
}

Job NodeManagement::deleteNodes(DeleteNodesRequest request, Context context) {
  if (auto fine = mayManage(request.nodesToDelete.size()); !fine)
    co_return core_.answer<DeleteNodesResponse>(context, fine.error());
  DeleteNodesResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  Changes changes;
  bool allGood = true;
  for (const auto& item : request.nodesToDelete) {
    auto done = remove(item, context, changes);
    allGood &= static_cast<bool>(done);
    response.results.push_back(done.code());
    if (!done) diagnostics.note(response.results.size() - 1, done.error());
    co_await context.turn(core_.turns, true);
  }
  announcer_.modelChanged(std::move(changes));
  announcer_.nodesDeleted(context.actor(), request.nodesToDelete, allGood);
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<DeleteNodesResponse>(context, std::move(response));
}

Job NodeManagement::addReferences(AddReferencesRequest request, Context context) {
  if (auto fine = mayManage(request.referencesToAdd.size()); !fine)
    co_return core_.answer<AddReferencesResponse>(context, fine.error());
  AddReferencesResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  Changes changes;
  bool allGood = true;
  for (const auto& item : request.referencesToAdd) {
    auto done = refer(item, context, changes);
    allGood &= static_cast<bool>(done);
    response.results.push_back(done.code());
    if (!done) diagnostics.note(response.results.size() - 1, done.error());
    co_await context.turn(core_.turns, true);
  }
  announcer_.modelChanged(std::move(changes));
  announcer_.referencesAdded(context.actor(), request.referencesToAdd, allGood);
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<AddReferencesResponse>(context, std::move(response));
}

Job NodeManagement::deleteReferences(DeleteReferencesRequest request, Context context) {
  if (auto fine = mayManage(request.referencesToDelete.size()); !fine)
    co_return core_.answer<DeleteReferencesResponse>(context, fine.error());
  DeleteReferencesResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  Changes changes;
  bool allGood = true;
  for (const auto& item : request.referencesToDelete) {
    auto done = unrefer(item, context, changes);
    allGood &= static_cast<bool>(done);
    response.results.push_back(done.code());
    if (!done) diagnostics.note(response.results.size() - 1, done.error());
    co_await context.turn(core_.turns, true);
  }
  announcer_.modelChanged(std::move(changes));
  announcer_.referencesDeleted(context.actor(), request.referencesToDelete, allGood);
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<DeleteReferencesResponse>(context, std::move(response));
}

}  // namespace zunth::server
