#include "core/space/browse.hpp"
#include "service/server/server.hpp"

namespace zunth::server {

using namespace ua;

BrowseResult Server::browseOne(Session& session, Session::BrowseRest work) {
  auto page = space::browse(space_, work.what, work.most, work.from);
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

Result<BrowseResponse> Server::browse(const BrowseRequest& request, Context& context) {
  if (auto fine = checkCount(request.nodesToBrowse.size()); !fine) return fine.error();
  if (!request.view.viewId.isNull()) {
    const auto view = space_.find(request.view.viewId);
    if (view == space::kNoNode || space_.nodeClass(view) != NodeClass::View)
      return Error{status::BadViewIdUnknown, "there is no view " + request.view.viewId.text(), {}};
  }
  const std::uint32_t most = request.requestedMaxReferencesPerNode ? std::min(request.requestedMaxReferencesPerNode,
                                                                              settings_.limits.maxReferencesPerNode)
                                                                   : settings_.limits.maxReferencesPerNode;
  BrowseResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  for (const auto& what : request.nodesToBrowse) {
    response.results.push_back(browseOne(*context.session, {what, most, 0}));
    if (response.results.back().statusCode == status::BadNodeIdUnknown)
      diagnostics.note(response.results.size() - 1, "there is no node " + what.nodeId.text());
  }
  response.diagnosticInfos = diagnostics.take(response.results.size());
  return response;
}

Result<BrowseNextResponse> Server::browseNext(const BrowseNextRequest& request, Context& context) {
  if (auto fine = checkCount(request.continuationPoints.size()); !fine) return fine.error();
  BrowseNextResponse response;
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
  }
  return response;
}

Result<TranslateBrowsePathsToNodeIdsResponse> Server::translate(const TranslateBrowsePathsToNodeIdsRequest& request,
                                                                Context&) {
  if (auto fine = checkCount(request.browsePaths.size()); !fine) return fine.error();
  TranslateBrowsePathsToNodeIdsResponse response;
  for (const auto& path : request.browsePaths) response.results.push_back(space::translate(space_, path));
  return response;
}

}  // namespace zunth::server
