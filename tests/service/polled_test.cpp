// A station's life under a driver that polls it, as the test tells it.
#include "service/device/polled.hpp"

#include <condition_variable>
#include <future>
#include <map>

#include <catch2/catch.hpp>

namespace zunth::polled_test {

using namespace zunth::ua;
using device::PointIndex;
using device::Polled;

namespace {

/// What the outside world is like; shared by the driver's thread and the test.
struct World {
  template <class Change>
  void set(Change change) {
    std::lock_guard lock(mutex);
    change();
    changed.notify_all();
  }
  template <class Condition>
  bool wait(Condition condition) {
    std::unique_lock lock(mutex);
    return changed.wait_for(lock, std::chrono::seconds(20), condition);
  }
  std::vector<std::pair<bool, Error>> told() {
    std::lock_guard lock(mutex);
    return connections;
  }
  std::mutex mutex;
  std::condition_variable changed;
  bool isThere = true;
  double value = 1;
  int connects = 0;
  std::map<PointIndex, int> reads;
  std::vector<std::vector<device::Sample>> batches;
  std::vector<std::pair<bool, Error>> connections;
  std::optional<PointIndex> traced;
};

class FakeStation final : public device::Station {
 public:
  explicit FakeStation(World& world) : world_(world) {
    points_.push_back({"level", BuiltInType::Double, true, "fake"});
    points_.push_back({"sealed", BuiltInType::Double, false, "fake"});
  }
  const std::vector<device::Point>& points() const override { return points_; }
  Result<void> connect() override {
    bool there = false;
    world_.set([&] {
      ++world_.connects;
      there = world_.isThere;
    });
    if (!there) return Error{status::BadNoCommunication, "nobody is there", {}};
    return {};
  }
  void disconnect() override {}
  Result<std::vector<DataValue>> read(std::span<const PointIndex> points) override {
    std::lock_guard lock(world_.mutex);
    for (const PointIndex point : points) ++world_.reads[point];
    if (!world_.isThere) return Error{status::BadNoCommunication, "it has gone", {}};
    return std::vector<DataValue>(points.size(), DataValue(Variant(world_.value), DateTime{5}));
  }
  Result<Explained> explain(PointIndex point) override {
    auto values = read(std::span(&point, 1));
    if (!values) return values.error();
    return Explained{{{"asked", "how"}}, values->front()};
  }
  Result<Outcome> write(const device::PointWrite& write) override {
    const auto& [point, value, bit] = write;
    std::lock_guard lock(world_.mutex);
    if (!world_.isThere) return Error{status::BadNoCommunication, "it has gone", {}};
    if (!points_[point].isWritable) return Outcome{{status::BadNotWritable, "it is sealed", {}}};
    world_.value = *value.get<double>() / 2;  // a device need not take what it is told
    return Outcome{};
  }

 private:
  World& world_;
  std::vector<device::Point> points_;
};

struct Fixture final : device::Sink {
  Fixture() : polled("pond", std::make_unique<FakeStation>(world)) {
    polled.want({{0, std::chrono::milliseconds(10)}});
  }
  bool samples(std::vector<device::Sample> batch) override {
    world.set([&] { world.batches.push_back(std::move(batch)); });
    return true;
  }
  void discovered(std::vector<device::DevicePoint>) override {}
  void link(bool isConnected, const Error& why) override {
    world.set([&] { world.connections.emplace_back(isConnected, why); });
  }
  bool isTraced(PointIndex point) const override {
    std::lock_guard lock(const_cast<World&>(world).mutex);
    return world.traced == point;
  }
  Error write(PointIndex point, double value, Instant deadline = Instant::max()) {
    std::promise<Error> promise;
    polled.write({{point, Variant(value)}}, deadline,
                 [&](std::vector<Error> outcomes) { promise.set_value(outcomes[0]); });
    return promise.get_future().get();
  }
  Result<std::vector<Variant>> act(std::vector<device::Step> steps) {
    std::promise<Result<std::vector<Variant>>> promise;
    polled.act(std::move(steps), Instant::max(), [&](auto outputs) { promise.set_value(std::move(outputs)); });
    return promise.get_future().get();
  }
  void refresh(std::vector<PointIndex> points) {
    std::promise<void> promise;
    polled.refresh(std::move(points), Instant::max(), [&] { promise.set_value(); });
    promise.get_future().get();
  }
  World world;
  Polled polled;
};

}  // namespace

TEST_CASE("a device is connected and polled", "[device]") {
  Fixture f;
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return f.world.batches.size() >= 3; }));
  CHECK(f.world.told().front().first);
  CHECK(f.polled.figures().polls >= 3);
  std::lock_guard lock(f.world.mutex);
  CHECK(f.world.batches[0][0].value.value == Variant(1.0));
}

TEST_CASE("a write brings the device's own value before its answer", "[device]") {
  Fixture f;
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  CHECK(f.write(0, 10).code.isGood());
  std::lock_guard lock(f.world.mutex);
  CHECK(f.world.batches.back()[0].value.value == Variant(5.0));
}

TEST_CASE("what a device refuses is told to the writer alone", "[device]") {
  Fixture f;
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  CHECK(f.write(1, 10).code == status::BadNotWritable);
}

TEST_CASE("a device that goes is told of once, refuses writes, and is found again", "[device]") {
  Fixture f;
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  f.world.set([&] { f.world.isThere = false; });
  REQUIRE(f.world.wait([&] { return f.world.connections.size() >= 2; }));
  const auto told = f.world.told();
  CHECK(!told[1].first);
  CHECK(told[1].second.cause == "it has gone");
  CHECK(f.write(0, 1).code == status::BadNoCommunication);
  REQUIRE(f.world.wait([&] { return f.world.connects >= 2; }));
  f.world.set([&] {
    f.world.isThere = true;
    f.world.batches.clear();
  });
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  CHECK(f.world.told().back().first);
}

TEST_CASE("actions go step by step and stop at what is refused", "[device]") {
  Fixture f;
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  using Kind = device::Step::Kind;
  const auto done = f.act({{Kind::Write, 0, Variant(8.0)}, {Kind::Read, 0, {}}});
  REQUIRE(done);
  CHECK(*done == std::vector<Variant>{Variant(4.0)});
  CHECK(f.act({{Kind::Write, 1, Variant(1.0)}, {Kind::Write, 0, Variant(100.0)}}).code() == status::BadNotWritable);
  {
    std::lock_guard lock(f.world.mutex);
    CHECK(f.world.value == 4);
    f.world.isThere = false;
  }
  CHECK(f.act({{Kind::Write, 0, Variant(8.0)}}).code() == status::BadNoCommunication);
}

TEST_CASE("each point is read in its own beat, and one that is wanted no more is not", "[device]") {
  Fixture f;
  f.polled.want({{0, std::chrono::milliseconds(5)}, {1, std::chrono::hours(1)}});
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return f.world.reads[0] >= 20; }));
  {
    std::lock_guard lock(f.world.mutex);
    CHECK(f.world.reads[1] == 1);
  }
  f.polled.want({{1, std::chrono::milliseconds(5)}});
  REQUIRE(f.world.wait([&] { return f.world.reads[1] >= 3; }));
  const int before = [&] {
    std::lock_guard lock(f.world.mutex);
    return f.world.reads[0];
  }();
  REQUIRE(f.world.wait([&] { return f.world.reads[1] >= 20; }));
  std::lock_guard lock(f.world.mutex);
  CHECK(f.world.reads[0] == before);
  CHECK(f.world.connects == 1);
}

TEST_CASE("who looks at a point gets its way beside its value", "[device]") {
  Fixture f;
  f.polled.want({});
  f.world.traced = 1;
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return !f.world.connections.empty(); }));
  f.refresh({0, 1});
  std::lock_guard lock(f.world.mutex);
  REQUIRE(f.world.batches.size() == 1);
  for (const auto& sample : f.world.batches[0]) CHECK(static_cast<bool>(sample.trace) == (sample.point == 1));
}

TEST_CASE("a driver that is stopped answers everybody and says when it has ended", "[device]") {
  Fixture f;
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  std::promise<void> ended;
  f.polled.stop([&] { ended.set_value(); });
  ended.get_future().get();
  const auto before = f.world.batches.size();
  CHECK(f.polled.figures().polls == before);
}

TEST_CASE("what nobody waits for any more is not written", "[device]") {
  Fixture f;
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  CHECK(f.write(0, 80, std::chrono::steady_clock::now() - std::chrono::milliseconds(1)).code == status::BadTimeout);
  std::lock_guard lock(f.world.mutex);
  CHECK(f.world.value == 1);
}

TEST_CASE("a full queue refuses, and the beat goes on between what is written", "[device]") {
  Fixture f;  // not started: nothing is carried out
  std::vector<Error> outcomes;
  for (std::size_t i = 0; i <= Polled::kMostJobs; ++i)
    f.polled.write({{0, Variant(1.0)}}, Instant::max(),
                   [&](std::vector<Error> told) { f.world.set([&] { outcomes.push_back(told[0]); }); });
  REQUIRE(outcomes.size() == 1);
  CHECK(outcomes[0].code == status::BadTooManyOperations);
  f.polled.start(f);
  REQUIRE(f.world.wait([&] { return outcomes.size() == Polled::kMostJobs + 1; }));
  CHECK(f.polled.figures().polls >= Polled::kMostJobs);  // one after each write, and the beat's own
}

}  // namespace zunth::polled_test
