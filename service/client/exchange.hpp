#pragma once

#include "core/ua/generated/structures.hpp"

#include <algorithm>
#include <vector>

namespace zunth::client {

/// A request and its answer, for those who carry them and need not know which service it is.
class Exchange {
 public:
  virtual ~Exchange() = default;
  virtual ua::RequestHeader& header() = 0;
  /// The request as a message's body: its encoding id, then itself.
  virtual void encode(ua::BinaryWriter& writer) const = 0;
  /// Takes the answer from a message's body. The server's own word when that is a fault, BadUnknownResponse when it is
  /// something else.
  virtual ua::Result<void> take(ua::BytesView body) = 0;

  /// How many operations the request consists of, when it is a list of them with a result for each; else 0.
  virtual std::size_t operations() const { return 0; }
  /// Makes the request be about these operations alone, of those that there were to begin with.
  virtual void narrow(std::size_t /*from*/, std::size_t /*count*/) {}
  /// Keeps the results of what it was narrowed to; false when their number is another.
  virtual bool keep(std::size_t /*count*/) { return true; }
  /// Makes the answer be that to all operations; diagnostics are there only when nothing was narrowed.
  virtual void finish() {}
  /// Whether a part of it can be asked for again without harm.
  virtual bool onlyLooks() const { return false; }
};

/// What a message says that isn't the answer named `expected`.
ua::Error faultOf(ua::BytesView body, std::string_view expected);

/// Operations that are asked for at once, to begin with; a server that takes fewer says so.
inline constexpr std::size_t kUsualPart = 1'000;

/// Where a request has its operations, and its response their results; for those that have any.
template <class Request>
struct Parts {
  static constexpr bool exist = false;
};

#define ZUNTH_PARTS(Request, list, resultList)                                            \
  template <>                                                                             \
  struct Parts<ua::Request> {                                                             \
    static constexpr bool exist = true;                                                   \
    static auto& operations(ua::Request& request) { return request.list; }                \
    static auto& results(ua::Request::Response& response) { return response.resultList; } \
  }
ZUNTH_PARTS(ReadRequest, nodesToRead, results);
ZUNTH_PARTS(WriteRequest, nodesToWrite, results);
ZUNTH_PARTS(CallRequest, methodsToCall, results);
ZUNTH_PARTS(BrowseRequest, nodesToBrowse, results);
ZUNTH_PARTS(BrowseNextRequest, continuationPoints, results);
ZUNTH_PARTS(TranslateBrowsePathsToNodeIdsRequest, browsePaths, results);
ZUNTH_PARTS(RegisterNodesRequest, nodesToRegister, registeredNodeIds);
ZUNTH_PARTS(CreateMonitoredItemsRequest, itemsToCreate, results);
ZUNTH_PARTS(ModifyMonitoredItemsRequest, itemsToModify, results);
ZUNTH_PARTS(SetMonitoringModeRequest, monitoredItemIds, results);
ZUNTH_PARTS(DeleteMonitoredItemsRequest, monitoredItemIds, results);
ZUNTH_PARTS(DeleteSubscriptionsRequest, subscriptionIds, results);
ZUNTH_PARTS(SetPublishingModeRequest, subscriptionIds, results);
ZUNTH_PARTS(AddNodesRequest, nodesToAdd, results);
ZUNTH_PARTS(DeleteNodesRequest, nodesToDelete, results);
ZUNTH_PARTS(AddReferencesRequest, referencesToAdd, results);
ZUNTH_PARTS(DeleteReferencesRequest, referencesToDelete, results);
#undef ZUNTH_PARTS

template <class Request>
class ExchangeOf : public Exchange {
 public:
  using Response = typename Request::Response;
  explicit ExchangeOf(Request what) : request(std::move(what)) {}

  ua::RequestHeader& header() override { return request.requestHeader; }
  void encode(ua::BinaryWriter& writer) const override {
    writer.write(ua::NodeId(Request::kBinaryId));
    writer.write(request);
  }
  ua::Result<void> take(ua::BytesView body) override {
    ua::BinaryReader reader(body);
    if (!(reader.next<ua::NodeId>() == ua::NodeId(Response::kBinaryId))) return faultOf(body, Response::kName);
    response = {};
    reader.read(response);
    if (!reader.ok()) return reader.error();
    const ua::StatusCode outcome = response.responseHeader.serviceResult;
    return outcome.isBad() ? ua::Result<void>(outcome) : ua::Result<void>();
  }

  Request request;
  Response response;
};

template <class Request>
class ListExchange final : public ExchangeOf<Request> {
 public:
  using P = Parts<Request>;
  using ExchangeOf<Request>::ExchangeOf;

  std::size_t operations() const override { return P::operations(const_cast<Request&>(this->request)).size(); }
  void narrow(std::size_t from, std::size_t count) override {
    auto& list = P::operations(this->request);
    if (all_.empty() && count == list.size()) return;
    if (all_.empty()) all_ = std::move(list);
    list = {};
    for (std::size_t i = from; i < from + count; ++i) list.push_back(all_[i]);
  }
  bool keep(std::size_t count) override {
    auto& results = P::results(this->response);
    if (results.size() != count) return false;
    if (!all_.empty())
      for (auto& result : results) kept_.push_back(std::move(result));
    return true;
  }
  void finish() override {
    if (all_.empty()) return;
    P::results(this->response) = std::move(kept_);
    if constexpr (requires { this->response.diagnosticInfos; }) this->response.diagnosticInfos = {};
  }
  bool onlyLooks() const override {
    return std::is_same_v<Request, ua::ReadRequest> || std::is_same_v<Request, ua::BrowseRequest> ||
           std::is_same_v<Request, ua::TranslateBrowsePathsToNodeIdsRequest>;
  }

 private:
  std::decay_t<decltype(P::operations(std::declval<Request&>()))> all_;  // empty until it was narrowed
  std::decay_t<decltype(P::results(std::declval<typename Request::Response&>()))> kept_;
};

}  // namespace zunth::client
