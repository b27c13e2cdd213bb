#include "service/server/views.hpp"

#include "core/space/browse.hpp"
#include "core/space/path_walk.hpp"

#include <algorithm>

namespace zunth::server {

using namespace ua;

namespace {

constexpr std::size_t kResultSize = 12;        // of a result without references, octets
constexpr std::size_t kBrowseSteps = 20'000;   // references looked at for one page
constexpr std::size_t kLeastDescription = 40;  // octets

std::uint32_t numberOf(const ByteString& point) {
  std::uint32_t number = 0;
  if (point.size() == sizeof number) std::memcpy(&number, point.data(), sizeof number);
  return number;
}

}  // namespace

BrowseResult Views::browseOne(Session& session, Session::BrowseRest work, Room& room) {
  const std::size_t octets = room.left();
  auto page = space::browse(space_, work.what, {work.most, octets, kBrowseSteps}, work.from, work.view, session.rights);
  room.take(std::min(octets, kResultSize + page.references.size() * kLeastDescription));
  for (const auto& reference : page.references)
    room.take(std::min(room.left(), reference.browseName.name.size() + reference.displayName.text.size()));
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

Result<space::NodeIndex> viewOf(const space::Space& space, const ViewDescription& view) {
  if (view.viewId.isNull()) return space::kNoNode;
  const auto node = space.find(view.viewId);
  if (node == space::kNoNode || space.nodeClass(node) != NodeClass::View)
    return Error{status::BadViewIdUnknown, "there is no view " + view.viewId.text(), {}};
  if (!view.timestamp.isNull() && view.viewVersion != 0)
    return Error{status::BadViewParameterMismatch, "a view is asked for by time or by version, not both", {}};
  if (!view.timestamp.isNull())
    return Error{status::BadViewTimestampInvalid, "this server keeps views as they are now only", {}};
  if (view.viewVersion == 0) return node;
  const auto property = space.child(node, {0, "ViewVersion"}, id::HasProperty);
  const auto version = property == space::kNoNode ? DataValue() : space.value(property);
  const auto* number = version.value.get<std::uint32_t>();
  if (!number || *number != view.viewVersion)
    return Error{status::BadViewVersionInvalid, "the view has no such version", {}};
  return node;
}

Job Views::browse(BrowseRequest request, Context context) {
  auto view = viewOf(space_, request.view);
  auto fine = core_.checkCount(request.nodesToBrowse.size());
  if (fine && !view) fine = view.error();
  if (!fine) co_return core_.answer<BrowseResponse>(context, fine.error());
  const std::uint32_t limit = settings_.limits.maxReferencesPerNode;
  const std::uint32_t most =
      request.requestedMaxReferencesPerNode ? std::min(request.requestedMaxReferencesPerNode, limit) : limit;
  // Part 4, 7.9: what was left of the session's earlier requests gives way to this one's.
  const std::uint32_t before = context.session->lastContinuation;
  BrowseResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  Room room = core_.roomFor(context);
  for (const auto& what : request.nodesToBrowse) {
    auto& rests = context.session->browseRests;
    while (rests.size() >= settings_.limits.maxContinuationPointsPerSession && rests.begin()->first <= before)
      rests.erase(rests.begin());
    response.results.push_back(browseOne(*context.session, {what, *view, most, 0}, room));
    const StatusCode code = response.results.back().statusCode;
    if (code.isBad())
      diagnostics.note(response.results.size() - 1,
                       {code, code == status::BadNodeIdUnknown ? "there is no node " + what.nodeId.text() : "", {}});
    co_await context.turn(core_.turns, true);
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<BrowseResponse>(context, std::move(response));
}

Job Views::browseNext(BrowseNextRequest request, Context context) {
  if (auto fine = core_.checkCount(request.continuationPoints.size()); !fine)
    co_return core_.answer<BrowseNextResponse>(context, fine.error());
  BrowseNextResponse response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  Room room = core_.roomFor(context);
  for (const auto& point : request.continuationPoints) {
    auto rest = context.session->browseRests.extract(numberOf(point));
    if (!rest)
      response.results.push_back({status::BadContinuationPointInvalid, {}, {}});
    else if (request.releaseContinuationPoints)
      response.results.push_back({});
    else
      response.results.push_back(browseOne(*context.session, std::move(rest.mapped()), room));
    diagnostics.note(response.results.size() - 1, {response.results.back().statusCode, {}, {}});
    co_await context.turn(core_.turns, true);
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<BrowseNextResponse>(context, std::move(response));
}

Job Views::translate(TranslateBrowsePathsToNodeIdsRequest request, Context context) {
  using Response = TranslateBrowsePathsToNodeIdsResponse;
  if (auto fine = core_.checkCount(request.browsePaths.size()); !fine)
    co_return core_.answer<Response>(context, fine.error());
  Response response;
  OperationDiagnostics diagnostics(context.reply.wanted());
  Room room = core_.roomFor(context);
  for (const auto& path : request.browsePaths) {
    space::PathWalk walk(space_, path, context.rights());
    while (!walk.go(context.rights(), core_.turns.slice())) co_await context.turn(core_.turns, true);
    response.results.push_back(walk.take());
    diagnostics.note(response.results.size() - 1, {response.results.back().statusCode, {}, {}});
    room.take(kResultSize + response.results.back().targets.size() * kLeastDescription);
    if (room.isOver())
      co_return core_.answer<Response>(
          context, Error{status::BadResponseTooLarge, "the paths lead to more nodes than one response can name", {}});
    co_await context.turn(core_.turns, true);
  }
  diagnostics.give(response.responseHeader, response.diagnosticInfos, response.results.size());
  core_.answer<Response>(context, std::move(response));
}

Result<RegisterNodesResponse> Views::registerNodes(const RegisterNodesRequest& request, Context&) {
  if (auto fine = core_.checkCount(request.nodesToRegister.size()); !fine) return fine.error();
  // A lookup costs a few nanoseconds: a node's own id is as good as any other.
  for (const auto& node : request.nodesToRegister)
    if (node.isNull()) return Error{status::BadNodeIdInvalid, "a null NodeId can't be registered", {}};
  RegisterNodesResponse response;
  response.registeredNodeIds = request.nodesToRegister;
  return response;
}

Result<UnregisterNodesResponse> Views::unregisterNodes(const UnregisterNodesRequest& request, Context&) {
  if (auto fine = core_.checkCount(request.nodesToUnregister.size()); !fine) return fine.error();
  return UnregisterNodesResponse{};
}

}  // namespace zunth::server
