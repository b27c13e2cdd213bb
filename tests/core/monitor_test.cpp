#include "core/monitor/sampling.hpp"
#include "core/space/namespace0.hpp"

#include <catch2/catch.hpp>

namespace zunth::monitor_test {

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
    sampling.setTap(space.tap([this](auto changes) { sampling.valuesChanged(changes, now, kWall); }));
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
        double number = 0;
        change.value.value.toDouble(number);
        out.push_back(number);
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

TEST_CASE("who watches a value whose meaning has changed hears it once, with the value as it is", "[monitor]") {
  Fixture f;
  f.watch(0, 5);
  f.set(2);
  f.published();
  const auto statuses = [&] {
    std::vector<StatusCode> out;
    const auto published = f.subscription.publish(kWall);
    for (const auto& data : published.message.notificationData) {
      const auto changes = data.as<DataChangeNotification>();
      for (const auto& change : changes->monitoredItems) out.push_back(change.value.status);
    }
    return out;
  };
  f.sampling.meaningChanged(f.variable, f.now, kWall);
  const auto told = statuses();
  REQUIRE(told.size() == 1);
  CHECK(told[0].hasSemanticsChanged());
  CHECK(told[0].isGood());
  f.set(3);
  CHECK(statuses() == std::vector<StatusCode>{status::Good});
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
  f.watch(150, 10);
  f.published();
  number = 1;
  f.pass(140);
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

TEST_CASE("no item is sampled twice in a turn, whatever interval was asked for", "[monitor][bounds]") {
  for (const double interval :
       {1e300, 1e15, std::numeric_limits<double>::infinity(), std::nan(""), 1e-7, 5e-324, -1.0, 0.0, 100.0}) {
    INFO(interval);
    Fixture f;
    int reads = 0;
    f.space.setSource(f.variable, [&] { return DataValue(Variant(static_cast<double>(++reads)), kWall); });
    f.watch(interval, 10);
    reads = 0;
    f.pass(0);
    CHECK(reads == 0);
    f.pass(1'000);
    CHECK(reads <= 1);
  }
}

TEST_CASE("items on one computed value share one reading of it", "[monitor][bounds]") {
  Fixture f;
  int reads = 0;
  f.space.setSource(f.variable, [&] { return DataValue(Variant(static_cast<double>(++reads)), kWall); });
  std::vector<std::uint32_t> ids;
  for (int i = 0; i < 40'000; ++i) ids.push_back(f.watch(100, 1).id());
  reads = 0;
  f.pass(101);
  CHECK(reads == 1);
  // They go as quickly as they came, in any order.
  for (std::size_t i = 0; i < ids.size(); ++i) {
    const auto gone = f.subscription.removeItem(ids[(i * 7) % ids.size()]);
    REQUIRE(gone);
    f.sampling.remove(*gone);
  }
  CHECK(f.sampling.itemCount() == 0);
  CHECK(f.sampling.nextDue() == Instant::max());
}

TEST_CASE("samples that don't fit into a slice are taken in the next", "[monitor][bounds]") {
  Fixture f;
  double number = 0;
  f.space.setSource(f.variable, [&] { return DataValue(Variant(++number), kWall); });
  for (int i = 0; i < 100; ++i) f.watch(100, 1);
  f.published();
  f.now += milliseconds(101);
  Instant clock{};
  int turns = 0;
  std::size_t had = 0;
  do {
    ++turns;
    f.sampling.tick(f.now, kWall, Slice([&] { return clock += milliseconds(1); }, milliseconds(2)));
    had += f.published().size();
  } while (f.sampling.nextDue() <= f.now && turns < 50);
  CHECK(turns > 1);
  CHECK(had == 100);
}

TEST_CASE("queues give way when what they may hold is used up", "[monitor][bounds]") {
  Fixture f;
  Allowance most(1'000'000);
  f.subscription.allowance().moveTo(&most);
  auto& item = f.watch(0, 10'000);
  f.published();
  const String large(std::string(100'000, 'x'));
  for (int i = 0; i < 50; ++i)
    f.space.setValue(f.variable,
                     DataValue(Variant::array(std::vector<String>{large, String(std::to_string(i))}), kWall));
  CHECK(most.held() < 1'200'000);
  CHECK(item.overflows() > 30);
  CHECK(item.hasQueued());
  // What is published and not acknowledged counts, too, and then goes.
  const auto sent = f.subscription.publish(kWall);
  CHECK(sent.message.notificationData.size() == 1);
  CHECK(most.held() > 0);
  CHECK(f.subscription.acknowledge(sent.message.sequenceNumber).isGood());
  f.subscription.removeItem(item.id());
  CHECK(most.held() < 100);  // the first sample was not acknowledged
}

namespace {

/// A value that takes long to cut, and many who watch most of it.
struct LargeFixture : Fixture {
  static constexpr std::size_t kWatchers = 40;
  explicit LargeFixture(std::size_t octets) : most(octets) {
    subscription.allowance().moveTo(&most);
    set(0);
    for (std::uint32_t i = 0; i < kWatchers; ++i)
      sampling.add(subscription.add(std::make_unique<MonitoredItem>(100 + i, subscription, variable, AttributeId::Value,
                                                                    *IndexRange::parse("0:90000"), ItemSettings(),
                                                                    MonitoringMode::Reporting)),
                   now, kWall);
  }
  ~LargeFixture() {
    while (!subscription.items().empty()) subscription.removeItem(subscription.items().begin()->first);
    acknowledge();
    CHECK(most.held() == 0);
    subscription.allowance().moveTo(nullptr);
  }
  void set(double first) {
    std::vector<Variant> parts(100'000, Variant("a part"));
    parts[0] = Variant(first);
    space.setValue(variable, DataValue(Variant::array(parts), kWall));
  }
  std::size_t waiting() const {
    const auto hasQueued = [](const auto& item) { return item.second->hasQueued(); };
    return static_cast<std::size_t>(std::ranges::count_if(subscription.items(), hasQueued));
  }
  void acknowledge() {
    for (const auto number : subscription.availableSequenceNumbers()) (void)subscription.acknowledge(number);
  }
  /// How many values are published until nothing waits.
  std::size_t told() {
    std::size_t out = 0;
    while (waiting() > 0) {
      const auto message = subscription.publish(kWall).message;
      for (const auto& data : message.notificationData) out += data.as<DataChangeNotification>()->monitoredItems.size();
      acknowledge();
    }
    return out;
  }
  Allowance most;
};

}  // namespace

TEST_CASE("a large value that many watch in part is brought to them in slices", "[monitor][bounds]") {
  LargeFixture f(1'000'000'000);
  CHECK(f.told() == f.kWatchers);
  f.set(1);
  CHECK(f.waiting() < 2);
  Instant clock{};
  std::size_t turns = 0;
  for (; f.sampling.nextDue() <= f.now && turns < 2 * f.kWatchers; ++turns)
    f.sampling.tick(f.now, kWall, Slice([&] { return clock += milliseconds(3); }, milliseconds(2)));
  CHECK(turns >= f.kWatchers - 1);
  CHECK(f.told() == f.kWatchers);
}

TEST_CASE("a large value that is too much for all who watch it is brought to them one after another",
          "[monitor][bounds]") {
  LargeFixture f(24'000'000);
  // Those for whom there is no room yet wait a second, as often as it takes.
  std::size_t told = 0, rounds = 0;
  for (; told < f.kWatchers && rounds < f.kWatchers; ++rounds) {
    CHECK(f.most.held() < 30'000'000);
    told += f.told();
    f.pass(1'000);
  }
  CHECK(told == f.kWatchers);
  CHECK(rounds > 2);
  // What they keep to compare the next with takes half of it at most.
  CHECK(f.told() == 0);
  CHECK(f.most.held() <= 12'000'000);
  // Who has kept nothing says it again, too, when a subscription is taken over.
  f.subscription.resendData(kWall);
  CHECK(f.waiting() < f.kWatchers);
  f.sampling.sampleForgotten(f.subscription, f.now);
  for (told = rounds = 0; told < f.kWatchers && rounds < f.kWatchers; ++rounds) {
    told += f.told();
    f.pass(1'000);
  }
  CHECK(told == f.kWatchers);
}

TEST_CASE("messages are cut by their size, and a value that is too large is told of", "[monitor][bounds]") {
  Fixture f;
  f.watch(0, 100);
  f.published();
  for (int i = 0; i < 10; ++i)
    f.space.setValue(f.variable, DataValue(Variant(String(std::string(40'000, static_cast<char>('a' + i)))), kWall));
  std::size_t messages = 0, values = 0;
  while (true) {
    const auto out = f.subscription.publish(kWall, {}, {100'000, 1'000'000});
    if (out.message.notificationData.empty()) break;
    const auto changes = *out.message.notificationData[0].as<DataChangeNotification>();
    CHECK(encode(changes).size() < 110'000);
    values += changes.monitoredItems.size();
    ++messages;
  }
  CHECK(values == 10);
  CHECK(messages == 5);
  f.space.setValue(f.variable, DataValue(Variant(String(std::string(2'000'000, 'z'))), kWall));
  f.sampling.tick(f.now, kWall);
  const auto told = f.subscription.publish(kWall, {}, {100'000, 1'000'000});
  const auto changes = *told.message.notificationData.at(0).as<DataChangeNotification>();
  CHECK(changes.monitoredItems[0].value.status == status::BadResponseTooLarge);
}

TEST_CASE("links are bounded, and go with their items", "[monitor][bounds]") {
  Fixture f;
  std::vector<std::uint32_t> ids;
  for (int i = 0; i < 200; ++i) ids.push_back(f.watch(0, 1).id());
  std::size_t made = 0;
  for (const auto a : ids)
    for (const auto b : ids) made += f.subscription.link(a, b).isGood();
  CHECK(made == 10'000);
  CHECK(f.subscription.link(ids[199], ids[198]) == status::BadTooManyMonitoredItems);
  CHECK(f.subscription.link(ids[0], 99'999) == status::BadMonitoredItemIdInvalid);
  const auto gone = f.subscription.removeItem(ids[0]);
  f.sampling.remove(*gone);
  CHECK(f.subscription.link(ids[199], ids[198]).isGood());
  CHECK(!f.subscription.unlink(ids[0], ids[1]));
  CHECK(!f.subscription.unlink(ids[1], ids[0]));
}

/// A variable that is watched by an aggregate, under a wall clock that goes along.
struct Aggregated : Fixture {
  explicit Aggregated(const char* function, double startsAt = 0) {
    space.untap(0);
    sampling.setTap(space.tap([this](auto changes) { sampling.valuesChanged(changes, now, wall()); }));
    ItemSettings settings;
    settings.queueSize = 500;
    settings.aggregate = AggregateSettings{aggregate::functionNamed(function), {{}, true}, at(startsAt), 10'000'000};
    item = &subscription.add(std::make_unique<MonitoredItem>(++lastItem, subscription, variable, AttributeId::Value,
                                                             IndexRange(), settings, MonitoringMode::Reporting));
    sampling.add(*item, now, wall());
  }
  static DateTime at(double seconds) { return {kWall.ticks + static_cast<std::int64_t>(seconds * 1e7)}; }
  DateTime wall() const { return at(std::chrono::duration<double>(now - Instant(std::chrono::hours(1))).count()); }
  void pass(double ms) {
    now += milliseconds(ms);
    sampling.tick(now, wall());
  }
  void set(double value, StatusCode status = status::Good) {
    space.setValue(variable, DataValue(Variant(value), wall(), status));
  }
  MonitoredItem* item = nullptr;
};

TEST_CASE("an aggregate of live values is reported when its interval is over",
          "[monitor][cu:Aggregate Subscription - Filter]") {
  Aggregated w("TimeAverage");
  CHECK(w.published().empty());
  w.pass(500);
  w.set(10);
  CHECK(w.published().empty());
  CHECK(w.sampling.nextDue() <= w.now + milliseconds(500));
  w.pass(500);
  CHECK(w.published() == std::vector<double>{5});  // 0 for half of it, then 10
  // What doesn't change holds, interval by interval, without a sample.
  w.pass(1'000);
  w.pass(1'000);
  CHECK(w.published() == std::vector<double>{10, 10});
  CHECK(w.item->last()->sourceTimestamp == Aggregated::at(2));
  CHECK(w.item->last()->status.condition() == status::Good);
  // Bad for three quarters.
  w.pass(250);
  w.set(0, status::BadNoCommunication);
  w.pass(750);
  CHECK(w.item->last()->status.condition() == status::UncertainDataSubNormal);
  CHECK(w.published() == std::vector<double>{10});
  // A gap in time is not made up for.
  w.pass(3'600'000);
  CHECK(w.published().size() <= 2);
  // Disabled, it forgets; enabled, it begins anew.
  w.item->setMode(MonitoringMode::Disabled);
  w.pass(1'000);
  CHECK(w.published().empty());
}

TEST_CASE("an aggregate keeps the beat that was asked for, and a clock that is wrong does it no harm", "[monitor]") {
  Aggregated w("Count", -0.25);  // intervals end at 0.75, 1.75 and so on
  w.pass(740);
  CHECK(w.published().empty());
  w.pass(10);
  CHECK(w.published().size() == 1);
  // From the future, and from long ago: each counts for when it came.
  w.space.setValue(w.variable, DataValue(Variant(1.0), Aggregated::at(90'000)));
  w.space.setValue(w.variable, DataValue(Variant(2.0), Aggregated::at(-90'000)));
  w.space.setValue(w.variable, DataValue(Variant(3.0), DateTime()));
  w.pass(1'000);
  auto message = w.subscription.publish(kWall).message;
  const auto changes = message.notificationData.front().as<DataChangeNotification>();
  REQUIRE(changes->monitoredItems.size() == 1);
  CHECK(changes->monitoredItems.front().value.value == Variant(std::int32_t{3}));
}

TEST_CASE("of which conditions a filtered item knows is bounded, which is said", "[monitor][alarm][bounds]") {
  FilteredRetain retained;
  using enum FilteredRetain::Outcome;
  const auto word = [&](std::uint32_t number, bool passes, bool retain, std::uint32_t branch = 0) {
    Event event(0, 0);
    event.set("ConditionId", Variant(NodeId(2, number)))
        .set("BranchId", branch ? Variant(NodeId(3, branch)) : Variant(NodeId()))
        .set("Retain", Variant(retain));
    return retained.judge(event, passes);
  };
  constexpr auto kMost = static_cast<std::uint32_t>(FilteredRetain::kMost);
  CHECK(word(1, false, true) == Nothing);
  for (std::uint32_t i = 1; i <= kMost; ++i) CHECK(word(i, true, true) == Bring);
  // All that fit are known, and a branch is not its condition.
  CHECK(word(kMost + 5, false, true) == Nothing);
  CHECK(word(1, false, true, 7) == Nothing);
  CHECK(word(1, true, true, 7) == Bring);
  CHECK(word(2, false, true, 9) == Unknown);  // it may be one that there was no room for
  CHECK(word(3, false, true, 9) == Nothing);  // said once
  CHECK(word(1, false, true) == BringLastWord);
  CHECK(word(1, false, true) == Nothing);
  CHECK(word(2, true, false) == Bring);
  CHECK(word(2, false, true) == Nothing);
  // When most have gone, more is said anew.
  for (std::uint32_t i = 1; i <= kMost; ++i) word(i, true, false);
  for (std::uint32_t i = 1; i <= kMost + 1; ++i) word(i, true, true);
  CHECK(word(0, false, true) == Unknown);
}

}  // namespace zunth::monitor_test
