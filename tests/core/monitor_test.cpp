#include "core/monitor/sampling.hpp"
#include "core/space/namespace0.hpp"

#include <catch2/catch.hpp>

using namespace zunth::ua;
using namespace zunth::monitor;
using zunth::space::NodeIndex;
using zunth::space::Space;

namespace {

const DateTime kWall{133'000'000'000'000'000};

DataChangeFilter filter(DataChangeTrigger trigger, DeadbandType type = DeadbandType::None, double value = 0) {
  return {trigger, static_cast<std::uint32_t>(type), value};
}

struct Fixture {
  Fixture() : space("urn:fernhollow.example:test") {
    loadNamespace0(space);
    zunth::space::NewNode node;
    node.nodeId = NodeId(1, 1u);
    node.nodeClass = NodeClass::Variable;
    node.browseName = {1, "pressure"};
    node.traits.dataType = space.at(id::Double);
    node.value = Variant(0.0);
    variable = *space.add(node);
    space.setListener([this](NodeIndex n, const DataValue& value) { sampling.valueChanged(n, value, now, kWall); });
  }
  MonitoredItem& watch(double samplingInterval, std::uint32_t queueSize, bool discardOldest = true) {
    ItemSettings settings;
    settings.clientHandle = 5;
    settings.samplingInterval = samplingInterval;
    settings.queueSize = queueSize;
    settings.discardOldest = discardOldest;
    auto& item = subscription.add(std::make_unique<MonitoredItem>(
        ++lastItem, subscription, variable, AttributeId::Value, IndexRange(), settings, MonitoringMode::Reporting));
    sampling.add(item, now, kWall);
    return item;
  }
  void set(double value) { space.setValue(variable, DataValue(Variant(value), kWall)); }
  void pass(double ms) {
    now += milliseconds(ms);
    sampling.tick(now, kWall);
  }
  std::vector<double> published(bool* overflow = nullptr) {
    std::vector<double> out;
    auto message = subscription.publish(kWall).message;
    for (const auto& data : message.notificationData) {
      const auto changes = *data.as<DataChangeNotification>();
      for (const auto& change : changes.monitoredItems) {
        out.push_back(*change.value.value.get<double>());
        if (overflow) *overflow |= change.value.status.hasOverflow();
      }
    }
    return out;
  }
  Space space;
  Instant now{std::chrono::hours(1)};
  Sampling sampling{space};
  Subscription subscription{1, SubscriptionSettings{}, now};
  NodeIndex variable;
  std::uint32_t lastItem = 0;
};

}  // namespace

TEST_CASE("filters decide what is a change",
          "[monitor][cu:Monitor Items Deadband Filter][cu:Data Access PercentDeadBand][cu:Monitor Trigger Settings]") {
  const DataValue was(Variant(10.0), DateTime{1});
  const Range range{0, 200};
  struct Case {
    DataChangeFilter filter;
    DataValue now;
    bool reported;
  };
  using T = DataChangeTrigger;
  const std::vector<Case> cases{
      {filter(T::Status), DataValue(Variant(11.0), DateTime{1}), false},
      {filter(T::Status), DataValue(Variant(10.0), DateTime{1}, status::BadNoCommunication), true},
      {filter(T::StatusValue), DataValue(Variant(11.0), DateTime{1}), true},
      {filter(T::StatusValue), DataValue(Variant(10.0), DateTime{2}), false},
      {filter(T::StatusValueTimestamp), DataValue(Variant(10.0), DateTime{2}), true},
      {filter(T::StatusValue, DeadbandType::Absolute, 1), DataValue(Variant(11.0), DateTime{1}), false},
      {filter(T::StatusValue, DeadbandType::Absolute, 1), DataValue(Variant(11.1), DateTime{1}), true},
      {filter(T::StatusValue, DeadbandType::Percent, 1), DataValue(Variant(12.0), DateTime{1}), false},
      {filter(T::StatusValue, DeadbandType::Percent, 1), DataValue(Variant(12.1), DateTime{1}), true},
      {filter(T::StatusValue, DeadbandType::Absolute, 1), DataValue(Variant(std::nan("")), DateTime{1}), true},
  };
  for (const auto& c : cases) {
    auto made = ChangeFilter::from(c.filter, true, range);
    REQUIRE(made);
    CHECK(made->passes(was, c.now) == c.reported);
  }
  const auto arrays = *ChangeFilter::from(filter(T::StatusValue, DeadbandType::Absolute, 1), true, {});
  CHECK(!arrays.passes(DataValue(Variant::array({1.0, 2.0})), DataValue(Variant::array({1.5, 2.5}))));
  CHECK(arrays.passes(DataValue(Variant::array({1.0, 2.0})), DataValue(Variant::array({1.5, 4.5}))));
  CHECK(arrays.passes(DataValue(Variant::array({1.0, 2.0})), DataValue(Variant::array({1.0}))));
}

TEST_CASE("filters that make no sense are refused", "[monitor]") {
  using T = DataChangeTrigger;
  CHECK(ChangeFilter::from(filter(T::StatusValue, DeadbandType::Percent, 1), true, {}).code() ==
        status::BadDeadbandFilterInvalid);
  CHECK(ChangeFilter::from(filter(T::StatusValue, DeadbandType::Percent, 101), true, Range{0, 1}).code() ==
        status::BadDeadbandFilterInvalid);
  CHECK(ChangeFilter::from(filter(T::StatusValue, DeadbandType::Absolute, -1), true, {}).code() ==
        status::BadDeadbandFilterInvalid);
  CHECK(ChangeFilter::from(filter(T::StatusValue, DeadbandType::Absolute, 1), false, {}).code() ==
        status::BadFilterNotAllowed);
  CHECK(ChangeFilter::from(filter(static_cast<T>(7)), true, {}).code() == status::BadMonitoredItemFilterInvalid);
  CHECK(ChangeFilter::from(filter(T::Status, static_cast<DeadbandType>(9), 1), true, {}).code() ==
        status::BadMonitoredItemFilterInvalid);
}

TEST_CASE("queues overflow on the side that was asked for, and say so",
          "[monitor][cu:Monitor MinQueueSize_05][cu:Subscription Publish Discard Policy]") {
  struct Case {
    std::uint32_t size;
    bool discardOldest;
    std::vector<double> left;
    bool marked;
  };
  for (const auto& c : std::vector<Case>{{3, true, {3, 4, 5}, true},
                                         {3, false, {0, 1, 5}, true},
                                         {1, true, {5}, false},
                                         {10, true, {0, 1, 2, 3, 4, 5}, false}}) {
    Fixture f;
    f.watch(0, c.size, c.discardOldest);
    for (int i = 1; i <= 5; ++i) f.set(i);
    bool overflow = false;
    CHECK(f.published(&overflow) == c.left);
    CHECK(overflow == c.marked);
  }
}

TEST_CASE("samples come no more often than asked for, and none is lost that stays", "[monitor]") {
  Fixture f;
  f.watch(100, 10);
  CHECK(f.published() == std::vector<double>{0});
  f.pass(100);
  f.set(1);  // taken at once: the interval has passed
  f.set(2);  // waits
  f.pass(50);
  f.set(3);  // replaces what waits
  CHECK(f.published() == std::vector<double>{1});
  f.pass(60);
  CHECK(f.published() == std::vector<double>{3});
  CHECK(f.sampling.nextDue() == Instant::max());  // nothing changes, nothing runs
}

TEST_CASE("modes turn sampling and reporting on and off", "[monitor][cu:Monitor Modes]") {
  Fixture f;
  auto& item = f.watch(0, 5);
  f.published();
  item.setMode(MonitoringMode::Disabled);
  f.set(1);
  CHECK(f.published().empty());
  item.setMode(MonitoringMode::Sampling);
  f.sampling.refresh(item, f.now, kWall);
  f.set(2);
  CHECK(f.published().empty());
  CHECK(item.hasQueued());
  item.setMode(MonitoringMode::Reporting);
  f.subscription.itemQueued(item);
  CHECK(f.published() == std::vector<double>{1, 2});
}

TEST_CASE("values that are computed at each read are polled", "[monitor]") {
  Fixture f;
  double number = 0;
  f.space.setSource(f.variable, [&] { return DataValue(Variant(number), kWall); });
  f.watch(50, 10);
  f.published();
  number = 1;
  f.pass(40);
  CHECK(f.published().empty());
  f.pass(20);
  CHECK(f.published() == std::vector<double>{1});
}

TEST_CASE("a subscription publishes, keeps alive and expires", "[monitor]") {
  SubscriptionSettings settings;
  settings.publishingInterval = 100;
  settings.maxKeepAliveCount = 3;
  settings.lifetimeCount = 9;
  Instant now{std::chrono::hours(1)};
  Subscription s(1, settings, now);
  auto turn = [&](bool requestWaits) { s.cycle(now += milliseconds(100), requestWaits); };
  turn(true);
  CHECK(s.isLate());  // the first cycle says something even without data
  auto first = s.publish(kWall);
  CHECK(first.message.sequenceNumber == 1);
  CHECK(first.message.notificationData.empty());
  turn(true);
  turn(true);
  CHECK(!s.isLate());
  turn(true);
  CHECK(s.isLate());                                    // the keep-alive count has been reached
  CHECK(s.publish(kWall).message.sequenceNumber == 1);  // a keep-alive takes no number
  for (int i = 0; i < 8; ++i) turn(false);
  CHECK(!s.isExpired());
  turn(false);
  CHECK(s.isExpired());
  s.touch();
  CHECK(!s.isExpired());
}

TEST_CASE("messages are kept for republishing until they are acknowledged", "[monitor]") {
  Fixture f;
  f.watch(0, 100);
  f.published();
  f.set(1);
  f.published();
  CHECK(f.subscription.availableSequenceNumbers() == List<std::uint32_t>{1, 2});
  CHECK(f.subscription.republish(2)->sequenceNumber == 2);
  CHECK(f.subscription.acknowledge(1).isGood());
  CHECK(f.subscription.acknowledge(1) == status::BadSequenceNumberUnknown);
  CHECK(f.subscription.republish(1).code() == status::BadMessageNotAvailable);
}

TEST_CASE("long lists of changes are cut into messages", "[monitor]") {
  Fixture f;
  SubscriptionSettings settings;
  settings.maxNotificationsPerPublish = 2;
  f.subscription.modify(settings, f.now);
  f.watch(0, 10);
  for (int i = 1; i <= 4; ++i) f.set(i);
  auto first = f.subscription.publish(kWall);
  CHECK(first.moreNotifications);
  CHECK(f.subscription.isLate());
  CHECK(f.subscription.publish(kWall).moreNotifications);
  CHECK(!f.subscription.publish(kWall).moreNotifications);
}
