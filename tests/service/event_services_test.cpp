// Events from their cause to a client's queue.
#include "core/model/build.hpp"
#include "core/space/attributes.hpp"

#include "tests/identity.hpp"
#include "tests/service/fake_peer.hpp"
#include <catch2/catch.hpp>

namespace zunth::event_services_test {

using namespace zunth::ua;
using test::Bench;

namespace {

EventFilter wants(std::vector<const char*> fields, StandardId type = id::BaseEventType) {
  EventFilter filter;
  for (const char* name : fields) {
    SimpleAttributeOperand operand;
    operand.typeDefinitionId = type;
    operand.browsePath.push_back({0, name});
    operand.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
    filter.selectClauses.push_back(std::move(operand));
  }
  return filter;
}

EventFilter ofType(EventFilter filter, StandardId type) {
  ContentFilterElement element;
  element.filterOperator = FilterOperator::OfType;
  element.filterOperands.push_back(ExtensionObject::of(LiteralOperand{NodeId(type)}));
  filter.whereClause.elements.push_back(std::move(element));
  return filter;
}

MonitoredItemCreateResult watchEvents(Bench& b, std::uint32_t subscription, NodeId node, EventFilter filter,
                                      std::uint32_t queueSize = 100, bool discardOldest = true) {
  CreateMonitoredItemsRequest request;
  request.subscriptionId = subscription;
  MonitoredItemCreateRequest item;
  item.itemToMonitor = {std::move(node), static_cast<std::uint32_t>(AttributeId::EventNotifier), {}, {}};
  item.monitoringMode = MonitoringMode::Reporting;
  item.requestedParameters = {7, 0, ExtensionObject::of(std::move(filter)), queueSize, discardOldest};
  request.itemsToCreate.push_back(std::move(item));
  return b.call(request)->results[0];
}

std::uint32_t subscribe(Bench& b) {
  CreateSubscriptionRequest request;
  request.requestedPublishingInterval = 100;
  request.requestedMaxKeepAliveCount = 1000;
  request.publishingEnabled = true;
  return b.call(request)->subscriptionId;
}

/// The events of the next publish response.
List<EventFieldList> nextEvents(Bench& b) {
  b.send(PublishRequest{});
  b.pass(100);
  const auto response = b.take<PublishResponse>();
  REQUIRE(response);
  if (response->notificationMessage.notificationData.empty()) return {};
  const auto events = response->notificationMessage.notificationData[0].as<EventNotificationList>();
  REQUIRE(events);
  return events->events;
}

}  // namespace

TEST_CASE("events are heard at their source, at the notifiers above it, and at the Server",
          "[events][cu:Monitor Events]") {
  Bench b;
  b.open();
  const auto plant = b.addNode(NodeId(1, String("plant")), NodeClass::Object, "plant", b.space.at(id::ObjectsFolder));
  const auto pump = b.addNode(NodeId(1, String("pump")), NodeClass::Object, "pump", plant);
  const auto other = b.addNode(NodeId(1, String("other")), NodeClass::Object, "other", plant);
  b.space.refer(b.space.at(id::Server), id::HasNotifier, plant);
  b.space.refer(plant, id::HasEventSource, pump);
  const auto subscription = subscribe(b);
  for (auto node : {b.space.at(id::Server), plant, pump, other})
    CHECK(watchEvents(b, subscription, b.space.nodeId(node), wants({"SourceName", "Severity"})).statusCode.isGood());
  b.server->announcer().raise(b.server->announcer().make(id::DeviceFailureEventType, 700, "it hums", pump));
  const auto events = nextEvents(b);
  CHECK(events.size() == 3);
  for (const auto& event : events) {
    CHECK(event.clientHandle == 7);
    CHECK(event.eventFields == List<Variant>{Variant(String("pump")), Variant(std::uint16_t{700})});
  }
}

TEST_CASE("an event has the fields that every event has", "[events][cu:Base Info Event Type]") {
  Bench b;
  b.open();
  const auto subscription = subscribe(b);
  const std::vector<const char*> fields{"EventId", "EventType",   "SourceNode", "SourceName",
                                        "Time",    "ReceiveTime", "Message",    "Severity"};
  watchEvents(b, subscription, id::Server, wants(fields));
  b.server->announcer().raise(b.server->announcer().make(id::SystemEventType, 10, "a"));
  b.server->announcer().raise(b.server->announcer().make(id::SystemEventType, 10, "b"));
  const auto events = nextEvents(b);
  REQUIRE(events.size() == 2);
  for (const auto& value : events[0].eventFields) CHECK_FALSE(value.isNull());
  CHECK_FALSE(events[0].eventFields[0] == events[1].eventFields[0]);  // ids differ
  CHECK(events[0].eventFields[1] == Variant(NodeId(id::SystemEventType)));
}

TEST_CASE("a full queue of events says that some are missing", "[events][cu:Monitor Queueing Size 10]") {
  for (const bool discardOldest : {true, false}) {
    Bench b;
    b.open();
    const auto subscription = subscribe(b);
    auto filter = wants({"EventType", "Message"});
    watchEvents(b, subscription, id::Server, ofType(filter, id::SystemEventType), 2, discardOldest);
    for (const char* text : {"a", "b", "c", "d"})
      b.server->announcer().raise(b.server->announcer().make(id::SystemEventType, 10, text));
    const auto events = nextEvents(b);
    REQUIRE(events.size() == 3);
    const std::size_t mark = discardOldest ? 0 : 2, first = discardOldest ? 1 : 0;
    CHECK(events[mark].eventFields[0] == Variant(NodeId(id::EventQueueOverflowEventType)));
    CHECK(events[first].eventFields[1] == Variant(LocalizedText(discardOldest ? "c" : "a", "en")));
    b.send(PublishRequest{});
    b.pass(100);
    CHECK(b.peer->answers.empty());  // told once
  }
}

TEST_CASE("event items are checked", "[events]") {
  Bench b;
  b.open();
  const auto subscription = subscribe(b);
  const auto good = wants({"Message"});
  CHECK(watchEvents(b, subscription, id::Server, good).revisedQueueSize == 100);
  CHECK(watchEvents(b, subscription, id::Server, good, 0).revisedQueueSize ==
        b.server->settings().limits.defaultEventQueueSize);
  CHECK(watchEvents(b, subscription, id::Server_ServerCapabilities, good).statusCode == status::BadNotSupported);
  CHECK(watchEvents(b, subscription, id::Server_ServiceLevel, good).statusCode == status::BadAttributeIdInvalid);
  CHECK(watchEvents(b, subscription, id::Server, EventFilter{}).statusCode == status::BadEventFilterInvalid);
  auto wrong = good;
  wrong.whereClause.elements.push_back({FilterOperator::Not, {}});
  const auto refused = watchEvents(b, subscription, id::Server, wrong);
  CHECK(refused.statusCode == status::BadEventFilterInvalid);
  const auto result = refused.filterResult.as<EventFilterResult>();
  REQUIRE(result);
  CHECK(result->whereClauseResult.elementResults[0].statusCode == status::BadFilterOperandCountMismatch);
  auto partly = wants({"Message", "Nonsense"});
  const auto taken = watchEvents(b, subscription, id::Server, partly);
  CHECK(taken.statusCode.isGood());
  CHECK(taken.filterResult.as<EventFilterResult>()->selectClauseResults ==
        List<StatusCode>{status::Good, status::BadNodeIdUnknown});
}

TEST_CASE("what clients do is audited", "[events][cu:Auditing Base]") {
  Bench b(true, [](server::Settings& settings) { settings.allowNodeManagement = true; });
  b.open();
  b.addVariable("flow", id::Double, Variant(1.0));
  const auto subscription = subscribe(b);
  auto filter = wants({"SourceName", "Status", "ClientUserId"}, id::AuditEventType);
  watchEvents(b, subscription, id::Server, ofType(filter, id::AuditEventType));
  const auto expect = [&](const char* source, bool good) {
    INFO(source);
    const auto events = nextEvents(b);
    REQUIRE(events.size() == 1);
    CHECK(events[0].eventFields[0] == Variant(String(source)));
    CHECK(events[0].eventFields[1] == Variant(good));
  };
  WriteRequest write;
  write.nodesToWrite.push_back({NodeId(1, String("flow")), 13, {}, DataValue(Variant(2.0))});
  CHECK(b.call(write));
  expect("Attribute/Write", true);
  write.nodesToWrite[0].value.value = Variant("much");
  CHECK(b.call(write));
  expect("Attribute/Write", false);
  CallRequest call;
  call.methodsToCall.push_back({id::Server, id::Server_GetMonitoredItems, {Variant(subscription)}});
  CHECK(b.call(call));
  expect("Attribute/Call", true);
  DeleteNodesRequest remove;
  remove.nodesToDelete.push_back({NodeId(9, 9u), true});
  CHECK(b.call(remove));
  expect("NodeManagement/DeleteNodes", false);
  CHECK(b.call(CancelRequest{}));
  expect("Session/Cancel", true);
  const auto mine = b.token;
  const auto created = b.call(CreateSessionRequest{});
  expect("Session/CreateSession", true);
  b.token = created->authenticationToken;
  ActivateSessionRequest wrongUser;
  wrongUser.userIdentityToken = ExtensionObject::of(UserNameIdentityToken{"password", "nobody", {}, {}});
  CHECK_FALSE(b.call(wrongUser));
  CHECK(b.call(CloseSessionRequest{}));
  b.token = mine;
  const auto events = nextEvents(b);
  REQUIRE(events.size() == 2);
  CHECK(events[0].eventFields[1] == Variant(false));
  CHECK(events[1].eventFields[0] == Variant(String("Session/CloseSession")));
  OpenSecureChannelRequest open;
  b.server->channelOpened(*b.peer, open);
  expect("SecureChannel/OpenSecureChannel", true);
}

TEST_CASE("a refused certificate is audited by what was wrong with it", "[events]") {
  Bench b;
  b.open();
  const auto subscription = subscribe(b);
  const auto certificate = test::identity("urn:fernhollow.example:stranger")->certificate.der();
  watchEvents(b, subscription, id::Server,
              ofType(wants({"EventType", "SourceName", "Certificate"}, id::AuditCertificateEventType),
                     id::AuditCertificateEventType));
  const std::vector<std::pair<StatusCode, StandardId>> rows{
      {status::BadCertificateTimeInvalid, id::AuditCertificateExpiredEventType},
      {status::BadCertificateUntrusted, id::AuditCertificateUntrustedEventType},
      {status::BadCertificateRevoked, id::AuditCertificateRevokedEventType},
      {status::BadCertificateUseNotAllowed, id::AuditCertificateMismatchEventType},
      {status::BadCertificateUriInvalid, id::AuditCertificateDataMismatchEventType},
      {status::BadCertificateInvalid, id::AuditCertificateInvalidEventType}};
  for (const auto& [code, type] : rows) b.server->announcer().certificateRefused(certificate, {code, "so", {}});
  const auto events = nextEvents(b);
  REQUIRE(events.size() == rows.size());
  for (std::size_t i = 0; i < rows.size(); ++i)
    CHECK(events[i].eventFields == List<Variant>{Variant(NodeId(rows[i].second)),
                                                 Variant(String("Security/Certificate")), Variant(certificate)});
}

TEST_CASE("who comes by a host that the certificate doesn't name is told of", "[events]") {
  for (const auto& [url, isTold] : std::vector<std::pair<const char*, bool>>{
           {"opc.tcp://elsewhere.example:4840", true}, {"opc.tcp://localhost:4840", false}, {"", false}}) {
    INFO(url);
    Bench b(true, [](auto& settings) { settings.identities = test::identity("urn:fernhollow.example:test"); });
    b.open();
    const auto subscription = subscribe(b);
    watchEvents(b, subscription, id::Server,
                ofType(wants({"EndpointUrl"}, id::AuditUrlMismatchEventType), id::AuditUrlMismatchEventType));
    CreateSessionRequest create;
    create.endpointUrl = url;
    const auto own = b.token;
    REQUIRE(b.call(create));
    b.token = own;
    const auto events = nextEvents(b);
    REQUIRE(events.size() == (isTold ? 1u : 0u));
    if (isTold) CHECK(events[0].eventFields[0] == Variant(String(url)));
  }
}

TEST_CASE("changes of the model and of meaning are announced",
          "[events][cu:Base Info Model Change][cu:Data Access Semantic Changes]") {
  Bench b(true, [](server::Settings& settings) { settings.allowNodeManagement = true; });
  b.open();
  const auto plant = b.addNode(NodeId(1, String("plant")), NodeClass::Object, "plant", b.space.at(id::ObjectsFolder));
  const auto subscription = subscribe(b);
  watchEvents(b, subscription, id::Server,
              ofType(wants({"EventType", "Changes"}, id::BaseModelChangeEventType), id::BaseModelChangeEventType));
  AddNodesRequest add;
  AddNodesItem item;
  item.parentNodeId = NodeId(1, String("plant"));
  item.referenceTypeId = id::HasComponent;
  item.browseName = {1, "tank"};
  item.nodeClass = NodeClass::Object;
  item.typeDefinition = id::BaseObjectType;
  add.nodesToAdd.push_back(item);
  CHECK(b.call(add)->results[0].statusCode.isGood());
  CHECK(b.space.child(plant, {1, "tank"}) != space::kNoNode);
  // GeneralModelChangeEventType declares Changes; the base type doesn't, so it is asked for where it stands.
  const auto events = nextEvents(b);
  REQUIRE(events.size() == 1);
  CHECK(events[0].eventFields[0] == Variant(NodeId(id::GeneralModelChangeEventType)));

  const auto pressure = b.addVariable("pressure", id::Double, Variant(1.0));
  const auto range = b.addVariable("range", id::Double, Variant(1.0));
  b.space.refer(pressure, id::HasProperty, range);
  b.space.unrefer(b.space.at(id::ObjectsFolder), b.space.at(id::HasComponent), range);
  b.space.traits(range).accessLevel |= AccessLevelType::SemanticChange;
  WriteRequest write;
  write.nodesToWrite.push_back({NodeId(1, String("range")), 13, {}, DataValue(Variant(2.0))});
  CHECK(b.call(write)->results[0].isGood());
  const auto changed = nextEvents(b);
  REQUIRE(changed.size() == 1);
  CHECK(changed[0].eventFields[0] == Variant(NodeId(id::SemanticChangeEventType)));
}

namespace {

/// Two filters with an alarm each, in a plant and in its intake.
void addPlant(Bench& b) {
  model::Findings findings;
  model::build(b.space,
               {{"model/m.yaml",
                 "namespace: http://fernhollow.example/alarms\n"
                 "objects:\n"
                 "  Plant:\n"
                 "    Intake:\n"
                 "      DF{1,2}:\n"
                 "        pressure: Double kPa 0..50 = 10 writable\n"
                 "        alarms: {clogged: limit pressure high 30 severity 700}\n"}},
               findings);
  REQUIRE(findings.list().empty());
  b.server->bindAlarms();
}
NodeId plantNode(const std::string& path) { return NodeId(2, String("Plant/Intake/" + path)); }

void write(Bench& b, const std::string& path, double value) {
  WriteRequest request;
  request.nodesToWrite.push_back(
      {plantNode(path), static_cast<std::uint32_t>(AttributeId::Value), {}, DataValue(Variant(value))});
  REQUIRE(b.call(request)->results[0].isGood());
}
StatusCode callMethod(Bench& b, NodeId object, NodeId method, std::vector<Variant> inputs) {
  CallRequest request;
  request.methodsToCall.push_back({std::move(object), std::move(method), List<Variant>(std::move(inputs))});
  return b.call(request)->results[0].statusCode;
}

EventFilter wantsConditions() {
  auto filter = wants({"EventId", "Message", "Retain"}, id::ConditionType);
  SimpleAttributeOperand condition;
  condition.typeDefinitionId = id::ConditionType;
  condition.attributeId = static_cast<std::uint32_t>(AttributeId::NodeId);
  filter.selectClauses.push_back(std::move(condition));
  SimpleAttributeOperand acked;
  acked.typeDefinitionId = id::AcknowledgeableConditionType;
  acked.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
  acked.browsePath = {{0, "AckedState"}, {0, "Id"}};
  filter.selectClauses.push_back(std::move(acked));
  filter.selectClauses.push_back(wants({"EventType"}).selectClauses.front());
  return filter;
}
enum { kEventId, kMessage, kRetain, kCondition, kAcked, kType };

}  // namespace

TEST_CASE("alarms are heard where their objects are, acknowledged by type or instance, and told again on demand",
          "[events][alarm][cu:A & C Basic][cu:A & C Refresh][cu:A & C Acknowledge]") {
  Bench b;
  b.open();
  addPlant(b);
  const auto subscription = subscribe(b);
  const auto severe = [&](const NodeId& node) {
    return watchEvents(b, subscription, node, ofType(wantsConditions(), id::AlarmConditionType)).statusCode;
  };
  CHECK(severe(NodeId(2, String("Plant"))).isGood());
  write(b, "DF1/pressure", 31);
  auto events = nextEvents(b);
  REQUIRE(events.size() == 1);
  const auto came = events[0].eventFields;
  CHECK(came[kCondition] == Variant(plantNode("DF1/clogged")));
  CHECK(came[kRetain] == Variant(true));
  CHECK(came[kAcked] == Variant(false));
  CHECK(came[kType] == Variant(NodeId(id::ExclusiveLevelAlarmType)));

  // The method is that of the type or the instance's own (Part 9, 5.7.3).
  CHECK(callMethod(b, plantNode("DF1/clogged"), id::AcknowledgeableConditionType_Acknowledge,
                   {Variant(ByteString("no", 2)), Variant(LocalizedText("x"))}) == status::BadEventIdUnknown);
  CHECK(callMethod(b, plantNode("DF1/clogged"), id::AcknowledgeableConditionType_Acknowledge,
                   {came[kEventId], Variant(LocalizedText("x"))})
            .isGood());
  events = nextEvents(b);
  REQUIRE(events.size() == 1);
  CHECK(events[0].eventFields[kAcked] == Variant(true));
  CHECK(callMethod(b, plantNode("DF1/clogged"), plantNode("DF1/clogged/Acknowledge"),
                   {events[0].eventFields[kEventId], Variant(LocalizedText())}) ==
        status::BadConditionBranchAlreadyAcked);

  // Whoever comes later asks how things stand, and hears it between two marks, of what its items hear.
  const auto late = subscribe(b);
  CHECK(watchEvents(b, late, id::Server, wantsConditions()).statusCode.isGood());
  const auto deaf = watchEvents(b, late, NodeId(2, String("Plant/Intake/DF2")), wantsConditions());
  const auto refresh = [&](StandardId method, std::vector<Variant> inputs) {
    return callMethod(b, id::ConditionType, method, std::move(inputs));
  };
  CHECK(refresh(id::ConditionType_ConditionRefresh, {Variant(late)}).isGood());
  CHECK(refresh(id::ConditionType_ConditionRefresh2, {Variant(late), Variant(deaf.monitoredItemId)}).isGood());
  CHECK(refresh(id::ConditionType_ConditionRefresh, {Variant(late + 7)}) == status::BadSubscriptionIdInvalid);
  CHECK(refresh(id::ConditionType_ConditionRefresh2, {Variant(late), Variant(std::uint32_t{99})}) ==
        status::BadMonitoredItemIdInvalid);
  b.send(DeleteSubscriptionsRequest{{}, List<std::uint32_t>(1, subscription)});
  (void)b.take<DeleteSubscriptionsResponse>();
  events = nextEvents(b);
  std::vector<NodeId> types;
  for (const auto& event : events) types.push_back(*event.eventFields[kType].get<NodeId>());
  const NodeId start = id::RefreshStartEventType, end = id::RefreshEndEventType;
  CHECK(std::ranges::count(types, start) == 3);  // two items, then the one alone
  CHECK(std::ranges::count(types, end) == 3);
  CHECK(std::ranges::count(types, NodeId(id::ExclusiveLevelAlarmType)) == 1);
}

TEST_CASE("who watches with a filter hears when a condition no longer passes it", "[events][alarm]") {
  Bench b;
  b.open();
  addPlant(b);
  const auto subscription = subscribe(b);
  // Those that wait to be acknowledged, and one who wants to know of all.
  EventFilter waiting = wantsConditions();
  ContentFilterElement element;
  element.filterOperator = FilterOperator::Equals;
  SimpleAttributeOperand acknowledged;
  acknowledged.typeDefinitionId = id::AcknowledgeableConditionType;
  acknowledged.browsePath = List<QualifiedName>{{0, "AckedState"}, {0, "Id"}};
  acknowledged.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
  element.filterOperands.push_back(ExtensionObject::of(acknowledged));
  element.filterOperands.push_back(ExtensionObject::of(LiteralOperand{Variant(false)}));
  waiting.whereClause.elements.push_back(std::move(element));
  REQUIRE(watchEvents(b, subscription, id::Server, waiting).statusCode.isGood());
  const auto acknowledge = [&](const Variant& eventId) {
    return callMethod(b, plantNode("DF1/clogged"), id::AcknowledgeableConditionType_Acknowledge,
                      {eventId, Variant(LocalizedText("x"))});
  };
  write(b, "DF1/pressure", 31);
  auto events = nextEvents(b);
  REQUIRE(events.size() == 1);
  CHECK(events[0].eventFields[kRetain] == Variant(true));
  REQUIRE(acknowledge(events[0].eventFields[kEventId]).isGood());
  events = nextEvents(b);
  REQUIRE(events.size() == 1);
  CHECK(events[0].eventFields[kCondition] == Variant(plantNode("DF1/clogged")));
  CHECK(events[0].eventFields[kAcked] == Variant(true));
  CHECK(events[0].eventFields[kRetain] == Variant(false));
  // Once is enough, and for others it is of interest as it was.
  write(b, "DF1/pressure", 5);
  write(b, "DF1/pressure", 31);
  events = nextEvents(b);
  REQUIRE(events.size() == 1);
  CHECK(events[0].eventFields[kRetain] == Variant(true));
  REQUIRE(watchEvents(b, subscription, id::Server, wantsConditions()).statusCode.isGood());
  REQUIRE(acknowledge(events[0].eventFields[kEventId]).isGood());
  events = nextEvents(b);
  std::vector<Variant> retained;  // beside what the audit says
  for (const auto& event : events)
    if (event.eventFields[kCondition] == Variant(plantNode("DF1/clogged")))
      retained.push_back(event.eventFields[kRetain]);
  REQUIRE(retained.size() == 2);
  CHECK_FALSE(retained[0] == retained[1]);
  const auto says = b.space.child(b.space.at(id::ConditionType), {0, "SupportsFilteredRetain"});
  REQUIRE(says != space::kNoNode);
  CHECK(b.space.value(says).value == Variant(true));
}

TEST_CASE("who was not told of every change of a condition is asked to refresh, once there is room",
          "[events][alarm][cu:A & C Refresh]") {
  for (const bool discardOldest : {true, false}) {
    INFO(discardOldest);
    Bench b;
    b.open();
    addPlant(b);
    const auto subscription = subscribe(b);
    watchEvents(b, subscription, id::Server, ofType(wantsConditions(), id::AlarmConditionType), 2, discardOldest);
    for (const double pressure : {31.0, 5.0, 31.0, 5.0}) write(b, "DF1/pressure", pressure);
    std::vector<NodeId> types;
    for (const auto& event : nextEvents(b)) types.push_back(*event.eventFields[kType].get<NodeId>());
    REQUIRE(types.size() == 4);
    CHECK(types[discardOldest ? 0 : 2].is(id::EventQueueOverflowEventType));
    CHECK(types[3].is(id::RefreshRequiredEventType));
    // Said once, and not of what is told in full.
    write(b, "DF1/pressure", 31);
    const auto events = nextEvents(b);
    REQUIRE(events.size() == 1);
    CHECK(events[0].eventFields[kType] == Variant(NodeId(id::ExclusiveLevelAlarmType)));
  }
}

TEST_CASE("what people do to alarms is audited by its kind", "[events][alarm][cu:Auditing Base]") {
  Bench b;
  b.open();
  model::Findings findings;
  model::build(
      b.space,
      {{"model/m.yaml",
        "namespace: http://fernhollow.example/alarms\n"
        "objects:\n"
        "  Plant:\n"
        "    Intake:\n"
        "      DF1:\n"
        "        pressure: Double kPa 0..50 = 10 writable\n"
        "        locked: Boolean = false writable\n"
        "        alarms:\n"
        "          clogged: limit pressure high 30 severity 700 shelvable for 8h latched suppressible removable "
        "audible confirm\n"
        "          occupied: {is: dialog locked when true severity 200, message: \"Who is it?\", options: [I, "
        "Nobody]}\n"}},
      findings);
  for (const auto& finding : findings.list()) UNSCOPED_INFO(finding.message);
  REQUIRE(findings.list().empty());
  b.server->bindAlarms();
  const auto subscription = subscribe(b);
  // EventType, SourceNode, Status, StatusCodeId, and what the kinds have of their own
  auto filter = wants({"EventType", "SourceNode"});
  const auto also = [&](const char* field, StandardId type) {
    filter.selectClauses.push_back(wants({field}, type).selectClauses.front());
  };
  also("Status", id::AuditEventType);
  also("ShelvingTime", id::AuditConditionShelvingEventType);
  also("SelectedResponse", id::AuditConditionRespondEventType);
  also("Comment", id::AuditConditionCommentEventType);
  also("Comment", id::AuditConditionAcknowledgeEventType);
  also("Comment", id::AuditConditionConfirmEventType);
  watchEvents(b, subscription, id::Server, ofType(filter, id::AuditConditionEventType));
  enum { kEventType, kSource, kStatus, kShelvingTime, kResponse, kComment, kAcknowledged, kConfirmed };
  write(b, "DF1/pressure", 31);
  WriteRequest lock;
  lock.nodesToWrite.push_back({plantNode("DF1/locked"), 13, {}, DataValue(Variant(true))});
  REQUIRE(b.call(lock)->results[0].isGood());
  const Variant words(LocalizedText("it is known"));
  const auto eventId = [&] { return b.space.value(b.space.find(plantNode("DF1/clogged/EventId"))).value; };
  struct Row {
    const char *object, *method;
    std::vector<Variant> inputs;
    StandardId type;
    bool isGood = true;
    int field = -1;
    Variant value = {};
  };
  const Variant anHour(3'600'000.0), theEvent;  // a null stands for the alarm's present EventId
  const std::vector<Row> rows = {
      {"clogged", "AddComment", {theEvent, words}, id::AuditConditionCommentEventType, true, kComment, words},
      {"clogged", "Acknowledge", {theEvent, words}, id::AuditConditionAcknowledgeEventType, true, kAcknowledged, words},
      {"clogged", "Acknowledge", {theEvent, words}, id::AuditConditionAcknowledgeEventType, false},
      {"clogged", "Confirm", {theEvent, words}, id::AuditConditionConfirmEventType, true, kConfirmed, words},
      {"clogged/ShelvingState",
       "TimedShelve",
       {anHour},
       id::AuditConditionShelvingEventType,
       true,
       kShelvingTime,
       anHour},
      {"clogged/ShelvingState", "OneShotShelve", {}, id::AuditConditionShelvingEventType},
      {"clogged/ShelvingState", "Unshelve", {}, id::AuditConditionShelvingEventType},
      {"clogged/ShelvingState", "Unshelve", {}, id::AuditConditionShelvingEventType, false},
      {"clogged/ShelvingState",
       "TimedShelve2",
       {anHour, words},
       id::AuditConditionShelvingEventType,
       true,
       kShelvingTime,
       anHour},
      {"clogged/ShelvingState", "Unshelve2", {words}, id::AuditConditionShelvingEventType},
      {"clogged", "Suppress", {}, id::AuditConditionSuppressionEventType},
      {"clogged", "Unsuppress2", {words}, id::AuditConditionSuppressionEventType},
      {"clogged", "RemoveFromService", {}, id::AuditConditionOutOfServiceEventType},
      {"clogged", "PlaceInService2", {words}, id::AuditConditionOutOfServiceEventType},
      {"clogged", "Silence", {}, id::AuditConditionSilenceEventType},
      {"clogged", "Reset", {}, id::AuditConditionResetEventType, false},
      {"clogged", "Disable", {}, id::AuditConditionEnableEventType},
      {"clogged", "Enable", {}, id::AuditConditionEnableEventType},
      {"occupied", "Respond", {Variant(1)}, id::AuditConditionRespondEventType, true, kResponse, Variant(1)},
      {"occupied", "Respond2", {Variant(0), words}, id::AuditConditionRespondEventType, false},
  };
  for (const Row& row : rows) {
    INFO(row.method);
    const NodeId object = plantNode(std::string("DF1/") + row.object);
    auto inputs = row.inputs;
    for (auto& input : inputs)
      if (input.isNull()) input = eventId();
    const auto outcome =
        callMethod(b, object, plantNode(std::string("DF1/") + row.object + "/" + row.method), std::move(inputs));
    CHECK(outcome.isGood() == row.isGood);
    const auto events = nextEvents(b);
    REQUIRE(events.size() == 1);
    const auto& fields = events[0].eventFields;
    CHECK(fields[kEventType] == Variant(NodeId(row.type)));
    CHECK(fields[kSource] == Variant(object));
    CHECK(fields[kStatus] == Variant(row.isGood));
    if (row.field >= 0) CHECK(fields[static_cast<std::size_t>(row.field)] == row.value);
  }
}

TEST_CASE("any number of alarms comes through a queue of one, and nothing else asks meanwhile",
          "[events][alarm][cu:A & C Refresh]") {
  Bench b;
  b.open();
  addPlant(b);
  write(b, "DF1/pressure", 31);
  write(b, "DF2/pressure", 31);
  const auto subscription = subscribe(b);
  MonitoredItemCreateRequest item;
  item.itemToMonitor = {id::Server, static_cast<std::uint32_t>(AttributeId::EventNotifier), {}, {}};
  item.monitoringMode = MonitoringMode::Reporting;
  item.requestedParameters.queueSize = 1;
  item.requestedParameters.discardOldest = true;
  item.requestedParameters.filter = ExtensionObject::of(ofType(wantsConditions(), id::AlarmConditionType));
  CreateMonitoredItemsRequest create;
  create.subscriptionId = subscription;
  create.itemsToCreate.push_back(item);
  b.send(create);
  REQUIRE(b.take<CreateMonitoredItemsResponse>()->results[0].statusCode.isGood());
  const auto refresh = [&] {
    return callMethod(b, id::ConditionType, id::ConditionType_ConditionRefresh, {Variant(subscription)});
  };
  CHECK(refresh().isGood());
  CHECK(refresh() == status::BadRefreshInProgress);
  std::vector<NodeId> types;
  for (int i = 0; i < 20 && (types.empty() || !types.back().is(id::RefreshEndEventType)); ++i)
    for (const auto& event : nextEvents(b)) types.push_back(*event.eventFields[kType].get<NodeId>());
  REQUIRE(types.size() >= 4);
  CHECK(types.front().is(id::RefreshStartEventType));
  CHECK(types.back().is(id::RefreshEndEventType));
  CHECK(std::ranges::count(types, NodeId(id::ExclusiveLevelAlarmType)) == 2);
  CHECK(refresh().isGood());
}

}  // namespace zunth::event_services_test
