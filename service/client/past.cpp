#include "service/client/past.hpp"

#include "core/ua/structure_codec.hpp"

namespace zunth::client {

using namespace ua;

namespace {

ExtensionObject detailsOf(const PastWish& wish, std::size_t variables) {
  if (!wish.moments.empty()) return ExtensionObject::of(ReadAtTimeDetails{List<DateTime>(wish.moments), false});
  if (!wish.function) {
    ReadRawModifiedDetails raw;
    raw.startTime = wish.from;
    raw.endTime = wish.to;
    raw.numValuesPerNode = wish.most;
    raw.returnBounds = wish.withBounds;
    return ExtensionObject::of(raw);
  }
  ReadProcessedDetails processed;
  processed.startTime = wish.from;
  processed.endTime = wish.to;
  processed.processingInterval = wish.every;
  processed.aggregateType = List<NodeId>(std::vector<NodeId>(variables, NodeId(wish.function->id)));
  processed.aggregateConfiguration.useServerCapabilitiesDefaults = true;
  return ExtensionObject::of(processed);
}

/// Counts the parts without anything in them that a server sends one after another: one that says for ever that there
/// is more, and gives nothing, is not listened to for ever.
class EmptyParts {
 public:
  bool areTooMany(std::size_t values) {
    constexpr int kMost = 1'000;
    count_ = values > 0 ? 0 : count_ + 1;
    return count_ > kMost;
  }
  static Error error() {
    return {status::BadUnknownResponse, "the server says again and again that there is more, and gives nothing", {}};
  }

 private:
  int count_ = 0;
};

}  // namespace

Awaitable<Result<std::vector<Past>>> readPast(SessionPtr session, std::vector<NodeId> variables, PastWish wish,
                                              std::function<void(std::size_t)> progress) {
  std::vector<Past> out(variables.size());
  std::vector<std::size_t> left(variables.size());
  for (std::size_t i = 0; i < left.size(); ++i) left[i] = i;
  std::vector<ByteString> points(variables.size());
  std::size_t count = 0;
  EmptyParts empty;
  constexpr std::size_t kAtOnce = 100;
  while (!left.empty()) {
    // Some at a time, so that each has room for many values.
    const std::size_t some = std::min(left.size(), kAtOnce);
    HistoryReadRequest request;
    request.timestampsToReturn = TimestampsToReturn::Both;
    request.historyReadDetails = detailsOf(wish, some);
    for (std::size_t k = 0; k < some; ++k) {
      HistoryReadValueId what;
      what.nodeId = variables[left[k]];
      what.continuationPoint = points[left[k]];
      request.nodesToRead.push_back(std::move(what));
    }
    auto answer = co_await session->request(std::move(request));
    if (!answer) co_return answer.error();
    if (answer->results.size() != some)
      co_return Error{status::BadUnknownResponse, "the server gave a different number of results than asked for", {}};
    std::vector<std::size_t> again;
    const std::size_t before = count;
    for (std::size_t k = 0; k < some; ++k) {
      auto& result = answer->results[k];
      Past& past = out[left[k]];
      if (result.statusCode.isBad()) {
        past.error = {result.statusCode, {}, {}};
        continue;
      }
      if (auto data = result.historyData.as<HistoryData>()) {
        count += data->dataValues.size();
        for (auto& value : data->dataValues) past.values.push_back(std::move(value));
      }
      points[left[k]] = result.continuationPoint;
      const bool isEnough = wish.most != 0 && past.values.size() >= wish.most;
      if (!result.continuationPoint.empty() && !isEnough) again.push_back(left[k]);
    }
    if (!again.empty() && empty.areTooMany(count - before)) co_return EmptyParts::error();
    if (progress) progress(count);
    left.erase(left.begin(), left.begin() + static_cast<std::ptrdiff_t>(some));
    left.insert(left.begin(), again.begin(), again.end());
  }
  co_return std::move(out);
}

Awaitable<Result<void>> eachPast(SessionPtr session, NodeId variable, PastWish wish,
                                 std::function<bool(std::vector<DataValue> part)> take) {
  EmptyParts empty;
  HistoryReadValueId what;
  what.nodeId = std::move(variable);
  do {
    HistoryReadRequest request;
    request.timestampsToReturn = TimestampsToReturn::Both;
    request.historyReadDetails = detailsOf(wish, 1);
    request.nodesToRead.push_back(what);
    auto answer = co_await session->request(std::move(request));
    if (!answer) co_return answer.error();
    if (answer->results.size() != 1) co_return Error{status::BadUnknownResponse, "the server gave no result", {}};
    auto& result = answer->results.front();
    if (result.statusCode.isBad()) co_return Error{result.statusCode, {}, {}};
    std::vector<DataValue> part;
    if (auto data = result.historyData.as<HistoryData>())
      for (auto& value : data->dataValues) part.push_back(std::move(value));
    if (empty.areTooMany(part.size())) co_return EmptyParts::error();
    if (!take(std::move(part))) co_return Result<void>();
    what.continuationPoint = result.continuationPoint;
  } while (!what.continuationPoint.empty());
  co_return Result<void>();
}

Awaitable<Result<HistoryModifiedData>> readModified(SessionPtr session, NodeId variable, DateTime from, DateTime to) {
  HistoryModifiedData out;
  EmptyParts empty;
  HistoryReadValueId what;
  what.nodeId = variable;
  do {
    HistoryReadRequest request;
    request.timestampsToReturn = TimestampsToReturn::Source;
    ReadRawModifiedDetails details;
    details.isReadModified = true;
    details.startTime = from;
    details.endTime = to;
    request.historyReadDetails = ExtensionObject::of(details);
    request.nodesToRead.push_back(what);
    auto answer = co_await session->request(std::move(request));
    if (!answer) co_return answer.error();
    if (answer->results.size() != 1) co_return Error{status::BadUnknownResponse, "the server gave no result", {}};
    auto& result = answer->results.front();
    if (result.statusCode.isBad()) co_return Error{result.statusCode, {}, {}};
    const std::size_t before = out.dataValues.size();
    if (auto data = result.historyData.as<HistoryModifiedData>()) {
      for (auto& value : data->dataValues) out.dataValues.push_back(std::move(value));
      for (auto& info : data->modificationInfos) out.modificationInfos.push_back(std::move(info));
    }
    if (empty.areTooMany(out.dataValues.size() - before)) co_return EmptyParts::error();
    what.continuationPoint = result.continuationPoint;
  } while (!what.continuationPoint.empty());
  co_return std::move(out);
}

Awaitable<Result<std::vector<HistoryEventFieldList>>> readPastEvents(SessionPtr session, NodeId notifier,
                                                                     ReadEventDetails details) {
  std::vector<HistoryEventFieldList> out;
  EmptyParts empty;
  HistoryReadValueId what;
  what.nodeId = std::move(notifier);
  do {
    HistoryReadRequest request;
    request.timestampsToReturn = TimestampsToReturn::Source;
    request.historyReadDetails = ExtensionObject::of(details);
    request.nodesToRead.push_back(what);
    auto answer = co_await session->request(std::move(request));
    if (!answer) co_return answer.error();
    if (answer->results.size() != 1) co_return Error{status::BadUnknownResponse, "the server gave no result", {}};
    auto& result = answer->results.front();
    if (result.statusCode.isBad()) co_return Error{result.statusCode, "its events can't be read", {}};
    const std::size_t before = out.size();
    if (auto data = result.historyData.as<HistoryEvent>())
      for (auto& event : data->events) out.push_back(std::move(event));
    if (empty.areTooMany(out.size() - before)) co_return EmptyParts::error();
    what.continuationPoint = result.continuationPoint;
  } while (!what.continuationPoint.empty() && (details.numValuesPerNode == 0 || out.size() < details.numValuesPerNode));
  co_return std::move(out);
}

Awaitable<Result<HistoryUpdateResult>> updatePast(SessionPtr session, ExtensionObject details) {
  HistoryUpdateRequest request;
  request.historyUpdateDetails.push_back(std::move(details));
  auto answer = co_await session->request(std::move(request));
  if (!answer) co_return answer.error();
  if (answer->results.size() != 1) co_return Error{status::BadUnknownResponse, "the server gave no result", {}};
  co_return std::move(answer->results.front());
}

Awaitable<Result<void>> annotatePast(SessionPtr session, NodeId annotations, DateTime moment, std::string remark) {
  UpdateStructureDataDetails details;
  details.nodeId = std::move(annotations);
  details.performInsertReplace = remark.empty() ? PerformUpdateType::Remove : PerformUpdateType::Update;
  Annotation said;
  said.message = String(remark);
  details.updateValues.push_back(DataValue(Variant(ExtensionObject::of(said)), moment));
  auto update = ExtensionObject::of(details);
  const auto done = co_await updatePast(std::move(session), std::move(update));
  if (!done) co_return done.error();
  const StatusCode outcome =
      done->statusCode.isBad() || done->operationResults.empty() ? done->statusCode : done->operationResults.front();
  if (outcome.isBad()) co_return Error{outcome, "the remark was refused", {}};
  co_return Result<void>();
}

}  // namespace zunth::client
