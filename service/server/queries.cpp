#include "service/server/server.hpp"

#include <algorithm>

namespace zunth::server {

using namespace ua;

/// The continuation point for what is left of a query; none when nothing is.
Result<ByteString> Server::keepQuery(Session& session, Session::QueryRest rest, const space::Query::Page& page) {
  if (!page.next) return ByteString();
  if (session.queryRests.size() >= settings_.limits.maxContinuationPointsPerSession)
    return Error{status::BadNoContinuationPoints, "the session has as many unfinished queries as it may", {}};
  rest.from = *page.next;
  const std::uint32_t number = ++session.lastContinuation;
  session.queryRests.emplace(number, std::move(rest));
  return ByteString(&number, sizeof number);
}

Result<QueryFirstResponse> Server::queryFirst(const QueryFirstRequest& request, Context& context) {
  if (auto fine = checkCount(request.nodeTypes.size()); !fine) return fine.error();
  if (request.filter.elements.size() > settings_.limits.maxFilterElements)
    return Error{status::BadQueryTooComplex, "the filter has too many elements", {}};
  if (auto view = viewOf(request.view); !view) return view.error();
  QueryFirstResponse response;
  auto query = space::Query::from(space_, request, response.parsingResults, response.filterResult);
  if (!query) {
    if (query.code() != status::BadContentFilterInvalid) return query.error();
    // The client is told which element it is.
    response.responseHeader.serviceResult = query.code();
    return response;
  }
  if (!response.parsingResults.empty()) return response;
  const std::uint32_t limit = settings_.limits.maxDataSetsPerQuery;
  const std::uint32_t most = request.maxDataSetsToReturn ? std::min(request.maxDataSetsToReturn, limit) : limit;
  auto page = query->page(space_, 0, most, context.rights());
  auto point = keepQuery(*context.session, {std::move(*query), most, 0}, page);
  if (!point) return point.error();
  response.continuationPoint = *point;
  response.queryDataSets = std::move(page.sets);
  return response;
}

Result<QueryNextResponse> Server::queryNext(const QueryNextRequest& request, Context& context) {
  std::uint32_t number = 0;
  if (request.continuationPoint.size() == sizeof number)
    std::memcpy(&number, request.continuationPoint.data(), sizeof number);
  auto rest = context.session->queryRests.extract(number);
  if (!rest) return Error{status::BadContinuationPointInvalid, "no query of this session goes on there", {}};
  QueryNextResponse response;
  if (request.releaseContinuationPoint) return response;
  auto page = rest.mapped().query.page(space_, rest.mapped().from, rest.mapped().most, context.rights());
  auto point = keepQuery(*context.session, std::move(rest.mapped()), page);
  if (!point) return point.error();
  response.revisedContinuationPoint = *point;
  response.queryDataSets = std::move(page.sets);
  return response;
}

}  // namespace zunth::server
