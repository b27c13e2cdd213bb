#include "tests/service/fake_peer.hpp"
#include "tests/service/lone_owner.hpp"
#include <catch2/catch.hpp>

namespace zunth::server_test {

using namespace zunth::ua;
using test::Bench;

namespace {

ReadRequest readOf(NodeId node, std::uint32_t attribute = 13) {
  ReadRequest request;
  request.timestampsToReturn = TimestampsToReturn::Both;
  request.nodesToRead.push_back({std::move(node), attribute, {}, {}});
  return request;
}

WriteRequest writeOf(NodeId node, Variant value) {
  WriteRequest request;
  request.nodesToWrite.push_back({std::move(node), 13, {}, DataValue(std::move(value))});
  return request;
}

CreateSubscriptionRequest subscription(double interval = 100) {
  CreateSubscriptionRequest request;
  request.requestedPublishingInterval = interval;
  request.requestedMaxKeepAliveCount = 5;
  request.requestedLifetimeCount = 15;
  request.publishingEnabled = true;
  return request;
}

CreateMonitoredItemsRequest watchOf(std::uint32_t id, NodeId node, std::uint32_t queueSize = 10) {
  CreateMonitoredItemsRequest request;
  request.subscriptionId = id;
  request.timestampsToReturn = TimestampsToReturn::Both;
  MonitoredItemCreateRequest item;
  item.itemToMonitor = {std::move(node), 13, {}, {}};
  item.monitoringMode = MonitoringMode::Reporting;
  item.requestedParameters = {42, 0, {}, queueSize, true};
  request.itemsToCreate.push_back(item);
  return request;
}

}  // namespace

TEST_CASE("discovery needs no session and tells where the server is",
          "[server][cu:Discovery Get Endpoints][cu:Discovery Find Servers Self]") {
  Bench b;
  GetEndpointsRequest request;
  request.endpointUrl = "opc.tcp://filter-house:4840/x";
  const auto endpoints = b.call(request);
  REQUIRE(endpoints);
  REQUIRE(endpoints->endpoints.size() == 1);
  CHECK(endpoints->endpoints[0].endpointUrl.view() == "opc.tcp://filter-house:4840/x");
  CHECK(endpoints->endpoints[0].securityMode == MessageSecurityMode::None);
  CHECK(endpoints->endpoints[0].userIdentityTokens[0].tokenType == UserTokenType::Anonymous);
  CHECK(b.call(FindServersRequest{})->servers.size() == 1);
  FindServersRequest other;
  other.serverUris.push_back("urn:somebody:else");
  CHECK(b.call(other)->servers.empty());
}

TEST_CASE("sessions are created, activated, bound to their channel and closed",
          "[server][cu:Session Base][cu:Session General Service Behaviour][cu:Security User Anonymous]") {
  Bench b;
  CHECK(b.call(readOf(id::Server_ServiceLevel)).code() == status::BadSessionIdInvalid);
  CreateSessionRequest create;
  create.requestedSessionTimeout = 60'000;
  const auto created = b.call(create);
  REQUIRE(created);
  CHECK(created->serverNonce.size() >= 32);
  CHECK(created->revisedSessionTimeout == 60'000);
  b.token = created->authenticationToken;
  // Part 4, 5.6.3.1: used before it was activated, it is closed.
  CHECK(b.call(readOf(id::Server_ServiceLevel)).code() == status::BadSessionNotActivated);
  CHECK(b.call(ActivateSessionRequest{}).code() == status::BadSessionIdInvalid);
  b.token = b.call(create)->authenticationToken;
  ActivateSessionRequest wrongUser;
  wrongUser.userIdentityToken = ExtensionObject::of(UserNameIdentityToken{"password", "nobody", {}, {}});
  CHECK(b.call(wrongUser).code() == status::BadIdentityTokenRejected);
  CHECK(b.call(ActivateSessionRequest{}));
  CHECK(b.call(readOf(id::Server_ServiceLevel)));
  const auto first = b.peer;
  b.peer = std::make_shared<test::FakePeer>(2);
  CHECK(b.call(readOf(id::Server_ServiceLevel)).code() == status::BadSecureChannelIdInvalid);
  CHECK(b.call(ActivateSessionRequest{}));  // moves the session to the new channel
  CHECK(b.call(readOf(id::Server_ServiceLevel)));
  CHECK(b.call(CloseSessionRequest{}));
  CHECK(b.call(readOf(id::Server_ServiceLevel)).code() == status::BadSessionIdInvalid);
}

TEST_CASE("a server that nobody opened lets nobody in", "[server]") {
  Bench b(false);
  CHECK(b.call(GetEndpointsRequest{})->endpoints.empty());
  CHECK(b.call(CreateSessionRequest{}).code() == status::BadSecurityModeInsufficient);
}

TEST_CASE("sessions are limited and time out", "[server][cu:Session Minimum 1]") {
  Bench b;
  for (int i = 0; i < 3; ++i) b.open();
  CHECK(b.call(CreateSessionRequest{}).code() == status::BadTooManySessions);
  b.pass(59'000);
  CHECK(b.call(readOf(id::Server_ServiceLevel)));  // the last one is alive
  b.pass(2'000);
  CHECK(b.server->sessionCount() == 1);
}

TEST_CASE("a service that isn't there is refused by name", "[server][cu:Base Services Fault Behaviour]") {
  Bench b;
  b.open();
  RequestHeader header;
  header.returnDiagnostics = 0x84;
  Bytes body = encode(NodeId(ReadResponse::kBinaryId));
  BinaryWriter(body).write(header);
  b.server->handle(b.peer, 8, body);
  const auto outcome = b.take<ReadResponse>();
  CHECK(outcome.code() == status::BadServiceUnsupported);
  CHECK(outcome.error().cause.find("ReadResponse") != std::string::npos);
  b.server->handle(b.peer, 9, encode(NodeId(1, 7u)));
  CHECK(b.take<ReadResponse>().code() == status::BadDecodingError);
}

TEST_CASE("requests with nothing in them say so", "[server]") {
  Bench b;
  b.open();
  CHECK(b.call(ReadRequest{}).code() == status::BadNothingToDo);
  CHECK(b.call(WriteRequest{}).code() == status::BadNothingToDo);
  CHECK(b.call(BrowseRequest{}).code() == status::BadNothingToDo);
  CHECK(b.call(CallRequest{}).code() == status::BadNothingToDo);
  CHECK(b.call(DeleteSubscriptionsRequest{}).code() == status::BadNothingToDo);
}

TEST_CASE("the server object is alive", "[server][cu:Base Info System Status][cu:Base Info Server Capabilities 2]") {
  Bench b;
  b.open();
  b.space.addNamespace("http://fernhollow.example/plant");
  const auto value = [&](StandardId node) { return b.call(readOf(node))->results[0].value; };
  CHECK(value(id::Server_NamespaceArray).items<String>().size() == 3);
  CHECK(value(id::Server_ServerStatus_CurrentTime) == Variant(DateTime{133'000'000'000'000'000}));
  CHECK(value(id::Server_ServerStatus).get<ExtensionObject>()->as<ServerStatusDataType>()->state ==
        ServerState::Running);
  CHECK(value(id::Server_ServerCapabilities_OperationLimits_MaxNodesPerRead) ==
        Variant(b.server->settings().limits.maxOperationsPerRequest));
}

TEST_CASE("reads give what was asked for, with the times that were asked for",
          "[server][cu:Attribute Read][cu:Attribute Timestamps]") {
  Bench b;
  b.open();
  const auto node = b.addVariable("flow", id::Double, Variant(1.5));
  b.space.setValue(node, DataValue(Variant(2.5), DateTime{5}));
  struct Case {
    TimestampsToReturn timestamps;
    bool source, server;
  };
  for (const auto& c :
       {Case{TimestampsToReturn::Both, true, true}, Case{TimestampsToReturn::Source, true, false},
        Case{TimestampsToReturn::Server, false, true}, Case{TimestampsToReturn::Neither, false, false}}) {
    auto request = readOf(NodeId(1, String("flow")));
    request.timestampsToReturn = c.timestamps;
    const auto value = b.call(request)->results[0];
    CHECK(value.value == Variant(2.5));
    CHECK(value.sourceTimestamp.isNull() != c.source);
    CHECK(value.serverTimestamp.isNull() != c.server);
  }
  auto odd = readOf(NodeId(1, String("flow")));
  odd.timestampsToReturn = TimestampsToReturn::Invalid;
  CHECK(b.call(odd).code() == status::BadTimestampsToReturnInvalid);
  odd = readOf(NodeId(1, String("flow")));
  odd.maxAge = -1;
  CHECK(b.call(odd).code() == status::BadMaxAgeInvalid);
  const auto result = [&](ReadValueId what) {
    ReadRequest request;
    request.nodesToRead.push_back(std::move(what));
    return b.call(request)->results[0].status;
  };
  CHECK(result({NodeId(9, 9u), 13, {}, {}}) == status::BadNodeIdUnknown);
  CHECK(result({NodeId(1, String("flow")), 99, {}, {}}) == status::BadAttributeIdInvalid);
  CHECK(result({NodeId(1, String("flow")), 13, "0", {}}) == status::BadIndexRangeNoData);
  CHECK(result({NodeId(1, String("flow")), 13, {}, {0, "Default Binary"}}) == status::BadDataEncodingInvalid);
  CHECK(result({id::Server_ServerStatus, 13, {}, {0, "Default Binary"}}).isGood());
  CHECK(result({id::Server_ServerStatus, 13, {}, {0, "Default Telepathy"}}) == status::BadDataEncodingUnsupported);
  // The same structure in XML and in JSON.
  for (const char* encoding : {"Default XML", "Default JSON"}) {
    ReadRequest request;
    request.nodesToRead.push_back({id::Server_ServerStatus_BuildInfo, 13, {}, {0, encoding}});
    const auto answer = b.call(request);
    REQUIRE(answer);
    const auto* object = answer->results[0].value.get<ExtensionObject>();
    REQUIRE(object);
    const bool isXml = encoding == std::string("Default XML");
    CHECK(object->encodingId() ==
          NodeId(isXml ? id::BuildInfo_Encoding_DefaultXml : id::BuildInfo_Encoding_DefaultJson));
    CHECK(object->octets().view().starts_with(isXml ? "<BuildInfo xmlns=" : "{\"ProductUri\":\"urn:zunth\""));
  }
  CHECK(result({NodeId(1, String("flow")), 3, {}, {0, "Default Binary"}}) == status::BadDataEncodingInvalid);
}

TEST_CASE("a read waits for values that are younger than it asks for", "[server][cu:Attribute Read]") {
  Bench b;
  b.open();
  const auto node = b.addVariable("flow", id::Double, Variant(1.5));
  const auto source = std::make_shared<test::LoneOwner>();
  source->age = std::chrono::milliseconds(100);
  b.server->owners().own(node, source);
  auto request = readOf(NodeId(1, String("flow")));
  request.maxAge = 200;
  CHECK(b.call(request)->results[0].value == Variant(1.5));  // young enough
  CHECK(source->waiting.empty());
  request.maxAge = 50;
  request.nodesToRead.push_back(request.nodesToRead[0]);
  b.send(request);
  CHECK(b.peer->answers.empty());
  REQUIRE(source->waiting.size() == 1);  // once for both
  b.space.setValue(node, DataValue(Variant(2.5)));
  source->waiting[0]();
  auto answer = b.take<ReadResponse>();
  REQUIRE(answer);
  CHECK(answer->results[1].value == Variant(2.5));
  // A source that doesn't answer holds nobody up longer than they want to wait.
  request.requestHeader.timeoutHint = 1000;
  b.send(request);
  b.pass(500);
  CHECK(b.peer->answers.empty());
  b.pass(600);
  answer = b.take<ReadResponse>();
  REQUIRE(answer);
  CHECK(answer->results[0].value == Variant(2.5));
  source->waiting[1]();  // too late
  CHECK(b.peer->answers.empty());
}

TEST_CASE("writes are answered one by one, with the cause", "[server][cu:Attribute Write Values]") {
  Bench b;
  b.open();
  const auto node = b.addVariable("flow", id::Double, Variant(1.5));
  auto request = writeOf(NodeId(1, String("flow")), Variant(3.5));
  request.nodesToWrite.push_back({NodeId(1, String("flow")), 13, {}, DataValue(Variant("much"))});
  request.nodesToWrite.push_back({NodeId(9, 9u), 13, {}, DataValue(Variant(1.0))});
  const auto response = b.call(request);
  REQUIRE(response);
  CHECK(response->results == List<StatusCode>{status::Good, status::BadTypeMismatch, status::BadNodeIdUnknown});
  REQUIRE(response->diagnosticInfos.size() == 3);
  CHECK(response->diagnosticInfos[1].additionalInfo->view() == "flow takes Double, not String");
  CHECK(b.space.value(node).value == Variant(3.5));
}

TEST_CASE("a device's answer to a write comes when it comes", "[server][cu:Base Services Asynchronous Answers]") {
  Bench b;
  b.open();
  const auto owner = std::make_shared<test::LoneOwner>();
  b.server->owners().own(b.addVariable("slow", id::Double, Variant(1.5)), owner);
  b.server->owners().own(b.addVariable("slower", id::Double, Variant(1.5)), owner);
  b.addVariable("quick", id::Double, Variant(0.0));
  auto request = writeOf(NodeId(1, String("slow")), Variant(3.5));
  request.nodesToWrite.push_back({NodeId(1, String("quick")), 13, {}, DataValue(Variant(1.0))});
  request.nodesToWrite.push_back({NodeId(1, String("slower")), 13, {}, DataValue(Variant(2.0))});
  b.send(request);
  CHECK(b.peer->answers.empty());
  CHECK(b.call(readOf(id::Server_ServiceLevel)));  // others don't wait
  REQUIRE(owner->written.size() == 1);             // both together, in their order
  REQUIRE(owner->written[0].size() == 2);
  CHECK(owner->written[0][1].value == Variant(2.0));
  owner->writeDone(1, {status::Good, {}, {}});
  CHECK(b.peer->answers.empty());
  owner->writeDone(0, {status::BadDeviceFailure, "it smokes", {}});
  const auto response = b.take<WriteResponse>();
  REQUIRE(response);
  CHECK(response->results == List<StatusCode>{status::BadDeviceFailure, status::Good, status::Good});
  b.send(writeOf(NodeId(1, String("slow")), Variant(4.5)));
  b.peer = std::make_shared<test::FakePeer>();
  owner->writeDone(0, {status::Good, {}, {}});  // whom it was for has gone: nothing happens
}

TEST_CASE("browses go on where they stopped", "[server][cu:View Basic 2][cu:View Minimum Continuation Point 01]") {
  Bench b;
  b.open();
  BrowseRequest request;
  request.requestedMaxReferencesPerNode = 5;
  request.nodesToBrowse.push_back({id::Server, BrowseDirection::Both, NodeId(), true, 0, 63});
  const auto first = b.call(request);
  REQUIRE(first);
  CHECK(first->results[0].references.size() == 5);
  std::size_t seen = 5;
  ByteString point = first->results[0].continuationPoint;
  while (!point.empty()) {
    BrowseNextRequest next;
    next.continuationPoints.push_back(point);
    const auto page = b.call(next);
    REQUIRE(page);
    CHECK(page->results[0].statusCode.isGood());
    seen += page->results[0].references.size();
    CHECK(b.call(next)->results[0].statusCode == status::BadContinuationPointInvalid);  // each is good once
    point = page->results[0].continuationPoint;
  }
  CHECK(seen == b.space.references(b.space.at(id::Server)).size());
  // Part 4, 7.9: those of earlier requests give way; one request has as many as there are.
  for (int i = 0; i < 5; ++i) CHECK(b.call(request)->results[0].statusCode.isGood());
  request.nodesToBrowse.push_back(request.nodesToBrowse[0]);
  request.nodesToBrowse.push_back(request.nodesToBrowse[0]);
  const auto three = b.call(request);
  CHECK(three->results[0].statusCode.isGood());
  CHECK(three->results[1].statusCode.isGood());
  CHECK(three->results[2].statusCode == status::BadNoContinuationPoints);
  BrowseNextRequest last;
  last.continuationPoints.push_back(three->results[0].continuationPoint);
  CHECK(b.call(last)->results[0].statusCode.isGood());
  request.view.viewId = NodeId(9, 9u);
  CHECK(b.call(request).code() == status::BadViewIdUnknown);
}

TEST_CASE("calls are checked before they are carried out", "[server][cu:Method Call]") {
  Bench b;
  b.open();
  // A plant's own object and method: doubles a number.
  const NodeId tank(1, String("tank")), dose(1, String("tank/dose"));
  const auto object = b.addNode(tank, NodeClass::Object, "tank", b.space.at(id::ObjectsFolder));
  const auto method = b.addNode(dose, NodeClass::Method, "dose", object);
  b.addArguments(method, "InputArguments", {{"grams", id::UInt32}});
  const auto owner = std::make_shared<test::LoneOwner>();
  owner->carryOut = [](std::vector<Variant> inputs) {
    return space::CallOutcome{{status::Good, {}, {}}, {Variant(2 * *inputs[0].get<std::uint32_t>())}};
  };
  b.server->owners().own(method, owner);
  auto call = [&](NodeId object, NodeId methodId, std::vector<Variant> inputs) {
    CallRequest request;
    request.methodsToCall.push_back({std::move(object), std::move(methodId), List<Variant>(std::move(inputs))});
    return b.call(request)->results[0];
  };
  const auto fine = call(tank, dose, {Variant(5u)});
  CHECK(fine.statusCode.isGood());
  CHECK(fine.outputArguments[0] == Variant(10u));
  const auto wrong = call(tank, dose, {Variant("5")});
  CHECK(wrong.statusCode == status::BadInvalidArgument);
  CHECK(wrong.inputArgumentResults == List<StatusCode>{status::BadTypeMismatch});
  struct Case {
    NodeId object, method;
    std::vector<Variant> inputs;
    StatusCode expected;
  };
  for (const auto& c : std::vector<Case>{
           {tank, dose, {}, status::BadArgumentsMissing},
           {tank, dose, {Variant(1u), Variant(2u)}, status::BadTooManyArguments},
           {id::ObjectsFolder, dose, {Variant(1u)}, status::BadMethodInvalid},
           {id::Server, id::Server_ServiceLevel, {}, status::BadMethodInvalid},
           {NodeId(9, 9u), dose, {Variant(1u)}, status::BadNodeIdUnknown},
           {NodeId(), dose, {Variant(1u)}, status::BadNodeIdInvalid},
           {tank, NodeId(), {Variant(1u)}, status::BadMethodInvalid},
           {id::Server, id::ServerType_GetMonitoredItems, {Variant(6u)}, status::BadSubscriptionIdInvalid}})
    CHECK(call(c.object, c.method, c.inputs).statusCode == c.expected);
  CHECK(owner->calls == 1);
}

TEST_CASE("subscriptions bring changes, keep alive, and are acknowledged",
          "[server][cu:Subscription Basic][cu:Subscription Publish Basic][cu:Subscription Publish Min 02][cu:Monitor "
          "Basic][cu:Monitor Value Change]") {
  Bench b;
  b.open();
  CHECK(b.call(PublishRequest{}).code() == status::BadNoSubscription);
  const auto node = b.addVariable("flow", id::Double, Variant(0.0));
  const auto created = b.call(subscription());
  REQUIRE(created);
  CHECK(created->revisedLifetimeCount >= 3 * created->revisedMaxKeepAliveCount);
  const auto items = b.call(watchOf(created->subscriptionId, NodeId(1, String("flow"))));
  REQUIRE(items);
  CHECK(items->results[0].statusCode.isGood());
  b.send(PublishRequest{});
  b.pass(100);
  auto first = b.take<PublishResponse>();
  REQUIRE(first);
  const auto changes = first->notificationMessage.notificationData[0].as<DataChangeNotification>();
  CHECK(changes->monitoredItems[0].clientHandle == 42);
  CHECK(changes->monitoredItems[0].value.value == Variant(0.0));

  b.space.setValue(node, DataValue(Variant(1.0), DateTime{7}));
  b.pass(100);  // nothing to answer: the message waits for a request
  PublishRequest publish;
  publish.subscriptionAcknowledgements.push_back({created->subscriptionId, 1});
  publish.subscriptionAcknowledgements.push_back({created->subscriptionId, 9});
  publish.subscriptionAcknowledgements.push_back({99, 1});
  b.send(publish);
  auto second = b.take<PublishResponse>();
  REQUIRE(second);
  CHECK(second->results ==
        List<StatusCode>{status::Good, status::BadSequenceNumberUnknown, status::BadSubscriptionIdInvalid});
  CHECK(second->availableSequenceNumbers == List<std::uint32_t>{2});
  RepublishRequest again;
  again.subscriptionId = created->subscriptionId;
  again.retransmitSequenceNumber = 2;
  CHECK(b.call(again)->notificationMessage == second->notificationMessage);
  again.retransmitSequenceNumber = 1;
  CHECK(b.call(again).code() == status::BadMessageNotAvailable);

  b.send(PublishRequest{});
  for (int i = 0; i < 5; ++i) b.pass(100);
  const auto keepAlive = b.take<PublishResponse>();
  REQUIRE(keepAlive);
  CHECK(keepAlive->notificationMessage.notificationData.empty());
  CHECK(keepAlive->notificationMessage.sequenceNumber == 3);

  for (int i = 0; i < 5; ++i) b.send(PublishRequest{});
  CHECK(b.take<PublishResponse>().code() == status::BadTooManyPublishRequests);
  DeleteSubscriptionsRequest remove;
  remove.subscriptionIds = List<std::uint32_t>{created->subscriptionId, 77};
  b.send(remove);
  CHECK(b.take<PublishResponse>().code() == status::BadNoSubscription);
  for (int i = 0; i < 3; ++i) CHECK(b.take<PublishResponse>().code() == status::BadNoSubscription);
  CHECK(b.take<DeleteSubscriptionsResponse>()->results ==
        List<StatusCode>{status::Good, status::BadSubscriptionIdInvalid});
  CHECK(b.server->monitoredItemCount() == 0);
}

TEST_CASE("no message is lost with a connection", "[server][cu:Subscription Republish]") {
  Bench b;
  b.open();
  const auto node = b.addVariable("flow", id::Double, Variant(0.0));
  const auto sub = b.call(subscription())->subscriptionId;
  CHECK(b.call(watchOf(sub, NodeId(1, String("flow")))));
  b.send(PublishRequest{});
  b.pass(100);
  REQUIRE(b.take<PublishResponse>());
  b.send(PublishRequest{});
  b.peer = std::make_shared<test::FakePeer>();  // the one that asked is gone
  b.space.setValue(node, DataValue(Variant(7.0), DateTime{7}));
  b.pass(100);
  b.send(PublishRequest{});
  const auto published = b.take<PublishResponse>();
  REQUIRE(published);
  CHECK(
      published->notificationMessage.notificationData[0].as<DataChangeNotification>()->monitoredItems[0].value.value ==
      Variant(7.0));
}

TEST_CASE("a subscription without Publish requests ends with its life-time and says so",
          "[server][cu:Subscription Minimum 1]") {
  Bench b;
  b.open();
  b.addVariable("flow", id::Double, Variant(0.0));
  const auto created = b.call(subscription());
  CHECK(b.call(watchOf(created->subscriptionId, NodeId(1, String("flow")))));
  for (int i = 0; i < 16; ++i) b.pass(100);
  CHECK(b.server->monitoredItemCount() == 0);
  CHECK(b.call(watchOf(created->subscriptionId, NodeId(1, String("flow")))).code() == status::BadSubscriptionIdInvalid);
}

TEST_CASE("monitored items are checked, modified and deleted",
          "[server][cu:Monitor Items 2][cu:Monitor Items Deadband Filter][cu:Data Access PercentDeadBand]") {
  Bench b;
  b.open();
  b.addVariable("flow", id::Double, Variant(0.0));
  b.addVariable("name", id::String, Variant("x"));
  const auto sub = b.call(subscription())->subscriptionId;
  auto create = [&](auto&& change) {
    auto request = watchOf(sub, NodeId(1, String("flow")));
    change(request.itemsToCreate[0]);
    return b.call(request)->results[0].statusCode;
  };
  auto deadband = [](DeadbandType type, double value) {
    return ExtensionObject::of(
        DataChangeFilter{DataChangeTrigger::StatusValue, static_cast<std::uint32_t>(type), value});
  };
  using Item = MonitoredItemCreateRequest;
  CHECK(create([](Item& i) { i.itemToMonitor.nodeId = NodeId(9, 9u); }) == status::BadNodeIdUnknown);
  CHECK(create([](Item& i) { i.itemToMonitor.attributeId = 77; }) == status::BadAttributeIdInvalid);
  CHECK(create([](Item& i) { i.itemToMonitor.indexRange = "x"; }) == status::BadIndexRangeInvalid);
  CHECK(create([](Item& i) { i.monitoringMode = static_cast<MonitoringMode>(9); }) == status::BadMonitoringModeInvalid);
  CHECK(create([&](Item& i) { i.requestedParameters.filter = deadband(DeadbandType::Percent, 5); }) ==
        status::BadDeadbandFilterInvalid);
  CHECK(create([&](Item& i) {
          i.itemToMonitor.nodeId = NodeId(1, String("name"));
          i.requestedParameters.filter = deadband(DeadbandType::Absolute, 5);
        }) == status::BadFilterNotAllowed);
  CHECK(create([](Item& i) { i.requestedParameters.filter = ExtensionObject::of(Range{}); }) ==
        status::BadMonitoredItemFilterInvalid);
  CHECK(create([](Item& i) { i.requestedParameters.filter = ExtensionObject::of(EventFilter{}); }) ==
        status::BadFilterNotAllowed);
  CHECK(create([](Item& i) { i.requestedParameters.filter = ExtensionObject::of(AggregateFilter{}); }) ==
        status::BadMonitoredItemFilterUnsupported);
  CHECK(create([&](Item& i) { i.requestedParameters.filter = deadband(DeadbandType::Absolute, 5); }).isGood());

  const auto item = b.call(watchOf(sub, NodeId(1, String("flow"))))->results[0].monitoredItemId;
  ModifyMonitoredItemsRequest modify;
  modify.subscriptionId = sub;
  modify.timestampsToReturn = TimestampsToReturn::Both;
  modify.itemsToModify.push_back({item, {43, -1, {}, 0, true}});
  modify.itemsToModify.push_back({999, {}});
  const auto modified = b.call(modify);
  CHECK(modified->results[0].revisedSamplingInterval == 100);
  CHECK(modified->results[0].revisedQueueSize == 1);
  CHECK(modified->results[1].statusCode == status::BadMonitoredItemIdInvalid);
  SetMonitoringModeRequest mode;
  mode.subscriptionId = sub;
  mode.monitoringMode = MonitoringMode::Disabled;
  mode.monitoredItemIds = List<std::uint32_t>{item, 999};
  CHECK(b.call(mode)->results == List<StatusCode>{status::Good, status::BadMonitoredItemIdInvalid});
  DeleteMonitoredItemsRequest remove;
  remove.subscriptionId = sub;
  remove.monitoredItemIds = List<std::uint32_t>{item, item};
  CHECK(b.call(remove)->results == List<StatusCode>{status::Good, status::BadMonitoredItemIdInvalid});
}

}  // namespace zunth::server_test
