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
  const std::size_t before = space_.size(), octets = item.nodeAttributes.octets().size() + item.browseName.name.size();
  if (auto fits = core_.holdings.check(octets); !fits) return fits.error();
  auto added = space::addNode(space_, item, std::min<std::size_t>(left, settings_.limits.maxNodesPerInstance));
  if (!added) return added.error();
  core_.addedNodes += space_.size() - before;
  (void)core_.holdings.put(*added, AttributeId::Value, octets);
  changes.push_back(change(space_, *added, Verb::NodeAdded));
  if (const auto above = space_.parent(*added); above != space::kNoNode)
    changes.push_back(change(space_, above, Verb::ReferenceAdded));
  return *added;
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

/// Carries out each operation of a request, audits them together and tells what changed. `operate` puts its result into
/// the response.
template <class Request, class Item, class Operate, class Audit>
Job NodeManagement::each(Request request, Context context, List<Item> Request::*items, Operate operate, Audit audit) {
  using Response = typename Request::Response;
  if (auto fine = mayManage((request.*items).size()); !fine) co_return core_.answer<Response>(context, fine.error());
  Response response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  Changes changes;
  bool allGood = true;
  for (const auto& item : request.*items) {
    const Result<void> done = operate(item, context, changes, response);
    allGood &= static_cast<bool>(done);
    if (!done) diagnostics.note(response.results.size() - 1, done.error());
    co_await context.turn(core_.turns, true);
  }
  core_.typesChanged();
  announcer_.modelChanged(std::move(changes));
  (announcer_.*audit)(context.actor(), request.*items, allGood);
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<Response>(context, std::move(response));
}

/// An operation whose result is its code.
template <class Item>
auto NodeManagement::codeOf(Result<void> (NodeManagement::*operation)(const Item&, const Context&, Changes&)) {
  return [this, operation](const Item& item, const Context& context, Changes& changes, auto& response) {
    auto done = (this->*operation)(item, context, changes);
    response.results.push_back(done.code());
    return done;
  };
}

Job NodeManagement::addNodes(AddNodesRequest request, Context context) {
  const auto addOne = [this](const AddNodesItem& item, const Context& of, Changes& changes,
                             AddNodesResponse& response) -> Result<void> {
    auto added = add(item, of, changes);
    response.results.push_back({added.code(), added ? space_.nodeId(*added) : NodeId()});
    if (!added) return added.error();
    return {};
  };
  return each(std::move(request), std::move(context), &AddNodesRequest::nodesToAdd, addOne, &Announcer::nodesAdded);
}

Job NodeManagement::deleteNodes(DeleteNodesRequest request, Context context) {
  return each(std::move(request), std::move(context), &DeleteNodesRequest::nodesToDelete,
              codeOf(&NodeManagement::remove), &Announcer::nodesDeleted);
}

Job NodeManagement::addReferences(AddReferencesRequest request, Context context) {
  return each(std::move(request), std::move(context), &AddReferencesRequest::referencesToAdd,
              codeOf(&NodeManagement::refer), &Announcer::referencesAdded);
}

Job NodeManagement::deleteReferences(DeleteReferencesRequest request, Context context) {
  return each(std::move(request), std::move(context), &DeleteReferencesRequest::referencesToDelete,
              codeOf(&NodeManagement::unrefer), &Announcer::referencesDeleted);
}

}  // namespace zunth::server
