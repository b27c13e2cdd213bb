#include "service/server/histories.hpp"

#include "core/history/kept_event.hpp"
#include "core/history/variables.hpp"
#include "core/ua/footprint.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/index_range.hpp"
#include "core/ua/structure_codec.hpp"
#include "service/server/request_checks.hpp"

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;
using space::NodeIndex;

namespace {

constexpr std::size_t kMostTimes = 10'000;  // in one ReadAtTime

/// Ticks of an interval in ms; nothing for what is none.
std::optional<std::int64_t> widthOf(double ms) {
  constexpr double kTicksPerMs = 10'000, kMost = 1e13;  // three centuries
  if (!(ms >= 0)) return std::nullopt;
  return static_cast<std::int64_t>(std::min(ms, kMost) * kTicksPerMs);
}

/// Which values of a sample the client asked for.
struct Shape {
  TimestampsToReturn timestamps;
  IndexRange range;
  DataEncoding encoding = DataEncoding::Binary;
  std::shared_ptr<const TypeCatalog> types = nullptr;  // where structures are not in binary

  void apply(DataValue& value, bool isCalculated) const {
    const bool source = timestamps != TimestampsToReturn::Server, server = timestamps != TimestampsToReturn::Source;
    // What is calculated has one time (Part 11, 6.4.4).
    if (isCalculated) value.serverTimestamp = server ? value.sourceTimestamp : DateTime();
    if (!source) value.sourceTimestamp = {};
    if (!server) value.serverTimestamp = {};
    if (value.value.isNull()) return;
    auto shaped = range.isWhole() ? Result<Variant>(std::move(value.value)) : range.of(value.value);
    if (shaped && encoding != DataEncoding::Binary) shaped = encodedAs(*shaped, encoding, *types);
    value.value = shaped ? std::move(*shaped) : Variant();
    if (!shaped) value.status = shaped.code();
  }
};

/// A timeline that is known to go on until now.
class Watched final : public history::Timeline {
 public:
  Watched(std::unique_ptr<history::Timeline> timeline, DateTime until)
      : timeline_(std::move(timeline)), until_(until) {}
  Result<void> walk(DateTime from, DateTime to, const Visit& visit) const override {
    return timeline_->walk(from, to, visit);
  }
  bool holdsOn(DateTime moment) const override { return moment <= until_; }

 private:
  std::unique_ptr<history::Timeline> timeline_;
  DateTime until_;
};

/// Encoded where it was read, so that the services' thread has octets to copy and nothing more.
template <class Structure>
ExtensionObject encoded(const Structure& structure) {
  Bytes octets;
  BinaryWriter(octets).write(structure);
  return ExtensionObject::binary(NodeId(0, Structure::kBinaryId), ByteString(octets));
}

/// What one node's part of an answer comes to.
struct Answer {
  Result<ExtensionObject> data = ExtensionObject();
  bool isEmpty = false;
  std::optional<HistoryRest> left{};
};

template <class Part>
Answer answerWith(Result<Part> part, const HistoryRest& rest, const Shape& shape) {
  if (!part) return {part.error()};
  const bool isCalculated = !std::holds_alternative<history::RawWish>(rest.wish);
  for (auto& value : part->values) shape.apply(value, isCalculated);
  Answer out;
  out.isEmpty = part->values.empty();
  HistoryData data;
  data.dataValues = List<DataValue>(std::move(part->values));
  out.data = encoded(data);
  if (part->rest) out.left = HistoryRest{rest.nodeId, std::move(*part->rest), rest.manner};
  return out;
}

Answer modifiedOf(history::Store& store, history::VariableId variable, const HistoryRest& rest, const Shape& shape,
                  std::size_t most) {
  const auto& wish = std::get<HistoryRest::Modified>(rest.wish);
  const bool isBackward = wish.end < wish.start;
  auto all = isBackward ? store.modified(variable, history::after(wish.end), history::after(wish.start))
                        : store.modified(variable, wish.start, wish.end);
  if (!all) return {all.error()};
  if (isBackward) std::ranges::reverse(*all);
  HistoryModifiedData data;
  const std::size_t begin = std::min(wish.next, all->size()), end = std::min(all->size(), begin + most);
  for (std::size_t at = begin; at < end; ++at) {
    shape.apply((*all)[at].sample, false);
    data.dataValues.push_back(std::move((*all)[at].sample));
    data.modificationInfos.push_back(std::move((*all)[at].info));
  }
  Answer out{encoded(data), begin == end};
  if (end < all->size()) out.left = HistoryRest{rest.nodeId, HistoryRest::Modified{wish.start, wish.end, end}, {}};
  return out;
}

/// When there are remarks about what an aggregate is of, the part that is read next.
Result<std::vector<DateTime>> remarksFor(const history::Timeline& remarks, const history::ProcessedWish& wish,
                                         const history::Limits& limits) {
  std::vector<DateTime> out;
  const auto from = std::min(wish.start, wish.end), to = std::max(wish.start, wish.end);
  auto fine = remarks.walk(from, history::after(to), [&](std::span<const DataValue> some) {
    for (const auto& remark : some)
      if (!remark.status.isBad()) out.push_back(remark.sourceTimestamp);
    return out.size() < limits.steps;
  });
  if (!fine) return fine.error();
  return out;
}

/// On the thread of history.
Answer answerOf(history::Store& store, history::VariableId variable, history::VariableId remarks, HistoryRest& rest,
                const Shape& shape, const history::Limits& limits, DateTime watchedUntil) {
  const Watched timeline(store.timeline(variable), watchedUntil);
  if (auto* raw = std::get_if<history::RawWish>(&rest.wish))
    return answerWith(readRaw(timeline, *raw, limits), rest, shape);
  if (auto* atTime = std::get_if<history::AtTimeWish>(&rest.wish))
    return answerWith(readAtTime(timeline, std::move(*atTime), rest.manner, limits), rest, shape);
  if (auto* processed = std::get_if<history::ProcessedWish>(&rest.wish)) {
    if (processed->function->kind == aggregate::Kind::AnnotationCount) {
      auto times = remarksFor(*store.timeline(remarks), *processed, limits);
      if (!times) return {times.error()};
      processed->annotations = std::move(*times);
    }
    return answerWith(readProcessed(timeline, std::move(*processed), rest.manner, limits), rest, shape);
  }
  return modifiedOf(store, variable, rest, shape, limits.values);
}

}  // namespace

/// A HistoryRead under way: its nodes are read one after another, so that everybody's take turns.
struct Histories::Reading {
  using Results = Gathering<HistoryReadResponse, HistoryReadResult>;
  HistoryReadRequest request;
  NodeId token;  // of the session, which may end meanwhile
  std::shared_ptr<Results> results;
  std::vector<Result<HistoryRest>> wishes;
  history::Limits limits;
  std::size_t next = 0;
};

/// Events come some at a time: what is chosen of them is chosen here, where types and rights are known.
struct Histories::EventsRead {
  std::shared_ptr<Reading> reading;
  std::size_t i;
  HistoryRest rest;
  HistoryEvent out{};
  std::size_t octets = 0, looked = 0;

  HistoryRest::Events& wish() { return std::get<HistoryRest::Events>(rest.wish); }
};

Result<void> checkHistory(const Core& core, NodeIndex node, const NodeId& id, std::uint32_t permission,
                          std::uint8_t accessLevel, const Context& context) {
  const auto& space = core.space;
  if (node == space::kNoNode || !space.sees(context.rights(), node))
    return Error{status::BadNodeIdUnknown, "there is no node " + shown(id.text()), {}};
  const bool hasHistory = space.nodeClass(node) == NodeClass::Variable && core.archive &&
                          (space.traits(node).accessLevel & accessLevel) != 0;
  if (!hasHistory)
    return Error{status::BadHistoryOperationUnsupported, space.path(node) + " has no history for this",
                 "give it the word 'history' in the model"};
  const auto code = space.check(context.rights(), node, permission);
  if (code.isBad()) return Error{code, "this user may not do this with the history of " + space.path(node), {}};
  return {};
}

Result<void> checkEventHistory(const Core& core, NodeIndex node, const NodeId& id, std::uint32_t permission,
                               const Context& context) {
  const auto& space = core.space;
  if (node == space::kNoNode || !space.sees(context.rights(), node))
    return Error{status::BadNodeIdUnknown, "there is no node " + shown(id.text()), {}};
  if (!core.archive || space.nodeClass(node) != NodeClass::Object || space.eventNotifier(node) == 0)
    return Error{status::BadHistoryOperationUnsupported, space.path(node) + " announces no events that are kept", {}};
  const auto code = space.check(context.rights(), node, permission);
  if (code.isBad()) return Error{code, "this user may not do this with the history of " + space.path(node), {}};
  return {};
}

aggregate::Manner Histories::mannerOf(NodeIndex variable) const {
  return {history::usualAggregation(space_, variable), history::isStepped(space_, variable)};
}

Result<HistoryRest::Wish> Histories::wishOf(const HistoryReadRequest& request, std::size_t i) const {
  const auto& details = request.historyReadDetails;
  if (details.is<ReadRawModifiedDetails>()) {
    const auto raw = details.as<ReadRawModifiedDetails>();
    if (!raw) return raw.error();
    if (raw->isReadModified) {
      if (raw->startTime.isNull() || raw->endTime.isNull())
        return Error{status::BadHistoryOperationInvalid, "what was modified is asked for between two times", {}};
      return HistoryRest::Wish(HistoryRest::Modified{raw->startTime, raw->endTime});
    }
    const history::RawWish wish{raw->startTime, raw->endTime, raw->numValuesPerNode, raw->returnBounds};
    if (auto fine = wish.check(); !fine) return fine.error();
    return HistoryRest::Wish(wish);
  }
  if (details.is<ReadAtTimeDetails>()) {
    auto at = details.as<ReadAtTimeDetails>();
    if (!at) return at.error();
    if (at->reqTimes.empty() || at->reqTimes.size() > kMostTimes)
      return Error{status::BadHistoryOperationInvalid, fmt::format("1 to {} times can be asked for", kMostTimes), {}};
    return HistoryRest::Wish(history::AtTimeWish{std::move(at->reqTimes), at->useSimpleBounds});
  }
  if (details.is<ReadProcessedDetails>()) {
    const auto processed = details.as<ReadProcessedDetails>();
    if (!processed) return processed.error();
    if (processed->aggregateType.size() != request.nodesToRead.size())
      return Error{status::BadAggregateListMismatch, "each node has one aggregate", {}};
    const auto* function = aggregate::functionOf(processed->aggregateType[i]);
    if (!function)
      return Error{status::BadAggregateNotSupported,
                   shown(processed->aggregateType[i].text()) + " is no aggregate that is served",
                   {}};
    const auto width = widthOf(processed->processingInterval);
    if (processed->startTime.isNull() || processed->endTime.isNull() || processed->startTime == processed->endTime)
      return Error{status::BadInvalidTimestampArgument, "an aggregate has a start and another end", {}};
    if (!width) return Error{status::BadInvalidArgument, "an interval can't be negative", {}};
    return HistoryRest::Wish(history::ProcessedWish{processed->startTime, processed->endTime, *width, function});
  }
  return Error{status::BadHistoryOperationUnsupported, "this way of reading history is not served", {}};
}

Result<HistoryRest> Histories::beginning(const HistoryReadRequest& request, std::size_t i,
                                         const Context& context) const {
  const auto& what = request.nodesToRead[i];
  const auto node = space_.find(what.nodeId);
  const bool isEvents = request.historyReadDetails.is<ReadEventDetails>();
  const auto fine = isEvents ? checkEventHistory(core_, node, what.nodeId, PermissionType::ReadHistory, context)
                             : checkHistory(core_, node, what.nodeId, PermissionType::ReadHistory,
                                            AccessLevelType::HistoryRead, context);
  if (!fine) return fine.error();
  if (!what.continuationPoint.empty()) {
    std::uint32_t number = 0;
    if (what.continuationPoint.size() == sizeof number)
      std::memcpy(&number, what.continuationPoint.data(), sizeof number);
    auto found = context.session->historyRests.extract(number);
    if (!found || !(found.mapped()->nodeId == what.nodeId) ||
        isEvents != std::holds_alternative<HistoryRest::Events>(found.mapped()->wish))
      return Error{status::BadContinuationPointInvalid, "nothing of this node's history goes on there", {}};
    return std::move(*found.mapped());
  }
  auto wish = isEvents ? eventsWish(request.historyReadDetails) : wishOf(request, i);
  if (!wish) return wish.error();
  HistoryRest rest{what.nodeId, std::move(*wish), isEvents ? aggregate::Manner() : mannerOf(node)};
  if (const auto* processed = std::get_if<history::ProcessedWish>(&rest.wish)) {
    const auto details = request.historyReadDetails.as<ReadProcessedDetails>();
    auto configuration = aggregate::configurationOf(details->aggregateConfiguration, rest.manner.configuration);
    if (!configuration) return configuration.error();
    rest.manner.configuration = *configuration;
    if (processed->function->needsNumbers && !history::hasNumbers(space_, node))
      return Error{status::BadAggregateInvalidInputs,
                   fmt::format("{} is for numbers, which {} has not", processed->function->name, space_.path(node)),
                   {}};
  }
  return rest;
}

Job Histories::historyRead(HistoryReadRequest request, Context context) {
  const std::size_t count = request.nodesToRead.size();
  auto fine = core_.checkCount(count);
  if (fine && (!isValid(request.timestampsToReturn) || request.timestampsToReturn == TimestampsToReturn::Neither))
    fine = Error{status::BadTimestampsToReturnInvalid, "history has times: ask for one of them, or both", {}};
  if (!fine) co_return core_.answer<HistoryReadResponse>(context, fine.error());
  auto reading = std::make_shared<Reading>(Reading{std::move(request), context.session->token, {}, {}, {}});
  const auto failed = [](StatusCode code) { return HistoryReadResult{code, {}, {}}; };
  reading->results = std::make_shared<Reading::Results>(context.reply, count, clock_.wallClock, failed);
  // Each node has its share of the response.
  constexpr std::size_t kMostValues = 50'000, kLeastOctets = 4'096;
  reading->limits.octets = std::max(core_.roomFor(context).left() * 3 / 4 / count, kLeastOctets);
  reading->limits.values = std::max<std::size_t>(kMostValues / count, 100);
  for (std::size_t i = 0; i < count; ++i) {
    const auto& what = reading->request.nodesToRead[i];
    if (reading->request.releaseContinuationPoints && !what.continuationPoint.empty()) {
      auto released = beginning(reading->request, i, context);
      reading->wishes.emplace_back(released ? Error{status::Good, {}, {}} : released.error());
    } else {
      reading->wishes.push_back(beginning(reading->request, i, context));
    }
    co_await context.turn(core_.turns, true);
  }
  core_.count(context.session, context.requestType, status::Good);
  core_.keepOutstanding(context, reading->results);
  readNext(reading);
}

void Histories::readNext(const std::shared_ptr<Reading>& reading) {
  while (reading->next < reading->wishes.size() && !reading->results->isAnswered()) {
    const std::size_t i = reading->next++;
    auto& wish = reading->wishes[i];
    if (wish) return readOne(reading, i, std::move(*wish));
    reading->results->set(i, HistoryReadResult{wish.error().code, {}, {}}, wish.error());
  }
}

void Histories::readOne(const std::shared_ptr<Reading>& reading, std::size_t i, HistoryRest rest) {
  if (std::holds_alternative<HistoryRest::Events>(rest.wish))
    return readEvents(std::make_shared<EventsRead>(EventsRead{reading, i, std::move(rest)}));
  const auto& what = reading->request.nodesToRead[i];
  const auto node = space_.find(what.nodeId);
  const auto refuse = [&](const Error& why) {
    reading->results->fail(i, why);
    readNext(reading);
  };
  Shape shape{reading->request.timestampsToReturn, {}};
  ReadValueId value;
  value.nodeId = what.nodeId;
  value.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
  value.dataEncoding = what.dataEncoding;
  // Others were read before it: it may have been deleted, and its id be another node's.
  if (node == space::kNoNode || space_.nodeClass(node) != NodeClass::Variable)
    return refuse(Error{status::BadNodeIdUnknown, {}, {}});
  const auto encoding = checkEncoding(space_, node, value);
  if (!encoding) return refuse(encoding.error());
  shape.encoding = *encoding;
  if (*encoding != DataEncoding::Binary) shape.types = core_.structures();
  if (!what.indexRange.empty()) {
    auto range = IndexRange::parse(what.indexRange.view());
    if (!range) return refuse(range.error());
    shape.range = std::move(*range);
  }
  const std::string name = history::storedName(space_, what.nodeId);
  const auto variable = core_.archive->variable(name);
  const auto* processed = std::get_if<history::ProcessedWish>(&rest.wish);
  const bool countsRemarks = processed && processed->function->kind == aggregate::Kind::AnnotationCount;
  // The property's own name, which is of this server's namespace.
  const auto remarks =
      countsRemarks
          ? core_.archive->variable(history::storedName(space_, NodeId(1, String(history::annotationsOf(name)))))
          : variable;
  const DateTime watchedUntil = space_.traits(node).historizing ? clock_.wallClock() : DateTime();
  core_.archive->perform([this, alive = alive_, reading, i, shape, variable, remarks, watchedUntil,
                          rest = std::move(rest)](history::Store& store) mutable -> std::function<void()> {
    auto answer = answerOf(store, variable, remarks, rest, shape, reading->limits, watchedUntil);
    return [this, alive, reading, i, answer = std::move(answer)]() mutable {
      if (!*alive || reading->results->isAnswered()) return;
      if (answer.data) return finish(reading, i, std::move(*answer.data), answer.isEmpty, std::move(answer.left));
      reading->results->fail(i, answer.data.error());
      readNext(reading);
    };
  });
}

void Histories::finish(const std::shared_ptr<Reading>& reading, std::size_t i, ExtensionObject data, bool isEmpty,
                       std::optional<HistoryRest> left) {
  HistoryReadResult result;
  result.historyData = std::move(data);
  // The session may have ended meanwhile; then nobody hears of what is left.
  const auto session = core_.sessions.find(reading->token);
  if (left && session != core_.sessions.end()) result.continuationPoint = keep(*session->second, std::move(*left));
  result.statusCode = isEmpty && !left ? status::GoodNoData : status::Good;
  reading->results->set(i, std::move(result), {status::Good, {}, {}});
  readNext(reading);
}

// Events

/// A node at which events are heard (Part 11, 5.3).
Result<HistoryRest::Wish> Histories::eventsWish(const ExtensionObject& details) const {
  auto asked = details.as<ReadEventDetails>();
  if (!asked) return asked.error();
  const auto& limits = settings_.limits;
  std::size_t operands = 0;
  for (const auto& element : asked->filter.whereClause.elements) operands += element.filterOperands.size();
  if (asked->filter.selectClauses.size() > limits.maxSelectClauses ||
      asked->filter.whereClause.elements.size() > limits.maxFilterElements || operands > limits.maxFilterOperands)
    return Error{status::BadEventFilterInvalid, "the filter has too many clauses", {}};
  EventFilterResult told;
  auto selector = monitor::EventSelector::from(space_, asked->filter, told);
  if (!selector) return selector.error();
  const history::RawWish range{asked->startTime, asked->endTime, asked->numValuesPerNode};
  if (auto fine = range.check(); !fine) return fine.error();
  HistoryRest::Events out{std::make_shared<const monitor::EventSelector>(std::move(*selector)), asked->startTime,
                          asked->endTime, asked->numValuesPerNode};
  out.isOpen = out.start.isNull() || out.end.isNull();
  if (out.start.isNull()) {
    out.start = out.end;
    out.end = history::kBeginning;
  } else if (out.end.isNull()) {
    out.end = history::kEnd;
  }
  return HistoryRest::Wish(std::move(out));
}

void Histories::readEvents(const std::shared_ptr<EventsRead>& read) {
  constexpr std::size_t kAtOnce = 64;
  core_.archive->perform([this, alive = alive_, read](history::Store& store) -> std::function<void()> {
    const auto& wish = read->wish();
    auto some = store.events(wish.start, wish.end, kAtOnce, wish.place ? &*wish.place : nullptr);
    return [this, alive, read, some = std::move(some)]() mutable {
      if (!*alive || read->reading->results->isAnswered()) return;
      if (some) return takeEvents(read, std::move(*some));
      read->reading->results->fail(read->i, some.error());
      readNext(read->reading);
    };
  });
}

void Histories::takeEvents(const std::shared_ptr<EventsRead>& read, std::vector<history::KeptEvent> some) {
  constexpr std::size_t kMostEvents = 5'000, kMostLookedAt = 100'000;
  auto& wish = read->wish();
  const auto session = core_.sessions.find(read->reading->token);
  const auto notifier = space_.find(read->rest.nodeId);
  const bool mayGoOn = session != core_.sessions.end() && notifier != space::kNoNode;
  const std::size_t most = std::min<std::size_t>(
      {wish.most == 0 ? kMostEvents : wish.most, kMostEvents, std::max<std::size_t>(read->reading->limits.values, 1)});
  const bool isEnd = some.empty() || !mayGoOn;
  const auto mayHear = [&](const monitor::Event& event) {
    const auto hears = [&](NodeIndex node) {
      return node == space::kNoNode ||
             space_.check(session->second->rights, node, PermissionType::ReceiveEvents).isGood();
    };
    const auto heardAt = core_.events.notifiersOf(event.node());
    return hears(event.node()) && hears(event.type()) && std::ranges::find(heardAt, notifier) != heardAt.end();
  };
  bool isFull = false;
  for (auto& kept : some) {
    isFull = read->out.events.size() >= most || read->octets > read->reading->limits.octets;
    if (isFull || isEnd) break;
    ++read->looked;
    const auto event = history::decodeEvent(space_, kept.octets);
    wish.place = std::move(kept);
    if (!event || !wish.selector->wants(space_, *event) || !mayHear(*event)) continue;
    HistoryEventFieldList fields;
    fields.eventFields = wish.selector->select(space_, *event);
    read->octets += footprint(fields.eventFields);
    read->out.events.push_back(std::move(fields));
  }
  if (!isEnd && !isFull && read->looked < kMostLookedAt) return readEvents(read);
  std::optional<HistoryRest> left;
  const auto given = static_cast<std::uint32_t>(read->out.events.size());
  const bool isEnough = wish.isOpen && wish.most != 0 && given >= wish.most;
  if (!isEnd && !isEnough) {
    left = read->rest;
    if (wish.isOpen && wish.most != 0) std::get<HistoryRest::Events>(left->wish).most -= given;
  }
  finish(read->reading, read->i, encoded(read->out), given == 0, std::move(left));
}

ByteString Histories::keep(Session& session, HistoryRest rest) const {
  // Part 4, 7.9: what is left of an earlier one gives way.
  auto& rests = session.historyRests;
  while (rests.size() >= settings_.limits.maxContinuationPointsPerSession) rests.erase(rests.begin());
  const std::uint32_t number = ++session.lastContinuation;
  rests.emplace(number, std::make_shared<HistoryRest>(std::move(rest)));
  return ByteString(&number, sizeof number);
}

}  // namespace zunth::server
