// Subscriptions that change hands, trigger each other, outlive their clients.
#include "tests/service/fake_peer.hpp"
#include "tests/service/lone_owner.hpp"
#include <catch2/catch.hpp>

namespace zunth::subscription_services_test {

using namespace zunth::ua;
using test::Bench;

namespace {

std::uint32_t subscribe(Bench& b, std::uint8_t priority = 0) {
  CreateSubscriptionRequest request;
  request.requestedPublishingInterval = 100;
  request.requestedMaxKeepAliveCount = 10;
  request.requestedLifetimeCount = 30;
  request.publishingEnabled = true;
  request.priority = priority;
  return b.call(request)->subscriptionId;
}

std::uint32_t watch(Bench& b, std::uint32_t subscription, const char* name, std::uint32_t handle = 1,
                    MonitoringMode mode = MonitoringMode::Reporting, std::uint32_t queueSize = 100) {
  CreateMonitoredItemsRequest request;
  request.subscriptionId = subscription;
  MonitoredItemCreateRequest item;
  item.itemToMonitor = {NodeId(1, String(name)), 13, {}, {}};
  item.monitoringMode = mode;
  item.requestedParameters = {handle, 0, {}, queueSize, true};
  request.itemsToCreate.push_back(std::move(item));
  const auto response = b.call(request);
  REQUIRE(response);
  REQUIRE(response->results[0].statusCode.isGood());
  return response->results[0].monitoredItemId;
}

Result<PublishResponse> publish(Bench& b) {
  b.send(PublishRequest{});
  b.pass(100);
  return b.take<PublishResponse>();
}

/// The client handles of the next data changes.
std::vector<std::uint32_t> changed(Bench& b) {
  std::vector<std::uint32_t> out;
  const auto response = publish(b);
  if (!response) return out;
  for (const auto& data : response->notificationMessage.notificationData)
    if (const auto changes = data.as<DataChangeNotification>())
      for (const auto& item : changes->monitoredItems) out.push_back(item.clientHandle);
  return out;
}

StatusCode statusOf(const PublishResponse& response) {
  const auto& data = response.notificationMessage.notificationData;
  return data.empty() ? status::Good : data[0].as<StatusChangeNotification>()->status;
}

/// A second client of the same server: its own channel and session.
struct Other {
  explicit Other(Bench& bench, const char* application = "urn:fernhollow.example:console") : b(bench) {
    swap();
    CreateSessionRequest create;
    create.requestedSessionTimeout = 60'000;
    create.clientDescription.applicationUri = application;
    b.token = b.call(create)->authenticationToken;
    CHECK(b.call(ActivateSessionRequest{}));
    swap();
  }
  /// Speaks as the other one from now on.
  void swap() {
    std::swap(peer, b.peer);
    std::swap(token, b.token);
  }
  Bench& b;
  std::shared_ptr<test::FakePeer> peer = std::make_shared<test::FakePeer>(2);
  NodeId token;
};

TransferSubscriptionsRequest transferOf(std::vector<std::uint32_t> ids, bool sendInitialValues = false) {
  TransferSubscriptionsRequest request;
  request.subscriptionIds = List<std::uint32_t>(std::move(ids));
  request.sendInitialValues = sendInitialValues;
  return request;
}

void openAs(Bench& b, const char* application) {
  CreateSessionRequest create;
  create.requestedSessionTimeout = 60'000;
  create.clientDescription.applicationUri = application;
  b.token = b.call(create)->authenticationToken;
  CHECK(b.call(ActivateSessionRequest{}));
}

}  // namespace

TEST_CASE("a subscription goes to another session of the same client, and says so to the old one",
          "[subscriptions][cu:Subscription Transfer]") {
  Bench b;
  openAs(b, "urn:fernhollow.example:console");
  const auto node = b.addVariable("flow", id::Double, Variant(0.0));
  const auto subscription = subscribe(b);
  watch(b, subscription, "flow");
  CHECK(publish(b));
  b.space.setValue(node, DataValue(Variant(1.0), DateTime{1}));
  CHECK(publish(b));
  b.send(PublishRequest{});  // waits with the old session
  Other other(b);
  other.swap();
  const auto transferred = b.call(transferOf({subscription, 999}, true));
  REQUIRE(transferred);
  CHECK(transferred->results[0].statusCode.isGood());
  CHECK(transferred->results[0].availableSequenceNumbers == List<std::uint32_t>{1, 2});
  CHECK(transferred->results[1].statusCode == status::BadSubscriptionIdInvalid);
  CHECK(changed(b) == std::vector<std::uint32_t>{1});  // the value again, as was asked for
  RepublishRequest again;
  again.subscriptionId = subscription;
  again.retransmitSequenceNumber = 2;
  CHECK(b.call(again));
  other.swap();
  const auto last = b.take<PublishResponse>();
  REQUIRE(last);
  CHECK(statusOf(*last) == status::GoodSubscriptionTransferred);
  CHECK(b.call(PublishRequest{}).code() == status::BadNoSubscription);
}

TEST_CASE("a subscription doesn't go to strangers", "[subscriptions]") {
  Bench b;
  openAs(b, "urn:fernhollow.example:console");
  const auto subscription = subscribe(b);
  Other other(b, "urn:somebody:else");
  other.swap();
  CHECK(b.call(transferOf({subscription}))->results[0].statusCode == status::BadUserAccessDenied);
}

TEST_CASE("a subscription outlives its session for its life-time", "[subscriptions][cu:Subscription Transfer]") {
  Bench b;
  openAs(b, "urn:fernhollow.example:console");
  const auto node = b.addVariable("flow", id::Double, Variant(0.0));
  const auto kept = subscribe(b), lost = subscribe(b);
  watch(b, kept, "flow");
  watch(b, lost, "flow");
  CHECK(changed(b).size() == 1);
  CHECK(b.call(CloseSessionRequest{}));
  CHECK(b.server->monitoredItemCount() == 2);
  for (int i = 1; i <= 20; ++i) {
    b.space.setValue(node, DataValue(Variant(static_cast<double>(i)), DateTime{i}));
    b.pass(100);
  }
  openAs(b, "urn:fernhollow.example:console");
  CHECK(b.call(transferOf({kept}))->results[0].statusCode.isGood());
  CHECK(changed(b).size() == 20);  // everything since
  for (int i = 0; i < 12; ++i) (void)publish(b);
  CHECK(b.server->monitoredItemCount() == 1);  // nobody took the other one
  CHECK(b.call(transferOf({lost}))->results[0].statusCode == status::BadSubscriptionIdInvalid);
}

TEST_CASE("a subscription that nobody asks for any more says why it ended", "[subscriptions]") {
  Bench b;
  b.open();
  const auto subscription = subscribe(b);
  for (int i = 0; i < 31; ++i) b.pass(100);
  const auto last = b.call(PublishRequest{});
  REQUIRE(last);
  CHECK(last->subscriptionId == subscription);
  CHECK(statusOf(*last) == status::BadTimeout);
  CHECK(b.call(PublishRequest{}).code() == status::BadNoSubscription);
}

TEST_CASE("an item that triggers others reports them", "[subscriptions][cu:Monitor Triggering]") {
  Bench b;
  b.open();
  const auto door = b.addVariable("door", id::Boolean, Variant(false));
  const auto flow = b.addVariable("flow", id::Double, Variant(0.0));
  const auto subscription = subscribe(b);
  const auto trigger = watch(b, subscription, "door", 1);
  const auto linked = watch(b, subscription, "flow", 2, MonitoringMode::Sampling);
  CHECK(changed(b) == std::vector<std::uint32_t>{1});
  SetTriggeringRequest link;
  link.subscriptionId = subscription;
  link.triggeringItemId = trigger;
  CHECK(b.call(link).code() == status::BadNothingToDo);
  link.linksToAdd = List<std::uint32_t>{linked, 999};
  link.linksToRemove = List<std::uint32_t>{linked};
  const auto linkedResponse = b.call(link);
  CHECK(linkedResponse->addResults == List<StatusCode>{status::Good, status::BadMonitoredItemIdInvalid});
  CHECK(linkedResponse->removeResults == List<StatusCode>{status::BadMonitoredItemIdInvalid});
  b.space.setValue(flow, DataValue(Variant(1.0), DateTime{1}));
  CHECK(changed(b).empty());
  b.space.setValue(door, DataValue(Variant(true), DateTime{2}));
  CHECK(changed(b) == std::vector<std::uint32_t>{1, 2, 2});  // all that was sampled meanwhile
  link.linksToAdd = {};
  link.linksToRemove = List<std::uint32_t>{linked};
  CHECK(b.call(link)->removeResults == List<StatusCode>{status::Good});
  b.space.setValue(flow, DataValue(Variant(2.0), DateTime{3}));
  b.space.setValue(door, DataValue(Variant(false), DateTime{4}));
  CHECK(changed(b) == std::vector<std::uint32_t>{1});
  link.triggeringItemId = 999;
  CHECK(b.call(link).code() == status::BadMonitoredItemIdInvalid);
  link.subscriptionId = 999;
  CHECK(b.call(link).code() == status::BadSubscriptionIdInvalid);
}

TEST_CASE("the methods of the Server object look after subscriptions",
          "[subscriptions][cu:Base Info GetMonitoredItems Method][cu:Base Info ResendData Method]"
          "[cu:Subscription Durable]") {
  Bench b;
  b.open();
  b.addVariable("flow", id::Double, Variant(0.0));
  const auto subscription = subscribe(b);
  auto call = [&](StandardId method, std::vector<Variant> inputs) {
    CallRequest request;
    request.methodsToCall.push_back({id::Server, method, List<Variant>(std::move(inputs))});
    return b.call(request)->results[0];
  };
  const auto durable = call(id::Server_SetSubscriptionDurable, {Variant(subscription), Variant(1'000'000u)});
  CHECK(durable.statusCode.isGood());
  CHECK(durable.outputArguments[0] == Variant(b.server->settings().limits.mostDurableHours));
  const auto item = watch(b, subscription, "flow", 42);
  CHECK(call(id::Server_SetSubscriptionDurable, {Variant(subscription), Variant(1u)}).statusCode ==
        status::BadInvalidState);
  const auto items = call(id::Server_GetMonitoredItems, {Variant(subscription)});
  CHECK(items.outputArguments[0] == Variant::array({item}));
  CHECK(items.outputArguments[1] == Variant::array({42u}));
  CHECK(changed(b).size() == 1);
  CHECK(call(id::Server_ResendData, {Variant(subscription)}).statusCode.isGood());
  CHECK(changed(b).size() == 1);
  Other other(b);
  other.swap();
  CHECK(call(id::Server_GetMonitoredItems, {Variant(subscription)}).statusCode == status::BadUserAccessDenied);
  CHECK(call(id::Server_ResendData, {Variant(999u)}).statusCode == status::BadSubscriptionIdInvalid);
  CHECK(call(id::Server_RequestServerStateChange,
             {Variant(std::int32_t{4}), Variant(DateTime{}), Variant(0u), Variant(LocalizedText()), Variant(false)})
            .statusCode == status::BadSecurityModeInsufficient);
  other.swap();
  for (int i = 0; i < 100; ++i) b.pass(100);
  CHECK(b.server->monitoredItemCount() == 1);  // a plain one would be gone
}

TEST_CASE("higher priorities are published first", "[subscriptions][cu:Subscription Minimum 02]") {
  Bench b;
  b.open();
  b.addVariable("flow", id::Double, Variant(0.0));
  const auto low = subscribe(b, 1), high = subscribe(b, 200);
  watch(b, low, "flow");
  watch(b, high, "flow");
  b.pass(100);
  CHECK(b.call(PublishRequest{})->subscriptionId == high);
  CHECK(b.call(PublishRequest{})->subscriptionId == low);
}

TEST_CASE("requests that wait can be cancelled, and end when they said they would",
          "[subscriptions][cu:Session Cancel][cu:Base Services Timeout Hint]") {
  Bench b;
  b.open();
  subscribe(b);
  CHECK(publish(b));
  b.send(PublishRequest{});
  CancelRequest cancel;
  cancel.requestHandle = b.handle;
  b.send(cancel);
  CHECK(b.take<PublishResponse>().code() == status::BadRequestCancelledByClient);
  CHECK(b.take<CancelResponse>()->cancelCount == 1);

  const auto owner = std::make_shared<test::LoneOwner>();
  b.server->owners().own(b.addVariable("slow", id::Double, Variant(1.5)), owner);
  WriteRequest write;
  write.nodesToWrite.push_back({NodeId(1, String("slow")), 13, {}, DataValue(Variant(2.0))});
  write.requestHeader.timeoutHint = 500;
  const auto begin = b.now;
  b.send(write);
  CHECK(owner->deadline == begin + std::chrono::milliseconds(500));
  b.pass(400);
  CHECK(b.peer->answers.empty());
  b.pass(200);
  const auto late = b.take<WriteResponse>();
  REQUIRE(late);
  CHECK(late->results[0] == status::BadTimeout);
  owner->writeDone(0, {status::Good, {}, {}});
  CHECK(b.peer->answers.empty());  // answered once
}

TEST_CASE("an item on a node that is deleted says so once", "[subscriptions]") {
  Bench b(true, [](server::Settings& settings) { settings.allowNodeManagement = true; });
  b.open();
  b.addVariable("flow", id::Double, Variant(0.0));
  const auto subscription = subscribe(b);
  const auto item = watch(b, subscription, "flow");
  CHECK(changed(b).size() == 1);
  DeleteNodesRequest remove;
  remove.nodesToDelete.push_back({NodeId(1, String("flow")), true});
  CHECK(b.call(remove)->results[0].isGood());
  const auto response = publish(b);
  REQUIRE(response);
  const auto changes = response->notificationMessage.notificationData[0].as<DataChangeNotification>();
  CHECK(changes->monitoredItems[0].value.status == status::BadNodeIdUnknown);
  b.addVariable("other", id::Double, Variant(5.0));  // may take the row that got free
  CHECK(changed(b).empty());
  DeleteMonitoredItemsRequest forget;
  forget.subscriptionId = subscription;
  forget.monitoredItemIds.push_back(item);
  CHECK(b.call(forget)->results[0].isGood());
  CHECK(b.server->monitoredItemCount() == 0);
}

}  // namespace zunth::subscription_services_test
