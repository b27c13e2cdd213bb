#include "core/space/node_management.hpp"
#include "service/server/server.hpp"

namespace zunth::server {

using namespace ua;

namespace {

using Verb = ModelChangeStructureVerbMask;

ModelChangeStructureDataType change(const space::Space& space, space::NodeIndex node, std::uint8_t verb) {
  const auto type = space.typeDefinition(node);
  return {space.nodeId(node), type == space::kNoNode ? NodeId() : space.nodeId(type), verb};
}

/// Carries out each operation, collecting results and causes; true when all went well.
template <class Response, class Items, class Operate>
bool operate(const Items& items, WantedDiagnostics wanted, Response& response, Operate operateOne) {
  OperationDiagnostics diagnostics(wanted);
  bool allGood = true;
  for (const auto& item : items) {
    const Error outcome = operateOne(item);
    allGood &= !outcome.code.isBad();
    diagnostics.note(response.results.size() - 1, outcome);
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, items.size());
  return allGood;
}

const Error kDone{status::Good, {}, {}};

/// Good, or why this user may not do it with that node. A node that isn't there is found out about later.
Error mayDo(const space::Space& space, const space::Rights& rights, const NodeId& id, std::uint32_t permission) {
  const auto node = space.find(id);
  const auto code = node == space::kNoNode ? status::Good : space.check(rights, node, permission);
  return {code, code.isBad() ? "this user may not change " + id.text() : "", {}};
}

}  // namespace

Result<void> Server::mayManageNodes(std::size_t operations) const {
  if (!settings_.allowNodeManagement)
    return Error{status::BadUserAccessDenied, "clients may not change the address space of this server",
                 "set 'node-management: on' in its site.yaml"};
  return checkCount(operations);
}

Result<AddNodesResponse> Server::addNodes(const AddNodesRequest& request, Context& context) {
  if (auto fine = mayManageNodes(request.nodesToAdd.size()); !fine) return fine.error();
  AddNodesResponse response;
  std::vector<ModelChangeStructureDataType> changes;
  const bool allGood = operate(request.nodesToAdd, context.reply.wanted(), response, [&](const AddNodesItem& item) {
    const Error may = mayDo(space_, context.rights(), item.parentNodeId.nodeId, PermissionType::AddNode);
    if (may.code.isBad()) {
      response.results.push_back({may.code, {}});
      return may;
    }
    auto added = space::addNode(space_, item);
    response.results.push_back({added.code(), added ? space_.nodeId(*added) : NodeId()});
    if (!added) return added.error();
    changes.push_back(change(space_, *added, Verb::NodeAdded));
    if (const auto parent = space_.parent(*added); parent != space::kNoNode)
      changes.push_back(change(space_, parent, Verb::ReferenceAdded));
    return kDone;
  });
  announcer_.modelChanged(std::move(changes));
  announcer_.nodesAdded(context.actor(), request.nodesToAdd, allGood);
  return response;
}

Result<DeleteNodesResponse> Server::deleteNodes(const DeleteNodesRequest& request, Context& context) {
  if (auto fine = mayManageNodes(request.nodesToDelete.size()); !fine) return fine.error();
  DeleteNodesResponse response;
  std::vector<ModelChangeStructureDataType> changes;
  const bool allGood =
      operate(request.nodesToDelete, context.reply.wanted(), response, [&](const DeleteNodesItem& item) {
        const Error may = mayDo(space_, context.rights(), item.nodeId, PermissionType::DeleteNode);
        if (may.code.isBad()) {
          response.results.push_back(may.code);
          return may;
        }
        const auto node = space_.find(item.nodeId);
        const auto parent = node == space::kNoNode ? node : space_.parent(node);
        auto parentChange =
            parent == space::kNoNode ? ModelChangeStructureDataType() : change(space_, parent, Verb::ReferenceDeleted);
        auto deleted = space::deleteNode(
            space_, item, [&](space::NodeIndex one) { changes.push_back(change(space_, one, Verb::NodeDeleted)); });
        response.results.push_back(deleted.code());
        if (deleted && parent != space::kNoNode) changes.push_back(std::move(parentChange));
        return deleted.error();
      });
  announcer_.modelChanged(std::move(changes));
  announcer_.nodesDeleted(context.actor(), request.nodesToDelete, allGood);
  return response;
}

Result<AddReferencesResponse> Server::addReferences(const AddReferencesRequest& request, Context& context) {
  if (auto fine = mayManageNodes(request.referencesToAdd.size()); !fine) return fine.error();
  AddReferencesResponse response;
  std::vector<ModelChangeStructureDataType> changes;
  const bool allGood =
      operate(request.referencesToAdd, context.reply.wanted(), response, [&](const AddReferencesItem& item) {
        const Error may = mayDo(space_, context.rights(), item.sourceNodeId, PermissionType::AddReference);
        if (may.code.isBad()) {
          response.results.push_back(may.code);
          return may;
        }
        auto added = space::addReference(space_, item);
        response.results.push_back(added.code());
        if (added) changes.push_back(change(space_, space_.find(item.sourceNodeId), Verb::ReferenceAdded));
        return added.error();
      });
  announcer_.modelChanged(std::move(changes));
  announcer_.referencesAdded(context.actor(), request.referencesToAdd, allGood);
  return response;
}

Result<DeleteReferencesResponse> Server::deleteReferences(const DeleteReferencesRequest& request, Context& context) {
  if (auto fine = mayManageNodes(request.referencesToDelete.size()); !fine) return fine.error();
  DeleteReferencesResponse response;
  std::vector<ModelChangeStructureDataType> changes;
  const bool allGood =
      operate(request.referencesToDelete, context.reply.wanted(), response, [&](const DeleteReferencesItem& item) {
        const Error may = mayDo(space_, context.rights(), item.sourceNodeId, PermissionType::RemoveReference);
        if (may.code.isBad()) {
          response.results.push_back(may.code);
          return may;
        }
        auto deleted = space::deleteReference(space_, item);
        response.results.push_back(deleted.code());
        if (deleted) changes.push_back(change(space_, space_.find(item.sourceNodeId), Verb::ReferenceDeleted));
        return deleted.error();
      });
  announcer_.modelChanged(std::move(changes));
  announcer_.referencesDeleted(context.actor(), request.referencesToDelete, allGood);
  return response;
}

}  // namespace zunth::server
