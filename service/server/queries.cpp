#include "service/server/queries.hpp"

#include "service/server/views.hpp"

#include <algorithm>

namespace zunth::server {

using namespace ua;

ByteString Queries::keep(Session& session, Session::QueryRest rest, const space::Query::Page& page) {
  if (!page.next) return {};
  // Part 4, 7.9: the rest of an earlier query gives way.
  auto& rests = session.queryRests;
  while (rests.size() >= settings_.limits.maxContinuationPointsPerSession) rests.erase(rests.begin());
  rest.from = *page.next;
  const std::uint32_t number = ++session.lastContinuation;
  rests.emplace(number, std::move(rest));
  return ByteString(&number, sizeof number);
}

/// The query, or an error; or nothing to look for, and what is wrong with it in the response.
Result<space::Query> Queries::begin(const QueryFirstRequest& request, QueryFirstResponse& response) const {
  if (auto fine = core_.checkCount(request.nodeTypes.size()); !fine) return fine.error();
  std::size_t operands = 0, columns = 0;
  for (const auto& element : request.filter.elements) operands += element.filterOperands.size();
  for (const auto& type : request.nodeTypes) columns += type.dataToReturn.size();
  if (request.filter.elements.size() > settings_.limits.maxFilterElements ||
      operands > settings_.limits.maxFilterOperands || columns > settings_.limits.maxSelectClauses)
    return Error{status::BadQueryTooComplex, "the query asks for too much at once", {}};
  if (auto view = viewOf(space_, request.view); !view) return view.error();
  return space::Query::from(space_, request, response.parsingResults, response.filterResult);
}

Job Queries::queryFirst(QueryFirstRequest request, Context context) {
  QueryFirstResponse response;
  auto query = begin(request, response);
  if (!query && query.code() != status::BadContentFilterInvalid)
    co_return core_.answer<QueryFirstResponse>(context, query.error());
  if (!query || !response.parsingResults.empty()) {
    // The client is told which part it is.
    response.responseHeader.serviceResult = query.code();
    co_return core_.answer<QueryFirstResponse>(context, std::move(response));
  }
  const std::uint32_t limit = settings_.limits.maxDataSetsPerQuery;
  const std::uint32_t most = request.maxDataSetsToReturn ? std::min(request.maxDataSetsToReturn, limit) : limit;
  space::Query::Page page;
  page.next = 0;
  std::size_t octets = core_.roomFor(context).left();
  while (page.next && page.sets.size() < most && octets > 0) {
    query->fill(page, space_, *page.next, most, octets, context.rights(), core_.turns.slice());
    co_await context.turn(core_.turns, true);
  }
  response.continuationPoint = keep(*context.session, {std::move(*query), most, 0}, page);
  response.queryDataSets = std::move(page.sets);
  core_.answer<QueryFirstResponse>(context, std::move(response));
}

Job Queries::queryNext(QueryNextRequest request, Context context) {
  std::uint32_t number = 0;
  if (request.continuationPoint.size() == sizeof number)
    std::memcpy(&number, request.continuationPoint.data(), sizeof number);
  auto found = context.session->queryRests.extract(number);
  if (!found)
    co_return core_.answer<QueryNextResponse>(
        context, Error{status::BadContinuationPointInvalid, "no query of this session goes on there", {}});
  QueryNextResponse response;
  if (request.releaseContinuationPoint) co_return core_.answer<QueryNextResponse>(context, std::move(response));
  Session::QueryRest rest = std::move(found.mapped());
  space::Query::Page page;
  page.next = rest.from;
  std::size_t octets = core_.roomFor(context).left();
  while (page.next && page.sets.size() < rest.most && octets > 0) {
    rest.query.fill(page, space_, *page.next, rest.most, octets, context.rights(), core_.turns.slice());
    co_await context.turn(core_.turns, true);
  }
  response.revisedContinuationPoint = keep(*context.session, std::move(rest), page);
  response.queryDataSets = std::move(page.sets);
  core_.answer<QueryNextResponse>(context, std::move(response));
}

}  // namespace zunth::server
