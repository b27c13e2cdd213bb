#include "core/space/browse.hpp"
#include "service/server/server.hpp"

namespace zunth::server {

using namespace ua;

BrowseResult Server::browseOne(Session& session, Session::BrowseRest work) {
  auto page = space::browse(space_, work.what, work.most, work.from, work.view, session.rights);
  BrowseResult result{page.status, {}, std::move(page.references)};
  if (!page.next) return result;
  if (session.browseRests.size() >= settings_.limits.maxContinuationPointsPerSession) {
    result.statusCode = status::BadNoContinuationPoints;
    result.references.clear();
    return result;
  }
  work.from = *page.next;
  const std::uint32_t number = ++session.lastContinuation;
  session.browseRests.emplace(number, std::move(work));
  result.continuationPoint = ByteString(&number, sizeof number);
  return result;
}

Result<space::NodeIndex> Server::viewOf(const ViewDescription& view) const {
  if (view.viewId.isNull()) return space::kNoNode;
  const auto node = space_.find(view.viewId);
  if (node == space::kNoNode || space_.nodeClass(node) != NodeClass::View)
    return Error{status::BadViewIdUnknown, "there is no view " + view.viewId.text(), {}};
  if (!view.timestamp.isNull() && view.viewVersion != 0)
    return Error{status::BadViewParameterMismatch, "a view is asked for by time or by version, not both", {}};
  if (!view.timestamp.isNull())
    return Error{status::BadViewTimestampInvalid, "this server keeps views as they are now only", {}};
  if (view.viewVersion == 0) return node;
  const auto property = space_.child(node, {0, "ViewVersion"}, id::HasProperty);
  const auto version = property == space::kNoNode ? DataValue() : space_.value(property);
  const auto* number = version.value.get<std::uint32_t>();
  if (!number || *number != view.viewVersion)
    return Error{status::BadViewVersionInvalid, "the view has no such version", {}};
  return node;
}

Result<BrowseResponse> Server::browse(const BrowseRequest& request, Context& context) {
  if (auto fine = checkCount(request.nodesToBrowse.size()); !fine) return fine.error();
  auto view = viewOf(request.view);
  if (!view) return view.error();
  const std::uint32_t most = request.requestedMaxReferencesPerNode ? std::min(request.requestedMaxReferencesPerNode,
                                                                              settings_.limits.maxReferencesPerNode)
                                                                   : settings_.limits.maxReferencesPerNode;
  BrowseResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  for (const auto& what : request.nodesToBrowse) {
    response.results.push_back(browseOne(*context.session, {what, *view, most, 0}));
    const StatusCode code = response.results.back().statusCode;
    diagnostics.note(response.results.size() - 1,
                     {code, code == status::BadNodeIdUnknown ? "there is no node " + what.nodeId.text() : "", {}});
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  return response;
}

Result<BrowseNextResponse> Server::browseNext(const BrowseNextRequest& request, Context& context) {
  if (auto fine = checkCount(request.continuationPoints.size()); !fine) return fine.error();
  BrowseNextResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  for (const auto& point : request.continuationPoints) {
    std::uint32_t number = 0;
    if (point.size() == sizeof number) std::memcpy(&number, point.data(), sizeof number);
    auto rest = context.session->browseRests.extract(number);
    if (!rest)
      response.results.push_back({status::BadContinuationPointInvalid, {}, {}});
    else if (request.releaseContinuationPoints)
      response.results.push_back({});
    else
      response.results.push_back(browseOne(*context.session, std::move(rest.mapped())));
    diagnostics.note(response.results.size() - 1, {response.results.back().statusCode, {}, {}});
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  return response;
}

Result<TranslateBrowsePathsToNodeIdsResponse> Server::translate(const TranslateBrowsePathsToNodeIdsRequest& request,
                                                                Context& context) {
  if (auto fine = checkCount(request.browsePaths.size()); !fine) return fine.error();
  TranslateBrowsePathsToNodeIdsResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  for (const auto& path : request.browsePaths) {
    response.results.push_back(space::translate(space_, path, context.rights()));
    diagnostics.note(response.results.size() - 1, {response.results.back().statusCode, {}, {}});
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  return response;
}

Result<RegisterNodesResponse> Server::registerNodes(const RegisterNodesRequest& request, Context&) {
  if (auto fine = checkCount(request.nodesToRegister.size()); !fine) return fine.error();
  // A lookup costs a few nanoseconds: a node's own id is as good as any other.
  for (const auto& node : request.nodesToRegister)
    if (node.isNull()) return Error{status::BadNodeIdInvalid, "a null NodeId can't be registered", {}};
  RegisterNodesResponse response;
  response.registeredNodeIds = request.nodesToRegister;
  return response;
}

Result<UnregisterNodesResponse> Server::unregisterNodes(const UnregisterNodesRequest& request, Context&) {
  if (auto fine = checkCount(request.nodesToUnregister.size()); !fine) return fine.error();
  return UnregisterNodesResponse{};
}

}  // namespace zunth::server
