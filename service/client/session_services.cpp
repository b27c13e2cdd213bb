// The services as a session's calls.
#include "core/ua/generated/node_ids.hpp"
#include "service/client/session.hpp"

namespace zunth::client {

using namespace ua;

namespace {

/// The cause that the server gave for an operation, when it gave one.
std::string causeOf(const List<DiagnosticInfo>& infos, std::size_t operation) {
  return operation < infos.size() && infos[operation].additionalInfo ? infos[operation].additionalInfo->str()
                                                                     : std::string();
}

/// Counts what comes page by page: a server that never comes to an end is at fault.
class Pages {
 public:
  Result<void> add(std::size_t results) {
    constexpr std::size_t kMostResults = 10'000'000, kMostEmpty = 1'000;
    results_ += results;
    empty_ = results == 0 ? empty_ + 1 : 0;
    if (results_ <= kMostResults && empty_ <= kMostEmpty) return {};
    return Error{status::BadUnknownResponse, "the server's answer goes on for ever", {}};
  }

 private:
  std::size_t results_ = 0, empty_ = 0;
};

/// What came of a request with one operation: the operation's own failure is an error.
template <class Response, class Take>
auto single(Result<Response> response, Take take) -> Result<std::decay_t<decltype(take(response->results[0]))>> {
  if (!response) return response.error();
  if (response->results.size() != 1)
    return Error{status::BadUnknownResponse, "the server did not say what came of it", {}};
  auto& result = response->results[0];
  const StatusCode code = [&] {
    if constexpr (std::is_same_v<std::decay_t<decltype(result)>, StatusCode>)
      return result;
    else
      return result.statusCode;
  }();
  if (code.isBad()) return Error{code, causeOf(response->diagnosticInfos, 0), {}};
  return take(result);
}
template <class Response>
Result<void> outcomeOf(Result<Response> response) {
  auto result = single(std::move(response), [](StatusCode) { return true; });
  return result ? Result<void>() : Result<void>(result.error());
}

}  // namespace

Awaitable<Result<List<DataValue>>> Session::read(std::vector<ReadValueId> what, TimestampsToReturn timestamps) {
  ReadRequest request;
  request.timestampsToReturn = timestamps;
  const std::size_t count = what.size();
  request.nodesToRead = std::move(what);
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  if (response->results.size() != count)
    co_return Error{status::BadUnknownResponse, "the server gave a different number of values than asked for", {}};
  co_return std::move(response->results);
}

Awaitable<Result<List<DataValue>>> Session::readAttributes(NodeId node, std::vector<AttributeId> attributes) {
  std::vector<ReadValueId> what;
  for (auto attribute : attributes) what.push_back({node, static_cast<std::uint32_t>(attribute), {}, {}});
  return read(std::move(what));
}

Awaitable<Result<Session::WriteOutcome>> Session::write(NodeId node, Variant value) {
  WriteRequest request;
  request.nodesToWrite.push_back(
      {std::move(node), static_cast<std::uint32_t>(AttributeId::Value), {}, DataValue(std::move(value))});
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  if (response->results.size() != 1)
    co_return Error{status::BadUnknownResponse, "the server did not say what came of the write", {}};
  co_return WriteOutcome{{response->results[0], causeOf(response->diagnosticInfos, 0), {}}};
}

Awaitable<Result<std::vector<Session::WriteOutcome>>> Session::write(std::vector<std::pair<NodeId, Variant>> values) {
  WriteRequest request;
  const std::size_t count = values.size();
  for (auto& [node, value] : values)
    request.nodesToWrite.push_back(
        {std::move(node), static_cast<std::uint32_t>(AttributeId::Value), {}, DataValue(std::move(value))});
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  if (response->results.size() != count)
    co_return Error{status::BadUnknownResponse, "the server did not say what came of each write", {}};
  std::vector<WriteOutcome> out;
  for (std::size_t i = 0; i < count; ++i)
    out.push_back({{response->results[i], causeOf(response->diagnosticInfos, i), {}}});
  co_return out;
}

Awaitable<Result<Session::CallOutcome>> Session::call(NodeId object, NodeId method, std::vector<Variant> inputs) {
  CallRequest request;
  request.methodsToCall.push_back({std::move(object), std::move(method), List<Variant>(std::move(inputs))});
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  if (response->results.size() != 1)
    co_return Error{status::BadUnknownResponse, "the server did not say what came of the call", {}};
  auto& result = response->results[0];
  co_return CallOutcome{{result.statusCode, causeOf(response->diagnosticInfos, 0), {}},
                        std::move(result.outputArguments)};
}

Awaitable<Result<std::vector<BrowseResult>>> Session::browse(std::vector<BrowseDescription> what) {
  std::vector<BrowseResult> results;
  constexpr std::size_t kPerRequest = 500;
  for (std::size_t from = 0; from < what.size(); from += kPerRequest) {
    BrowseRequest request;
    const std::size_t to = std::min(what.size(), from + kPerRequest);
    for (std::size_t i = from; i < to; ++i) request.nodesToBrowse.push_back(std::move(what[i]));
    const auto asked = request.nodesToBrowse;
    auto response = co_await this->request(std::move(request));
    if (!response) co_return response.error();
    if (response->results.size() != to - from)
      co_return Error{status::BadUnknownResponse, "the server gave a different number of results than asked for", {}};
    for (std::size_t i = 0; i < response->results.size(); ++i) {
      auto& result = response->results[i];
      if (result.statusCode == status::BadNoContinuationPoints && response->results.size() > 1) {
        // The server can't keep the rest of so many at once: this one alone, then.
        BrowseRequest again;
        again.nodesToBrowse.push_back(asked[i]);
        auto alone = co_await this->request(std::move(again));
        if (!alone) co_return alone.error();
        if (alone->results.size() == 1) result = std::move(alone->results[0]);
      }
      for (Pages pages; !result.continuationPoint.empty();) {
        BrowseNextRequest next;
        next.continuationPoints.push_back(result.continuationPoint);
        auto more = co_await this->request(std::move(next));
        if (!more) co_return more.error();
        if (more->results.size() != 1) co_return Error{status::BadUnknownResponse, "the server broke a browse off", {}};
        auto& rest = more->results[0];
        if (auto fine = pages.add(rest.references.size()); !fine) co_return fine.error();
        for (auto& reference : rest.references) result.references.push_back(std::move(reference));
        result.continuationPoint = rest.continuationPoint;
        result.statusCode = rest.statusCode;
      }
      results.push_back(std::move(result));
    }
  }
  co_return results;
}

Awaitable<Result<List<ReferenceDescription>>> Session::browse(BrowseDescription what) {
  std::vector<BrowseDescription> one;
  one.push_back(std::move(what));
  auto results = co_await browse(std::move(one));
  if (!results) co_return results.error();
  if (results->front().statusCode.isBad()) co_return Error{results->front().statusCode, {}, {}};
  co_return std::move(results->front().references);
}

Awaitable<Result<std::vector<std::string>>> Session::namespaces() {
  auto values =
      co_await readAttributes(NodeId(id::Server_NamespaceArray), std::vector<AttributeId>(1, AttributeId::Value));
  if (!values) co_return values.error();
  std::vector<std::string> out;
  for (const auto& uri : values->front().value.items<String>()) out.push_back(uri.str());
  co_return out;
}

Awaitable<Result<List<BrowsePathTarget>>> Session::translate(BrowsePath path) {
  TranslateBrowsePathsToNodeIdsRequest request;
  request.browsePaths.push_back(std::move(path));
  co_return single(co_await this->request(std::move(request)), [](BrowsePathResult& result) { return result.targets; });
}

Awaitable<Result<List<NodeId>>> Session::registerNodes(List<NodeId> nodes) {
  RegisterNodesRequest request;
  request.nodesToRegister = std::move(nodes);
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  co_return std::move(response->registeredNodeIds);
}

Awaitable<Result<void>> Session::unregisterNodes(List<NodeId> nodes) {
  UnregisterNodesRequest request;
  request.nodesToUnregister = std::move(nodes);
  auto response = co_await this->request(std::move(request));
  if (!response) co_return response.error();
  co_return Result<void>{};
}

Awaitable<Result<List<QueryDataSet>>> Session::query(QueryFirstRequest request) {
  auto first = co_await this->request(std::move(request));
  if (!first) co_return first.error();
  for (std::size_t i = 0; i < first->parsingResults.size(); ++i) {
    const auto& parsing = first->parsingResults[i];
    StatusCode code = parsing.statusCode;
    for (auto data : parsing.dataStatusCodes)
      if (data.isBad()) code = data;
    if (code.isBad())
      co_return Error{code, "the server does not take type " + std::to_string(i + 1) + " of the query", {}};
  }
  for (std::size_t i = 0; i < first->filterResult.elementResults.size(); ++i)
    if (const auto& element = first->filterResult.elementResults[i]; element.statusCode.isBad())
      co_return Error{
          element.statusCode, "the server does not take element " + std::to_string(i + 1) + " of the filter", {}};
  List<QueryDataSet> out = std::move(first->queryDataSets);
  ByteString point = first->continuationPoint;
  for (Pages pages; !point.empty();) {
    QueryNextRequest next;
    next.continuationPoint = point;
    auto more = co_await this->request(std::move(next));
    if (!more) co_return more.error();
    if (auto fine = pages.add(more->queryDataSets.size()); !fine) co_return fine.error();
    for (auto& set : more->queryDataSets) out.push_back(std::move(set));
    point = more->revisedContinuationPoint;
  }
  co_return out;
}

Awaitable<Result<NodeId>> Session::addNode(AddNodesItem item) {
  AddNodesRequest request;
  request.nodesToAdd.push_back(std::move(item));
  co_return single(co_await this->request(std::move(request)),
                   [](AddNodesResult& result) { return result.addedNodeId; });
}

Awaitable<Result<void>> Session::deleteNode(NodeId node) {
  DeleteNodesRequest request;
  request.nodesToDelete.push_back({std::move(node), true});
  co_return outcomeOf(co_await this->request(std::move(request)));
}

Awaitable<Result<void>> Session::addReference(AddReferencesItem item) {
  AddReferencesRequest request;
  request.referencesToAdd.push_back(std::move(item));
  co_return outcomeOf(co_await this->request(std::move(request)));
}

Awaitable<Result<void>> Session::deleteReference(DeleteReferencesItem item) {
  DeleteReferencesRequest request;
  request.referencesToDelete.push_back(std::move(item));
  co_return outcomeOf(co_await this->request(std::move(request)));
}

}  // namespace zunth::client
