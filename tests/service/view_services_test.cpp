// Views, registered nodes, queries, discovery, diagnostics: what a client finds out about a server.
#include "tests/service/fake_peer.hpp"
#include <catch2/catch.hpp>

namespace zunth::view_services_test {

using namespace zunth::ua;
using test::Bench;

namespace {

Variant valueOf(Bench& b, NodeId node) {
  ReadRequest request;
  request.nodesToRead.push_back({std::move(node), 13, {}, {}});
  return b.call(request)->results[0].value;
}

/// A plant of three pumps, two of them in a view.
struct Plant {
  explicit Plant(Bench& bench) : b(bench) {
    const auto folder = b.space.at(id::ObjectsFolder);
    plant = b.addNode(NodeId(1, String("plant")), NodeClass::Object, "plant", folder);
    view = b.addNode(NodeId(1, String("view")), NodeClass::View, "view", b.space.at(id::ViewsFolder));
    for (int i = 1; i <= 3; ++i) {
      const std::string name = "pump" + std::to_string(i);
      const auto pump = b.addNode(NodeId(1, String(name)), NodeClass::Object, name.c_str(), plant, id::FolderType);
      const auto speed = b.addVariable((name + "-speed").c_str(), id::Double, Variant(i * 100.0));
      b.space.refer(pump, id::HasComponent, speed);
      b.space.unrefer(folder, b.space.at(id::HasComponent), speed);
      if (i < 3) b.space.refer(view, id::Organizes, pump);
    }
    b.space.refer(view, id::Organizes, plant);
  }
  Bench& b;
  space::NodeIndex plant, view;
};

QueryFirstRequest folders(const char* name, double above) {
  QueryFirstRequest request;
  NodeTypeDescription type;
  type.typeDefinitionNode = id::FolderType;
  QueryDataDescription speed;
  speed.relativePath.elements.push_back({id::HasComponent, false, true, {1, String(name)}});
  speed.attributeId = 13;
  type.dataToReturn.push_back(speed);
  QueryDataDescription itself;
  itself.attributeId = static_cast<std::uint32_t>(AttributeId::DisplayName);
  type.dataToReturn.push_back(itself);
  request.nodeTypes.push_back(type);
  ContentFilterElement element;
  element.filterOperator = FilterOperator::GreaterThan;
  AttributeOperand operand;
  operand.nodeId = id::FolderType;
  operand.browsePath = speed.relativePath;
  operand.attributeId = 13;
  element.filterOperands.push_back(ExtensionObject::of(operand));
  element.filterOperands.push_back(ExtensionObject::of(LiteralOperand{Variant(above)}));
  request.filter.elements.push_back(element);
  return request;
}

}  // namespace

TEST_CASE("a view shows what it leads to", "[view][cu:View Basic]") {
  Bench b;
  b.open();
  Plant plant(b);
  BrowseRequest request;
  request.view.viewId = NodeId(1, String("view"));
  request.nodesToBrowse.push_back({NodeId(1, String("plant")), BrowseDirection::Forward, NodeId(), true, 0, 63});
  const auto inside = b.call(request);
  REQUIRE(inside);
  CHECK(inside->results[0].statusCode.isGood());
  CHECK(inside->results[0].references.size() == 4);  // the pumps, as the plant leads to all, and the type
  request.nodesToBrowse[0].nodeId = id::Server;
  CHECK(b.call(request)->results[0].statusCode == status::BadNodeNotInView);
  request.view.viewVersion = 7;
  CHECK(b.call(request).code() == status::BadViewVersionInvalid);
  request.view.timestamp = DateTime{7};
  CHECK(b.call(request).code() == status::BadViewParameterMismatch);
  request.view.viewVersion = 0;
  CHECK(b.call(request).code() == status::BadViewTimestampInvalid);
  request.view = {};
  request.view.viewId = id::Server;
  CHECK(b.call(request).code() == status::BadViewIdUnknown);
}

TEST_CASE("nodes are registered", "[view][cu:View RegisterNodes]") {
  Bench b;
  b.open();
  RegisterNodesRequest request;
  CHECK(b.call(request).code() == status::BadNothingToDo);
  request.nodesToRegister.push_back(id::Server_ServiceLevel);
  const auto registered = b.call(request);
  REQUIRE(registered);
  CHECK(valueOf(b, registered->registeredNodeIds[0]) == Variant(std::uint8_t{255}));
  UnregisterNodesRequest release;
  CHECK(b.call(release).code() == status::BadNothingToDo);
  release.nodesToUnregister = registered->registeredNodeIds;
  CHECK(b.call(release));
  request.nodesToRegister.push_back(NodeId());
  CHECK(b.call(request).code() == status::BadNodeIdInvalid);
}

TEST_CASE("queries find instances by type and value", "[query][cu:Query Basic]") {
  Bench b;
  b.open();
  Plant plant(b);
  const auto found = b.call(folders("pump2-speed", 50));
  REQUIRE(found);
  REQUIRE(found->queryDataSets.size() == 1);
  CHECK(found->queryDataSets[0].nodeId == ExpandedNodeId(NodeId(1, String("pump2"))));
  CHECK(found->queryDataSets[0].typeDefinitionNode == ExpandedNodeId(id::FolderType));
  CHECK(found->queryDataSets[0].values == List<Variant>{Variant(200.0), Variant(LocalizedText("pump2"))});
  CHECK(b.call(folders("pump2-speed", 500))->queryDataSets.empty());

  QueryFirstRequest all;
  NodeTypeDescription type;
  type.typeDefinitionNode = id::BaseObjectType;
  type.includeSubTypes = true;
  all.nodeTypes.push_back(type);
  all.maxDataSetsToReturn = 5;
  auto page = b.call(all);
  REQUIRE(page);
  std::size_t count = page->queryDataSets.size();
  CHECK(count == 5);
  ByteString point = page->continuationPoint;
  while (!point.empty()) {
    QueryNextRequest next;
    next.continuationPoint = point;
    const auto more = b.call(next);
    REQUIRE(more);
    count += more->queryDataSets.size();
    CHECK(b.call(next).code() == status::BadContinuationPointInvalid);  // each is good once
    point = more->revisedContinuationPoint;
  }
  CHECK(count > 20);
  // The rest of an earlier query gives way (Part 4, 7.9).
  const auto oldest = b.call(all)->continuationPoint;
  for (int i = 0; i < 2; ++i) CHECK(b.call(all));
  QueryNextRequest late;
  late.continuationPoint = oldest;
  CHECK(b.call(late).code() == status::BadContinuationPointInvalid);
}

TEST_CASE("queries follow relations", "[query]") {
  Bench b;
  b.open();
  Plant plant(b);
  QueryFirstRequest request;
  NodeTypeDescription type;
  type.typeDefinitionNode = id::BaseObjectType;
  type.includeSubTypes = true;
  request.nodeTypes.push_back(type);
  ContentFilterElement related;  // objects that have a folder as a component
  related.filterOperator = FilterOperator::RelatedTo;
  for (Variant value : {Variant(NodeId(id::BaseObjectType)), Variant(NodeId(id::FolderType)),
                        Variant(NodeId(id::HasComponent)), Variant(std::uint32_t{1})})
    related.filterOperands.push_back(ExtensionObject::of(LiteralOperand{std::move(value)}));
  request.filter.elements.push_back(related);
  const auto found = b.call(request);
  REQUIRE(found);
  CHECK(std::ranges::count(found->queryDataSets, ExpandedNodeId(NodeId(1, String("plant"))), &QueryDataSet::nodeId) ==
        1);
  CHECK(std::ranges::count(found->queryDataSets, ExpandedNodeId(NodeId(1, String("pump1"))), &QueryDataSet::nodeId) ==
        0);
}

TEST_CASE("queries that can't be are refused part by part", "[query]") {
  Bench b;
  b.open();
  CHECK(b.call(QueryFirstRequest{}).code() == status::BadNothingToDo);
  CHECK(b.call(QueryNextRequest{}).code() == status::BadContinuationPointInvalid);
  auto wrong = folders("x", 1);
  wrong.nodeTypes.push_back({});
  wrong.nodeTypes.back().typeDefinitionNode = id::Server;
  wrong.nodeTypes.push_back({});
  wrong.nodeTypes.back().typeDefinitionNode = NodeId(9, 9u);
  wrong.nodeTypes[0].dataToReturn[0].attributeId = 99;
  wrong.nodeTypes[0].dataToReturn[1].indexRange = "x";
  const auto parsed = b.call(wrong);
  REQUIRE(parsed);
  REQUIRE(parsed->parsingResults.size() == 3);
  CHECK(parsed->parsingResults[0].dataStatusCodes ==
        List<StatusCode>{status::BadAttributeIdInvalid, status::BadIndexRangeInvalid});
  CHECK(parsed->parsingResults[1].statusCode == status::BadNotTypeDefinition);
  CHECK(parsed->parsingResults[2].statusCode == status::BadNodeIdUnknown);
  auto badFilter = folders("x", 1);
  badFilter.filter.elements[0].filterOperands.pop_back();
  const auto refused = b.call(badFilter);
  REQUIRE(refused);
  CHECK(refused->responseHeader.serviceResult == status::BadContentFilterInvalid);
  CHECK(refused->filterResult.elementResults[0].statusCode == status::BadFilterOperandCountMismatch);
}

TEST_CASE("servers register and are found", "[discovery][cu:Discovery Register]") {
  Bench b(true, [](server::Settings& settings) { settings.acceptRegistrations = true; });
  RegisterServer2Request request;
  request.server.serverUri = "urn:fernhollow.example:smokehouse";
  request.server.serverNames.push_back(LocalizedText("Smokehouse"));
  request.server.discoveryUrls.push_back("opc.tcp://127.0.0.1:4841");
  request.server.isOnline = true;
  request.discoveryConfiguration.push_back(
      ExtensionObject::of(MdnsDiscoveryConfiguration{"smokehouse", List<String>{String("DA")}}));
  request.discoveryConfiguration.push_back(ExtensionObject::of(Range{}));
  CHECK(b.call(request)->configurationResults == List<StatusCode>{status::Good, status::BadNotSupported});
  CHECK(b.call(FindServersRequest{})->servers.size() == 2);
  FindServersOnNetworkRequest onNetwork;
  CHECK(b.call(onNetwork)->servers.size() == 1);
  onNetwork.serverCapabilityFilter.push_back("DA");
  CHECK(b.call(onNetwork)->servers[0].serverName.view() == "Smokehouse");
  onNetwork.serverCapabilityFilter.push_back("HD");
  CHECK(b.call(onNetwork)->servers.empty());

  struct Case {
    std::function<void(RegisteredServer&)> change;
    StatusCode expected;
  };
  for (const auto& c :
       std::vector<Case>{{[](auto& s) { s.serverUri = {}; }, status::BadServerUriInvalid},
                         {[](auto& s) { s.serverNames.clear(); }, status::BadServerNameMissing},
                         {[](auto& s) { s.discoveryUrls.clear(); }, status::BadDiscoveryUrlMissing},
                         {[](auto& s) { s.serverType = ApplicationType::Client; }, status::BadInvalidArgument}}) {
    RegisterServerRequest wrong;
    wrong.server = request.server;
    c.change(wrong.server);
    CHECK(b.call(wrong).code() == c.expected);
  }
  b.pass(601'000);
  CHECK(b.call(FindServersRequest{})->servers.size() == 1);  // not renewed
  CHECK(b.call(request));
  request.server.isOnline = false;
  CHECK(b.call(request));
  CHECK(b.call(FindServersRequest{})->servers.size() == 1);
}

TEST_CASE("counters of the server, its sessions and subscriptions can be read and switched off",
          "[diagnostics][cu:Base Info Diagnostics]") {
  Bench b;
  b.open();
  CreateSubscriptionRequest subscribe;
  subscribe.requestedPublishingInterval = 250;
  subscribe.publishingEnabled = true;
  const auto subscription = b.call(subscribe)->subscriptionId;
  CHECK(b.call(ReadRequest{}).code() == status::BadNothingToDo);

  const auto summary = valueOf(b, id::Server_ServerDiagnostics_ServerDiagnosticsSummary)
                           .get<ExtensionObject>()
                           ->as<ServerDiagnosticsSummaryDataType>();
  REQUIRE(summary);
  CHECK(summary->currentSessionCount == 1);
  CHECK(summary->cumulatedSubscriptionCount == 1);
  CHECK(summary->rejectedRequestsCount == 1);
  CHECK(valueOf(b, id::Server_ServerDiagnostics_ServerDiagnosticsSummary_CurrentSubscriptionCount) == Variant(1u));

  const auto sessions = valueOf(b, id::Server_ServerDiagnostics_SessionsDiagnosticsSummary_SessionDiagnosticsArray);
  REQUIRE(sessions.length() == 1);
  const auto session = sessions.items<ExtensionObject>()[0].as<SessionDiagnosticsDataType>();
  CHECK(session->readCount.errorCount == 1);
  CHECK(session->createSubscriptionCount.totalCount == 1);
  CHECK(session->currentSubscriptionsCount == 1);

  // The session's own object, by its id.
  const auto object = b.space.find(session->sessionId);
  REQUIRE(object != space::kNoNode);
  CHECK(b.space.nodeId(b.space.typeDefinition(object)) == NodeId(id::SessionDiagnosticsObjectType));
  const auto variable = b.space.child(object, {0, "SessionDiagnostics"});
  const auto timeout = b.space.child(variable, {0, "ActualSessionTimeout"});
  REQUIRE(timeout != space::kNoNode);
  CHECK(valueOf(b, b.space.nodeId(timeout)) == Variant(60'000.0));

  const auto subscriptions = valueOf(b, id::Server_ServerDiagnostics_SubscriptionDiagnosticsArray);
  REQUIRE(subscriptions.length() == 1);
  const auto one = subscriptions.items<ExtensionObject>()[0].as<SubscriptionDiagnosticsDataType>();
  CHECK(one->subscriptionId == subscription);
  CHECK(one->publishingInterval == 250);

  WriteRequest off;
  off.nodesToWrite.push_back({id::Server_ServerDiagnostics_EnabledFlag, 13, {}, DataValue(Variant(false))});
  CHECK(b.call(off)->results[0].isGood());
  CHECK(b.space.find(session->sessionId) == space::kNoNode);
  CHECK(valueOf(b, id::Server_ServerDiagnostics_SubscriptionDiagnosticsArray).isNull());
  off.nodesToWrite[0].value = DataValue(Variant(true));
  CHECK(b.call(off)->results[0].isGood());
  CHECK(b.space.find(session->sessionId) != space::kNoNode);
  const auto before = b.space.size();
  CHECK(b.call(CloseSessionRequest{}));
  CHECK(b.space.size() < before);
  CHECK(b.space.find(session->sessionId) == space::kNoNode);
}

TEST_CASE("causes come as they are asked for", "[diagnostics][cu:Base Services Diagnostics]") {
  Bench b;
  b.open();
  auto ask = [&](std::uint32_t mask) {
    ReadRequest request;
    request.requestHeader.authenticationToken = b.token;
    request.requestHeader.returnDiagnostics = mask;
    request.nodesToRead.push_back({id::Server_ServiceLevel, 13, {}, {}});
    request.nodesToRead.push_back({NodeId(9, 9u), 13, {}, {}});
    Bytes body;
    BinaryWriter writer(body);
    writer.write(NodeId(ReadRequest::kBinaryId));
    writer.write(request);
    b.server->handle(b.peer, 1, body);
    return *b.take<ReadResponse>();
  };
  CHECK(ask(0).diagnosticInfos.empty());
  CHECK(ask(0x1F).diagnosticInfos.empty());  // of the service, which went well
  const auto words = ask(0x80);
  REQUIRE(words.diagnosticInfos.size() == 2);
  CHECK(words.diagnosticInfos[0] == DiagnosticInfo());
  CHECK(words.diagnosticInfos[1].additionalInfo->view() == "there is no node ns=9;i=9");
  const auto all = ask(0x3E0);
  const auto& info = all.diagnosticInfos[1];
  const auto& strings = all.responseHeader.stringTable;
  REQUIRE(info.symbolicId);
  CHECK(strings[static_cast<std::size_t>(*info.symbolicId)].view() == "BadNodeIdUnknown");
  CHECK(strings[static_cast<std::size_t>(*info.namespaceUri)].view() == "http://opcfoundation.org/UA/");
  CHECK(strings[static_cast<std::size_t>(*info.localizedText)].view() == "there is no node ns=9;i=9");
  CHECK(info.innerStatusCode == status::BadNodeIdUnknown);
}

TEST_CASE("what a client can't take is not sent", "[server][cu:Session Base]") {
  Bench b;
  CreateSessionRequest create;
  create.requestedSessionTimeout = 60'000;
  create.maxResponseMessageSize = 2'000;
  b.token = b.call(create)->authenticationToken;
  CHECK(b.call(ActivateSessionRequest{}));
  ReadRequest read;
  for (int i = 0; i < 10; ++i)
    read.nodesToRead.push_back(
        {id::Server_ServerStatus_BuildInfo, static_cast<std::uint32_t>(AttributeId::Value), {}, {}});
  CHECK(b.call(read).code() == status::BadResponseTooLarge);
  // What is found can be had bit by bit.
  BrowseRequest request;
  for (int i = 0; i < 10; ++i)
    request.nodesToBrowse.push_back({id::Server, BrowseDirection::Both, NodeId(), true, 0, 63});
  const auto browsed = b.call(request);
  REQUIRE(browsed);
  CHECK(!browsed->results[1].continuationPoint.empty());
  // Sessions that were never activated give way to others.
  for (int i = 0; i < 5; ++i) CHECK(b.call(CreateSessionRequest{}));
  CHECK(b.server->sessionCount() == 3);
}

}  // namespace zunth::view_services_test
