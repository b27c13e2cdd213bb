// HistoryRead and HistoryUpdate as a client sees them.
#include "core/aggregate/bound.hpp"
#include "core/history/archive.hpp"
#include "core/history/kept_event.hpp"
#include "core/history/variables.hpp"
#include "core/ua/text.hpp"
#include "service/history/embedded_store.hpp"

#include "tests/service/fake_peer.hpp"
#include <catch2/catch.hpp>

namespace zunth::history_services_test {

using namespace ua;
using namespace zunth::test;
using namespace history;
namespace fs = std::filesystem;

/// A store whose work is done when the test says so.
class ArchiveByHand final : public Archive {
 public:
  explicit ArchiveByHand(const fs::path& folder) {
    auto opened = EmbeddedStore::open(folder, [](const std::string&) {});
    REQUIRE(opened);
    store = std::move(*opened);
  }
  VariableId variable(const std::string& name) override { return store->variable(name); }
  void append(std::vector<Record> records) override { store->append(records); }
  bool append(KeptEvent event) override {
    if (!hasRoom) return false;
    std::vector<KeptEvent> one;
    one.push_back(std::move(event));
    store->append(std::move(one));
    return true;
  }
  void perform(Work work) override { works.push_back(std::move(work)); }
  DateTime watchedBefore() const override { return {}; }
  DateTime beginsAt() const override { return store->beginsAt(); }
  void work() {
    while (!works.empty()) {
      const Work work = std::move(works.front());
      works.pop_front();
      if (auto answer = work(*store)) answer();
    }
  }
  std::unique_ptr<EmbeddedStore> store;
  std::deque<Work> works;
  bool hasRoom = true;  // for events
};

constexpr std::int64_t kSecond = 10'000'000;
const std::int64_t kBegin = 132'999'000'000'000'000;
DateTime at(double seconds) { return {kBegin + static_cast<std::int64_t>(seconds * kSecond)}; }

struct Past : Bench {
  explicit Past(int samples = 100, const std::function<void(server::Settings&)>& adjust = {}) : Bench(true, adjust) {
    fs::remove_all(folder);
    archive = std::make_unique<ArchiveByHand>(folder);
    level = addVariable("level", id::Double, Variant(0.0));
    space.traits(level).accessLevel |= AccessLevelType::HistoryRead | AccessLevelType::HistoryWrite;
    const auto variable = archive->variable(nodeName("level"));
    std::vector<Record> records;
    for (int i = 0; i < samples; ++i) {
      DataValue value(Variant(i * 1.0), at(i));
      value.serverTimestamp = at(i + 0.25);
      records.push_back({variable, value});
    }
    archive->append(records);
    server->serveHistory(*archive);
    open();
  }
  ~Past() {
    archive.reset();
    fs::remove_all(folder);
  }
  std::string nodeName(const char* name) const { return "nsu=urn:fernhollow.example:test;s=" + std::string(name); }
  static HistoryReadRequest asking(ExtensionObject details, const std::vector<const char*>& nodes = {"level"}) {
    HistoryReadRequest request;
    request.historyReadDetails = std::move(details);
    request.timestampsToReturn = TimestampsToReturn::Source;
    for (const auto* node : nodes) request.nodesToRead.push_back({NodeId(1, String(node)), {}, {}, {}});
    return request;
  }
  Result<HistoryReadResponse> history(HistoryReadRequest request) {
    send(std::move(request));
    archive->work();
    return take<HistoryReadResponse>();
  }
  Result<HistoryUpdateResponse> update(std::vector<ExtensionObject> details) {
    HistoryUpdateRequest request;
    request.historyUpdateDetails = List<ExtensionObject>(std::move(details));
    send(std::move(request));
    archive->work();
    return take<HistoryUpdateResponse>();
  }
  static List<DataValue> valuesOf(const HistoryReadResult& result) {
    const auto data = result.historyData.as<HistoryData>();
    REQUIRE(data);
    return data->dataValues;
  }
  fs::path folder = fs::temp_directory_path() / ("zunth-past-" + std::to_string(getpid()));
  std::unique_ptr<ArchiveByHand> archive;
  space::NodeIndex level;
};

ExtensionObject raw(double from, double to, std::uint32_t most = 0, bool bounds = false) {
  ReadRawModifiedDetails details;
  details.startTime = at(from);
  details.endTime = at(to);
  details.numValuesPerNode = most;
  details.returnBounds = bounds;
  return ExtensionObject::of(details);
}

TEST_CASE("raw history comes in parts, with the times that were asked for",
          "[history][cu:Historical Access Read Raw][cu:Historical Access Data Max Nodes Read Continuation Point]") {
  Past past;
  auto request = Past::asking(raw(10, 30, 8));
  std::vector<double> values;
  for (int parts = 0; parts < 9; ++parts) {
    const auto answer = past.history(request);
    REQUIRE(answer);
    const auto& result = answer->results.front();
    CHECK(result.statusCode == status::Good);
    for (const auto& value : Past::valuesOf(result)) {
      values.push_back(*value.value.get<double>());
      CHECK(value.serverTimestamp.isNull());
    }
    request.nodesToRead.front().continuationPoint = result.continuationPoint;
    if (result.continuationPoint.isNull()) break;
  }
  REQUIRE(values.size() == 20);
  CHECK(values.front() == 10);
  CHECK(values.back() == 29);

  request = Past::asking(raw(5, 6));
  request.timestampsToReturn = TimestampsToReturn::Both;
  CHECK(Past::valuesOf(past.history(request)->results.front()).front().serverTimestamp == at(5.25));
  request.timestampsToReturn = TimestampsToReturn::Server;
  CHECK(Past::valuesOf(past.history(request)->results.front()).front().sourceTimestamp.isNull());
  const auto empty = past.history(Past::asking(raw(500, 600)));
  CHECK(empty->results.front().statusCode == status::GoodNoData);
}

TEST_CASE("what history refuses, it refuses with the standard's code", "[history]") {
  Past past;
  past.addVariable("plain", id::Double, Variant(0.0));
  const auto word = past.addVariable("word", id::String, Variant("on"));
  past.space.traits(word).accessLevel |= AccessLevelType::HistoryRead;
  const auto first = [&](HistoryReadRequest request) {
    const auto answer = past.history(std::move(request));
    return answer ? answer->results.front().statusCode : answer.code();
  };
  CHECK(first(Past::asking(raw(0, 1), {"plain"})) == status::BadHistoryOperationUnsupported);
  CHECK(first(Past::asking(raw(0, 1), {"nothing"})) == status::BadNodeIdUnknown);
  CHECK(first(Past::asking(raw(0, 1), {})) == status::BadNothingToDo);
  CHECK(first(Past::asking(ExtensionObject())) == status::BadHistoryOperationUnsupported);
  CHECK(first(Past::asking(ExtensionObject::of(ReadEventDetails()))) == status::BadHistoryOperationUnsupported);
  ReadRawModifiedDetails open;
  open.startTime = at(0);
  CHECK(first(Past::asking(ExtensionObject::of(open))) == status::BadHistoryOperationInvalid);
  auto neither = Past::asking(raw(0, 1));
  neither.timestampsToReturn = TimestampsToReturn::Neither;
  CHECK(first(neither) == status::BadTimestampsToReturnInvalid);
  auto gone = Past::asking(raw(0, 1));
  gone.nodesToRead.front().continuationPoint = ByteString("1234", 4);
  CHECK(first(gone) == status::BadContinuationPointInvalid);
  auto ranged = Past::asking(raw(0, 1));
  ranged.nodesToRead.front().indexRange = String("x");
  CHECK(first(ranged) == status::BadIndexRangeInvalid);
  auto encoded = Past::asking(raw(0, 1));
  encoded.nodesToRead.front().dataEncoding = {0, String("Default XML")};
  CHECK(first(encoded) == status::BadDataEncodingInvalid);
  CHECK(first(Past::asking(ExtensionObject::of(ReadAtTimeDetails()))) == status::BadHistoryOperationInvalid);

  ReadProcessedDetails processed;
  processed.startTime = at(0);
  processed.endTime = at(100);
  processed.processingInterval = 10'000;
  processed.aggregateConfiguration.useServerCapabilitiesDefaults = true;
  const auto with = [&](StandardId function, auto change) {
    auto copy = processed;
    copy.aggregateType.push_back(NodeId(function));
    change(copy);
    return ExtensionObject::of(copy);
  };
  const auto nothing = [](ReadProcessedDetails&) {};
  CHECK(first(Past::asking(ExtensionObject::of(processed))) == status::BadAggregateListMismatch);
  CHECK(first(Past::asking(with(id::Server, nothing))) == status::BadAggregateNotSupported);
  CHECK(first(Past::asking(with(id::AggregateFunction_Average, nothing), {"word"})) ==
        status::BadAggregateInvalidInputs);
  CHECK(first(Past::asking(with(id::AggregateFunction_Average, [](auto& d) { d.processingInterval = -1; }))) ==
        status::BadInvalidArgument);
  CHECK(first(Past::asking(with(id::AggregateFunction_Average, [](auto& d) { d.endTime = d.startTime; }))) ==
        status::BadInvalidTimestampArgument);
  CHECK(first(Past::asking(with(id::AggregateFunction_Average, [](auto& d) {
          d.aggregateConfiguration = {false, true, 101, 100, false};
        }))) == status::BadAggregateConfigurationRejected);
  // NaN and the longest interval are no trouble.
  CHECK(first(Past::asking(with(id::AggregateFunction_Average,
                                [](auto& d) { d.processingInterval = std::nan(""); }))) == status::BadInvalidArgument);
  CHECK(first(Past::asking(with(id::AggregateFunction_Average, [](auto& d) { d.processingInterval = 1e300; }))) ==
        status::Good);
}

TEST_CASE("aggregates are read over intervals, and values at moments",
          "[history][cu:Historical Access Read Aggregate][cu:Historical Access Time Instance]") {
  Past past;
  ReadProcessedDetails processed;
  processed.startTime = at(10);
  processed.endTime = at(50);
  processed.processingInterval = 10'000;
  processed.aggregateType.push_back(NodeId(id::AggregateFunction_Average));
  processed.aggregateConfiguration.useServerCapabilitiesDefaults = true;
  auto request = Past::asking(ExtensionObject::of(processed));
  request.timestampsToReturn = TimestampsToReturn::Both;
  const auto answer = past.history(request);
  REQUIRE(answer);
  const auto values = Past::valuesOf(answer->results.front());
  REQUIRE(values.size() == 4);
  CHECK(values[1].value == Variant(24.5));
  CHECK(values[1].sourceTimestamp == at(20));
  CHECK(values[1].serverTimestamp == at(20));
  CHECK(values[1].status.condition() == status::Good);
  const auto moments = past.history(Past::asking(ExtensionObject::of(ReadAtTimeDetails{{at(7), at(7.5)}, false})));
  const auto found = Past::valuesOf(moments->results.front());
  CHECK(found[0].value == Variant(7.0));
  CHECK(found[1].value == Variant(7.5));
  CHECK((found[1].status.value & 0x1F) == aggregate::kInterpolated);
}

TEST_CASE("continuation points are few, belong to their node, and can be let go", "[history]") {
  Past past;  // with two continuation points in a session
  const auto other = past.addVariable("other", id::Double, Variant(0.0));
  past.space.traits(other).accessLevel |= AccessLevelType::HistoryRead;
  std::vector<ByteString> points;
  for (int i = 0; i < 3; ++i)
    points.push_back(past.history(Past::asking(raw(0, 50, 5)))->results.front().continuationPoint);
  const auto outcome = [&](const ByteString& point, const char* node = "level", bool release = false) {
    auto request = Past::asking(raw(0, 50, 5), {node});
    request.nodesToRead.front().continuationPoint = point;
    request.releaseContinuationPoints = release;
    return past.history(request)->results.front().statusCode;
  };
  CHECK(outcome(points[0]) == status::BadContinuationPointInvalid);  // it gave way
  CHECK(outcome(points[1], "other") == status::BadContinuationPointInvalid);
  CHECK(outcome(points[2], "level", true) == status::Good);
  CHECK(outcome(points[2]) == status::BadContinuationPointInvalid);
}

TEST_CASE("many nodes share a response, and one that fails doesn't spoil the others", "[history]") {
  Past past(2'000);
  std::vector<const char*> nodes(200, "level");
  nodes[7] = "nothing";
  const auto answer = past.history(Past::asking(raw(0, 2'000), nodes));
  REQUIRE(answer);
  REQUIRE(answer->results.size() == 200);
  CHECK(answer->results[7].statusCode == status::BadNodeIdUnknown);
  CHECK(!answer->results[8].continuationPoint.isNull());
  CHECK(Past::valuesOf(answer->results[8]).size() == 250);
}

TEST_CASE("a read whose client no longer waits ends, and the next one is served", "[history]") {
  Past past;
  auto request = Past::asking(raw(0, 10), std::vector<const char*>(50, "level"));
  request.requestHeader.timeoutHint = 1'000;
  past.send(request);
  CHECK(past.peer->answers.empty());
  past.pass(1'500);
  const auto late = past.take<HistoryReadResponse>();
  REQUIRE(late);
  CHECK(late->results.front().statusCode == status::BadTimeout);
  past.archive->work();
  CHECK(past.peer->answers.empty());
  CHECK(past.history(Past::asking(raw(0, 10)))->results.front().statusCode == status::Good);
  // A session that ends takes its reads with it.
  past.send(Past::asking(raw(0, 10)));
  past.send(CloseSessionRequest{});
  past.archive->work();
}

TEST_CASE("history is changed by who may, and who did it is known",
          "[history][cu:Historical Access Insert Value][cu:Historical Access Replace Value][cu:Historical Access "
          "Update Value][cu:Historical Access Delete Value][cu:Historical Access Modified Values]") {
  Past past;
  std::vector<server::AuditRecord> audited;
  past.server->announcer().setAuditLog([&](const server::AuditRecord& record) { audited.push_back(record); });
  UpdateDataDetails change;
  change.nodeId = NodeId(1, String("level"));
  change.performInsertReplace = PerformUpdateType::Update;
  change.updateValues = {DataValue(Variant(70.0), at(7)), DataValue(Variant("words"), at(8)), DataValue(Variant(1.0)),
                         DataValue(Variant(9.5), at(9.5))};
  DeleteRawModifiedDetails range;
  range.nodeId = change.nodeId;
  range.startTime = at(20);
  range.endTime = at(30);
  DeleteAtTimeDetails times;
  times.nodeId = change.nodeId;
  times.reqTimes = {at(40), at(40.5)};
  const auto answer = past.update({ExtensionObject::of(change), ExtensionObject::of(range), ExtensionObject::of(times),
                                   ExtensionObject::of(ReadRawModifiedDetails())});
  REQUIRE(answer);
  CHECK(answer->results[0].operationResults ==
        List<StatusCode>({status::GoodEntryReplaced, status::BadTypeMismatch, status::BadInvalidTimestamp,
                          status::GoodEntryInserted}));
  CHECK(answer->results[1].statusCode == status::Good);
  CHECK(answer->results[2].operationResults == List<StatusCode>({status::Good, status::BadNoEntryExists}));
  CHECK(answer->results[3].statusCode == status::BadHistoryOperationUnsupported);
  CHECK(Past::valuesOf(past.history(Past::asking(raw(0, 100)))->results.front()).size() == 100 + 1 - 10 - 1);
  CHECK(std::ranges::count(audited, "history changed", &server::AuditRecord::what) == 4);

  ReadRawModifiedDetails modified;
  modified.isReadModified = true;
  modified.startTime = at(0);
  modified.endTime = at(100);
  const auto told = past.history(Past::asking(ExtensionObject::of(modified)));
  const auto data = told->results.front().historyData.as<HistoryModifiedData>();
  REQUIRE(data);
  REQUIRE(data->dataValues.size() == 13);
  CHECK(data->dataValues[0].value == Variant(7.0));
  CHECK(data->modificationInfos[0].updateType == HistoryUpdateType::Update);
  CHECK(data->modificationInfos[0].userName.view() == "Anonymous");
  std::swap(modified.startTime, modified.endTime);
  const auto turned = past.history(Past::asking(ExtensionObject::of(modified)));
  CHECK(turned->results.front().historyData.as<HistoryModifiedData>()->dataValues.back().value == Variant(7.0));

  // Times that can't be, and more months than one change is worth.
  UpdateDataDetails far = change;
  far.updateValues = {DataValue(Variant(1.0), DateTime{INT64_MAX}), DataValue(Variant(1.0), DateTime{-5})};
  CHECK(past.update({ExtensionObject::of(far)})->results.front().operationResults ==
        List<StatusCode>({status::BadInvalidTimestamp, status::BadInvalidTimestamp}));
  for (int i = 0; i < 200; ++i) far.updateValues.push_back(DataValue(Variant(1.0), at(-86'400.0 * 31 * i)));
  CHECK(past.update({ExtensionObject::of(far)})->results.front().statusCode == status::BadTooManyOperations);

  // Neither a client that may only look nor a variable whose history is fixed.
  past.space.traits(past.level).accessLevel &= static_cast<std::uint16_t>(~AccessLevelType::HistoryWrite);
  CHECK(past.update({ExtensionObject::of(change)})->results.front().statusCode ==
        status::BadHistoryOperationUnsupported);
}

TEST_CASE("an observer reads history, and changes nothing of it", "[history]") {
  Past past(100,
            [](server::Settings& settings) { settings.roles = server::rolesForEveryone(id::WellKnownRole_Observer); });
  CHECK(past.history(Past::asking(raw(0, 10)))->results.front().statusCode == status::Good);
  DeleteRawModifiedDetails range;
  range.nodeId = NodeId(1, String("level"));
  range.startTime = at(0);
  range.endTime = at(30);
  CHECK(past.update({ExtensionObject::of(range)})->results.front().statusCode == status::BadUserAccessDenied);
  CHECK(Past::valuesOf(past.history(Past::asking(raw(0, 100)))->results.front()).size() == 100);
}

TEST_CASE("what is served of history is said, and how each variable is kept", "[history]") {
  Past past;
  past.space.traits(past.level).historizing = true;
  past.server->showHistories();
  const auto& space = past.space;
  const auto child = [&](space::NodeIndex of, const char* name) { return space.child(of, {0, String(name)}); };
  const auto capabilities = space.at(id::HistoryServerCapabilities);
  CHECK(space.value(child(capabilities, "AccessHistoryDataCapability")).value == Variant(true));
  for (const char* name : {"InsertEventCapability", "DeleteEventCapability", "InsertAnnotationCapability"})
    CHECK(space.value(child(capabilities, name)).value == Variant(true));
  CHECK(child(child(capabilities, "AggregateFunctions"), "TimeAverage") ==
        space.find(NodeId(id::AggregateFunction_TimeAverage)));
  space::NodeIndex configuration = space::kNoNode;
  for (const auto& reference : space.references(past.level))
    if (reference.isForward() && reference.type() == space.at(id::HasHistoricalConfiguration))
      configuration = reference.target();
  REQUIRE(configuration != space::kNoNode);
  CHECK(space.value(child(configuration, "Stepped")).value == Variant(false));
  const auto begin = space.value(child(configuration, "StartOfArchive")).value;
  REQUIRE(begin.get<DateTime>());
  CHECK(*begin.get<DateTime>() <= at(0));
  CHECK(*begin.get<DateTime>() > at(-40 * 86'400));
  CHECK(space.value(child(child(configuration, "AggregateConfiguration"), "PercentDataBad")).value ==
        Variant(std::uint8_t{100}));
}

TEST_CASE("aggregates take values as the site says of a variable, unless the client says so itself", "[history]") {
  Past past(0);
  past.space.traits(past.level).historizing = true;
  const auto variable = past.archive->variable(past.nodeName("level"));
  std::vector<Record> records;
  for (int i = 0; i < 10; ++i)
    records.push_back(
        {variable, DataValue(Variant(i * 1.0), at(i), i % 2 ? status::UncertainInitialValue : status::Good)});
  past.archive->append(records);
  const auto count = [&](bool byDefault) {
    ReadProcessedDetails details;
    details.startTime = at(0);
    details.endTime = at(10);
    details.processingInterval = 10'000;
    details.aggregateType.push_back(NodeId(id::AggregateFunction_Count));
    details.aggregateConfiguration = {byDefault, true, 100, 100, false};
    const auto values = Past::valuesOf(past.history(Past::asking(ExtensionObject::of(details)))->results.front());
    return *values.front().value.get<std::int32_t>();
  };
  const auto configurations = [&] {
    std::vector<std::string> out;
    for (const auto& reference : past.space.references(past.level))
      if (reference.isForward() && reference.type() == past.space.at(id::HasHistoricalConfiguration))
        out.push_back(past.space.nodeId(reference.target()).text());
    return out;
  };
  CHECK(count(true) == 5);
  past.server->showHistories([](space::NodeIndex) { return aggregate::Configuration{false, 50, 80, true}; });
  REQUIRE(configurations().size() == 1);
  const auto shown = usualAggregation(past.space, past.level);
  CHECK(shown == aggregate::Configuration{false, 50, 80, true});
  CHECK(count(true) == 10);
  CHECK(count(false) == 5);
  // Another site, other defaults: one configuration each time.
  past.server->showHistories();
  REQUIRE(configurations().size() == 1);
  CHECK(usualAggregation(past.space, past.level) == aggregate::Configuration());
  CHECK(count(true) == 5);
}

TEST_CASE("an aggregate of a monitored item is revised, and refused in words", "[history]") {
  Past past;
  CreateSubscriptionRequest subscribe;
  subscribe.publishingEnabled = true;
  const auto subscription = past.call(subscribe)->subscriptionId;
  past.addVariable("word", id::String, Variant("on"));
  const auto create = [&](const char* node, auto change, AttributeId attribute = AttributeId::Value) {
    AggregateFilter filter;
    filter.aggregateType = NodeId(id::AggregateFunction_Average);
    filter.processingInterval = 5'000;
    filter.aggregateConfiguration.useServerCapabilitiesDefaults = true;
    change(filter);
    CreateMonitoredItemsRequest request;
    request.subscriptionId = subscription;
    MonitoredItemCreateRequest item;
    item.itemToMonitor = {NodeId(1, String(node)), static_cast<std::uint32_t>(attribute), {}, {}};
    item.monitoringMode = MonitoringMode::Reporting;
    item.requestedParameters.filter = ExtensionObject::of(filter);
    request.itemsToCreate.push_back(item);
    return past.call(request)->results.front();
  };
  const DateTime now{133'000'000'000'000'000};
  const auto made = create("level", [&](AggregateFilter& f) { f.startTime = {now.ticks - 12 * kSecond}; });
  CHECK(made.statusCode == status::Good);
  const auto told = made.filterResult.as<AggregateFilterResult>();
  REQUIRE(told);
  CHECK(told->revisedStartTime == DateTime{now.ticks - 2 * kSecond});
  CHECK(told->revisedProcessingInterval == 5'000);
  CHECK(told->revisedAggregateConfiguration.treatUncertainAsBad);
  const auto nothing = [](AggregateFilter&) {};
  for (const double interval : {0.0, -5.0, std::nan(""), 1e300}) {
    const auto revised = create("level", [&](AggregateFilter& f) { f.processingInterval = interval; });
    CHECK(revised.statusCode == status::Good);
    CHECK(revised.filterResult.as<AggregateFilterResult>()->revisedProcessingInterval >= 100);
  }
  CHECK(create("level", [](AggregateFilter& f) { f.startTime = {INT64_MAX}; }).statusCode == status::Good);
  CHECK(create("level", [](AggregateFilter& f) { f.startTime = {INT64_MIN}; }).statusCode == status::Good);
  CHECK(create("level", [](AggregateFilter& f) { f.aggregateType = NodeId(id::Server); }).statusCode ==
        status::BadMonitoredItemFilterUnsupported);
  CHECK(create("level", [](AggregateFilter& f) {
          f.aggregateConfiguration = {false, true, 200, 0, false};
        }).statusCode == status::BadAggregateConfigurationRejected);
  CHECK(create("word", nothing).statusCode == status::BadAggregateInvalidInputs);
  CHECK(create("level", nothing, AttributeId::BrowseName).statusCode == status::BadFilterNotAllowed);
}

TEST_CASE("events are kept, and read by filter, notifier and rights", "[history][cu:Historical Access Events]") {
  Past past;
  const auto objects = past.space.at(id::ObjectsFolder);
  const auto pond = past.addNode(NodeId(1, String("pond")), NodeClass::Object, "pond", objects);
  const auto lake = past.addNode(NodeId(1, String("lake")), NodeClass::Object, "lake", objects);
  past.space.refer(past.space.at(id::Server), id::HasNotifier, pond);
  const auto raise = [&](double seconds, int severity, const char* words, space::NodeIndex source,
                         StandardId type = id::BaseEventType) {
    monitor::Event event(past.space.at(type), source);
    event.set("Time", at(seconds))
        .set("Severity", static_cast<std::uint16_t>(severity))
        .set("Message", LocalizedText(String(words)));
    past.server->announcer().raise(std::move(event));
  };
  // Nobody listens; two of one time, and one of the audit.
  for (int i = 0; i < 300; ++i) raise(i / 2, 100 + i, "it rose", i % 3 ? pond : lake);
  raise(10, 999, "secret", pond, id::AuditEventType);
  const auto asking = [&](NodeId notifier, DateTime from, DateTime to, std::uint32_t most, int severity = 0) {
    ReadEventDetails details;
    details.startTime = from;
    details.endTime = to;
    details.numValuesPerNode = most;
    for (const char* name : {"Severity", "Message"}) {
      SimpleAttributeOperand field;
      field.typeDefinitionId = NodeId(id::BaseEventType);
      field.browsePath.push_back({0, String(name)});
      field.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
      details.filter.selectClauses.push_back(field);
    }
    if (severity) {
      ContentFilterElement element;
      element.filterOperator = FilterOperator::GreaterThanOrEqual;
      element.filterOperands.push_back(ExtensionObject::of(details.filter.selectClauses.front()));
      element.filterOperands.push_back(
          ExtensionObject::of(LiteralOperand{Variant(static_cast<std::uint16_t>(severity))}));
      details.filter.whereClause.elements.push_back(element);
    }
    HistoryReadRequest request;
    request.historyReadDetails = ExtensionObject::of(details);
    request.timestampsToReturn = TimestampsToReturn::Source;
    request.nodesToRead.push_back({std::move(notifier), {}, {}, {}});
    return request;
  };
  const auto severities = [&](HistoryReadRequest request) {
    std::vector<int> out;
    for (int parts = 0; parts < 400; ++parts) {
      const auto answer = past.history(request);
      REQUIRE(answer);
      const auto& result = answer->results.front();
      REQUIRE(!result.statusCode.isBad());
      const auto data = result.historyData.as<HistoryEvent>();
      REQUIRE(data);
      for (const auto& event : data->events) out.push_back(*event.eventFields[0].get<std::uint16_t>());
      request.nodesToRead.front().continuationPoint = result.continuationPoint;
      if (result.continuationPoint.isNull()) break;
    }
    return out;
  };
  const NodeId server(id::Server), pondId(1, String("pond"));
  CHECK(severities(asking(server, at(0), at(200), 0)).size() == 300);
  CHECK(severities(asking(server, at(0), at(200), 7)).size() == 300);  // in parts
  CHECK(severities(asking(server, at(10), at(12), 0)) == std::vector<int>{120, 121, 122, 123});
  CHECK(severities(asking(server, at(12), at(10), 0)) == std::vector<int>{125, 124, 123, 122});
  CHECK(severities(asking(server, at(10), DateTime(), 3)) == std::vector<int>{120, 121, 122});
  CHECK(severities(asking(server, DateTime(), at(10), 3)) == std::vector<int>{121, 120, 119});
  CHECK(severities(asking(server, at(0), at(200), 0, 390)).size() == 10);
  CHECK(severities(asking(pondId, at(0), at(200), 0)).size() == 200);
  CHECK(severities(asking(server, at(900), at(999), 0)).empty());
  // What may not be heard is not read.
  past.space.setPermissions(lake, space::PermissionSet{});
  CHECK(severities(asking(server, at(0), at(200), 0)).size() == 200);
  const auto first = [&](HistoryReadRequest request) {
    return past.history(std::move(request))->results.front().statusCode;
  };
  CHECK(first(asking(NodeId(1, String("level")), at(0), at(1), 0)) == status::BadHistoryOperationUnsupported);
  CHECK(first(asking(server, at(0), DateTime(), 0)) == status::BadHistoryOperationInvalid);
  auto many = asking(server, at(0), at(1), 0);
  auto details = *many.historyReadDetails.as<ReadEventDetails>();
  details.filter.selectClauses.clear();
  many.historyReadDetails = ExtensionObject::of(details);
  CHECK(first(many) == status::BadEventFilterInvalid);
}

TEST_CASE("events that found no room in the history are counted there", "[history]") {
  Past past;
  const auto raise = [&](const char* words) {
    past.server->announcer().raise(past.server->announcer().make(id::SystemEventType, 10, words));
  };
  raise("before");
  past.archive->hasRoom = false;
  for (int i = 0; i < 3; ++i) raise("meanwhile");
  past.archive->hasRoom = true;
  for (int i = 0; i < 2; ++i) raise("after");
  auto kept = past.archive->store->events(kBeginning, kEnd, 100, nullptr);
  REQUIRE(kept);
  std::vector<std::string> told;
  for (const auto& each : *kept) {
    const auto event = decodeEvent(past.space, each.octets);
    REQUIRE(event);
    told.push_back(format(event->field({{0, "Message"}})));
  }
  CHECK(told == std::vector<std::string>{"before", "3 events were not kept: more came than the history took", "after",
                                         "after"});
}

TEST_CASE("remarks are made about moments, counted, and taken away again",
          "[history][cu:Historical Access Annotations][cu:Aggregate - AnnotationCount]") {
  Past past;
  std::vector<server::AuditRecord> audited;
  past.server->announcer().setAuditLog([&](const server::AuditRecord& record) { audited.push_back(record); });
  past.space.traits(past.level).historizing = true;
  past.server->showHistories();
  const auto property = past.space.child(past.level, {0, String("Annotations")}, id::HasProperty);
  REQUIRE(property != space::kNoNode);
  const NodeId nodeId = past.space.nodeId(property);
  CHECK(past.space.traits(property).dataType == past.space.at(id::Annotation));
  past.server->showHistories();
  CHECK(past.space.nodeId(past.space.child(past.level, {0, String("Annotations")}, id::HasProperty)) == nodeId);

  const auto remark = [](const char* text, double seconds) {
    Annotation said;
    said.message = String(text);
    said.userName = String("somebody else");
    return DataValue(Variant(ExtensionObject::of(said)), at(seconds));
  };
  const auto change = [&](PerformUpdateType how, std::vector<DataValue> values, const NodeId& of) {
    UpdateStructureDataDetails details;
    details.nodeId = of;
    details.performInsertReplace = how;
    details.updateValues = List<DataValue>(std::move(values));
    const auto answer = past.update({ExtensionObject::of(details)});
    REQUIRE(answer);
    return answer->results.front();
  };
  using enum PerformUpdateType;
  CHECK(change(Insert, {remark("fed", 10), remark("cleaned", 12), DataValue(Variant(1.0), at(13))}, nodeId)
            .operationResults ==
        List<StatusCode>({status::GoodEntryInserted, status::GoodEntryInserted, status::BadTypeMismatch}));
  CHECK(change(Insert, {remark("again", 10)}, nodeId).operationResults == List<StatusCode>({status::BadEntryExists}));
  CHECK(change(Replace, {remark("none", 11)}, nodeId).operationResults == List<StatusCode>({status::BadNoEntryExists}));
  CHECK(change(Update, {remark(std::string(9'000, 'x').c_str(), 12), remark("late", 70)}, nodeId).operationResults ==
        List<StatusCode>({status::GoodEntryReplaced, status::GoodEntryInserted}));
  CHECK(change(Update, {remark("x", 1)}, NodeId(1, String("level"))).statusCode ==
        status::BadHistoryOperationUnsupported);
  CHECK(change(static_cast<PerformUpdateType>(9), {remark("x", 1)}, nodeId).statusCode ==
        status::BadHistoryOperationInvalid);

  const auto read = [&] {
    auto request = Past::asking(raw(0, 100));
    request.nodesToRead.front().nodeId = nodeId;
    std::vector<std::pair<double, Annotation>> out;
    const auto answer = past.history(request);
    REQUIRE(answer);
    CHECK(std::string(answer->results.front().statusCode.name()) == "Good");
    for (const auto& value : Past::valuesOf(answer->results.front()))
      out.emplace_back((value.sourceTimestamp.ticks - at(0).ticks) / 1e7,
                       *value.value.get<ExtensionObject>()->as<Annotation>());
    return out;
  };
  const auto said = read();
  REQUIRE(said.size() == 3);
  CHECK(said[0].first == 10);
  CHECK(said[0].second.message == "fed");
  CHECK(said[0].second.userName != "somebody else");
  CHECK_FALSE(said[0].second.annotationTime.isNull());
  CHECK(said[1].second.message.size() == 4'096);

  ReadProcessedDetails counted;
  counted.startTime = at(0);
  counted.endTime = at(100);
  counted.processingInterval = 50'000;
  counted.aggregateConfiguration.useServerCapabilitiesDefaults = true;
  counted.aggregateType.push_back(NodeId(id::AggregateFunction_AnnotationCount));
  const auto counts = Past::valuesOf(past.history(Past::asking(ExtensionObject::of(counted)))->results.front());
  REQUIRE(counts.size() == 2);
  CHECK(counts[0].value == Variant(std::int32_t{2}));
  CHECK(counts[1].value == Variant(std::int32_t{1}));

  CHECK(change(Remove, {remark("", 10), remark("", 11)}, nodeId).operationResults ==
        List<StatusCode>({status::Good, status::BadNoEntryExists}));
  CHECK(read().size() == 2);
  CHECK(audited.size() == 7);
  CHECK(audited.front().about.find("Annotations: UpdateStructureDataDetails") != std::string::npos);
  // Who may only read doesn't remark; without a history there is nothing to remark on.
  space::PermissionSet onlyReading;
  onlyReading.roles.push_back(
      {NodeId(id::WellKnownRole_Anonymous), PermissionType::Browse | PermissionType::ReadHistory});
  past.space.setPermissions(past.level, onlyReading);
  past.server->showHistories();
  CHECK(change(Insert, {remark("x", 20)}, nodeId).statusCode == status::BadUserAccessDenied);
  past.space.traits(past.level).historizing = false;
  past.server->showHistories();
  CHECK(past.space.find(nodeId) == space::kNoNode);
}

TEST_CASE("kept events are inserted, replaced, updated and deleted by their ids", "[history]") {
  Past past;
  std::vector<server::AuditRecord> audited;
  past.server->announcer().setAuditLog([&](const server::AuditRecord& record) { audited.push_back(record); });
  const auto objects = past.space.at(id::ObjectsFolder);
  const auto pond = past.addNode(NodeId(1, String("pond")), NodeClass::Object, "pond", objects);
  past.addNode(NodeId(1, String("shed")), NodeClass::Object, "shed", objects);
  past.space.refer(past.space.at(id::Server), id::HasNotifier, pond);
  past.space.setEventNotifier(pond, EventNotifierType::SubscribeToEvents | EventNotifierType::HistoryRead);
  const NodeId server(id::Server), pondId(1, String("pond"));
  // Many that are nobody's business, so that what is looked for lies far behind.
  for (int i = 0; i < 2'500; ++i) {
    monitor::Event event(past.space.at(id::BaseEventType), pond);
    event.set("Time", at(i)).set("Severity", std::uint16_t{5}).set("Message", LocalizedText(String("it rose")));
    past.server->announcer().raise(std::move(event));
  }
  const auto field = [](const char* name) {
    SimpleAttributeOperand operand;
    operand.typeDefinitionId = NodeId(id::BaseEventType);
    operand.browsePath.push_back({0, String(name)});
    operand.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
    return operand;
  };
  struct Given {
    const char* id;
    double seconds;
    int severity;
    NodeId type = NodeId(ua::id::BaseEventType);
    NodeId source = NodeId(1, String("pond"));
  };
  const auto update = [&](PerformUpdateType how, const std::vector<Given>& given,
                          NodeId notifier = NodeId(ua::id::Server)) {
    UpdateEventDetails details;
    details.nodeId = std::move(notifier);
    details.performInsertReplace = how;
    for (const char* name : {"EventId", "Time", "Severity", "EventType", "SourceNode", "Message"})
      details.filter.selectClauses.push_back(field(name));
    for (const auto& one : given) {
      HistoryEventFieldList fields;
      fields.eventFields.push_back(*one.id ? Variant(ByteString(one.id, std::strlen(one.id))) : Variant());
      fields.eventFields.push_back(one.seconds < 0 ? Variant() : Variant(at(one.seconds)));
      fields.eventFields.push_back(one.severity < 0 ? Variant(-1.5)
                                                    : Variant(static_cast<std::uint16_t>(one.severity)));
      fields.eventFields.push_back(Variant(one.type));
      fields.eventFields.push_back(Variant(one.source));
      fields.eventFields.push_back(Variant(LocalizedText(String("by hand"))));
      details.eventData.push_back(fields);
    }
    const auto answer = past.update({ExtensionObject::of(details)});
    REQUIRE(answer);
    return answer->results.front();
  };
  const auto outcomes = [](const HistoryUpdateResult& result) {
    std::string out = result.statusCode.isGood() ? "" : std::string(result.statusCode.name());
    for (const auto code : result.operationResults) out += std::string(code.name()) + " ";
    return out;
  };
  const auto remove = [&](const std::vector<const char*>& ids) {
    DeleteEventDetails details;
    details.nodeId = server;
    for (const char* id : ids) details.eventIds.push_back(ByteString(id, std::strlen(id)));
    return past.update({ExtensionObject::of(details)})->results.front();
  };
  // Time, severity and source of what was put in by hand.
  const auto byHand = [&] {
    ReadEventDetails details;
    details.startTime = at(-10);
    details.endTime = at(9'999);
    for (const char* name : {"Message", "Time", "Severity", "SourceName", "EventId"})
      details.filter.selectClauses.push_back(field(name));
    HistoryReadRequest request;
    request.historyReadDetails = ExtensionObject::of(details);
    request.timestampsToReturn = TimestampsToReturn::Source;
    request.nodesToRead.push_back({pondId, {}, {}, {}});
    std::string out;
    for (;;) {
      const auto answer = past.history(request);
      REQUIRE(answer);
      const auto data = answer->results.front().historyData.as<HistoryEvent>();
      REQUIRE(data);
      for (const auto& event : data->events) {
        if (event.eventFields[0].get<LocalizedText>()->text != "by hand") continue;
        out += std::to_string((event.eventFields[1].get<DateTime>()->ticks - at(0).ticks) / kSecond) + ":" +
               format(event.eventFields[2]) + " ";
        CHECK(event.eventFields[3] == Variant("pond"));
        CHECK_FALSE(event.eventFields[4].get<ByteString>()->empty());
      }
      request.nodesToRead.front().continuationPoint = answer->results.front().continuationPoint;
      if (answer->results.front().continuationPoint.isNull()) return out;
    }
  };
  using enum PerformUpdateType;
  CHECK(outcomes(update(Insert, {{"a", 100.5, 10}, {"b", 2'400, 20}, {"", 5, 30}})) ==
        "GoodEntryInserted GoodEntryInserted GoodEntryInserted ");
  CHECK(byHand() == "5:30 100:10 2400:20 ");
  CHECK(outcomes(update(Insert, {{"b", 1, 1}, {"c", 50, 3}, {"c", 51, 4}})) ==
        "BadEntryExists GoodEntryInserted BadEntryExists ");
  CHECK(outcomes(update(Replace, {{"b", 7, 25}, {"z", 8, 1}, {"", 9, 1}})) ==
        "GoodEntryReplaced BadNoEntryExists BadArgumentsMissing ");
  CHECK(outcomes(update(Update, {{"a", 101, 11}, {"d", 8, 40}})) == "GoodEntryReplaced GoodEntryInserted ");
  CHECK(byHand() == "5:30 7:25 8:40 50:3 101:11 ");
  // The very same again changes nothing, and loses nothing.
  CHECK(outcomes(update(Update, {{"d", 8, 40}})) == "GoodEntryReplaced ");
  CHECK(byHand() == "5:30 7:25 8:40 50:3 101:11 ");
  // What makes no sense is refused by itself.
  CHECK(outcomes(update(Insert,
                        {{"e", -1, 1},
                         {"f", 1e12, 1},
                         {"g", 1, -1},
                         {"h", 1, 1, NodeId(id::BaseObjectType)},
                         {"i", 1, 1, NodeId(id::AuditEventType)},
                         {"j", 1, 1, NodeId(id::BaseEventType), NodeId(1, String("nowhere"))},
                         {"k", 1, 1, NodeId(id::BaseEventType), server}},
                        pondId)) ==
        "BadArgumentsMissing BadInvalidTimestamp BadTypeMismatch BadTypeDefinitionInvalid BadTypeDefinitionInvalid "
        "BadNodeIdUnknown BadNodeIdInvalid ");
  CHECK(outcomes(update(Insert, {{"l", 1, 1}}, NodeId(1, String("level")))) == "BadHistoryOperationUnsupported");
  CHECK(outcomes(update(Remove, {{"a", 1, 1}})) == "BadHistoryOperationInvalid");
  CHECK(outcomes(remove({"b", "nothing", "b", "c"})) == "Good BadNoData BadNoData Good ");
  CHECK(byHand() == "5:30 8:40 101:11 ");
  CHECK(audited.back().about.find("DeleteEventDetails") != std::string::npos);
  // What happened at a node takes rights at that node, too.
  past.space.setPermissions(pond, space::PermissionSet{});
  CHECK(outcomes(remove({"a"})) == "BadNoData ");
  CHECK(outcomes(update(Insert, {{"m", 1, 1}})) == "BadNodeIdUnknown ");
  CHECK(outcomes(update(Update, {{"a", 1, 1}})) == "BadNodeIdUnknown ");
  past.space.setPermissions(pond, space::usualPermissions());
  // What isn't heard at a notifier isn't its to change.
  past.space.unrefer(past.space.at(id::Server), past.space.at(id::HasNotifier), pond);
  past.space.setPermissions(past.space.at(id::Server), space::PermissionSet{});
  CHECK(outcomes(remove({"a"})) == "BadNodeIdUnknown");
}

}  // namespace zunth::history_services_test
