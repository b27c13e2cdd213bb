// A device's life, with a driver that does as the test tells it.
#include "service/device/device.hpp"

#include <condition_variable>
#include <future>

#include <catch2/catch.hpp>

namespace zunth::device_test {

using namespace zunth::ua;
using device::Device;
using device::Driver;
using device::PointIndex;

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
  std::mutex mutex;
  std::condition_variable changed;
  bool isThere = true;
  double value = 1;
  int connects = 0, reads = 0;
  std::vector<std::vector<std::pair<PointIndex, DataValue>>> batches;
  std::vector<std::pair<bool, Error>> connections;
};

class FakeDriver final : public Driver {
 public:
  explicit FakeDriver(World& world) : world_(world) {
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
    ++world_.reads;
    if (!world_.isThere) return Error{status::BadNoCommunication, "it has gone", {}};
    return std::vector<DataValue>(points.size(), DataValue(Variant(world_.value), DateTime{5}));
  }
  Result<Outcome> write(PointIndex point, const Variant& value) override {
    std::lock_guard lock(world_.mutex);
    if (!world_.isThere) return Error{status::BadNoCommunication, "it has gone", {}};
    Outcome outcome;
    if (!points_[point].isWritable)
      outcome.error = {status::BadNotWritable, "it is sealed", {}};
    else
      world_.value = *value.get<double>() / 2;  // a device need not take what it is told
    return outcome;
  }

 private:
  World& world_;
  std::vector<device::Point> points_;
};

struct Fixture {
  Fixture() {
    Device::Events events;
    events.values = [this](std::vector<std::pair<PointIndex, DataValue>> batch) {
      world.set([&] { world.batches.push_back(std::move(batch)); });
    };
    events.connection = [this](bool isConnected, DateTime, const Error& why) {
      world.set([&] { world.connections.emplace_back(isConnected, why); });
    };
    device = std::make_unique<Device>("pond", std::make_unique<FakeDriver>(world), std::chrono::milliseconds(10),
                                      std::vector<PointIndex>{0}, std::move(events));
  }
  Error write(PointIndex point, double value, Instant deadline = Instant::max()) {
    std::promise<Error> promise;
    device->write({{point, Variant(value)}}, deadline,
                  [&](std::vector<Error> outcomes) { promise.set_value(outcomes[0]); });
    return promise.get_future().get();
  }
  World world;
  std::unique_ptr<Device> device;
};

}  // namespace

TEST_CASE("a device is connected and polled", "[device]") {
  Fixture f;
  f.device->start();
  REQUIRE(f.world.wait([&] { return f.world.batches.size() >= 3; }));
  CHECK(f.world.connections.front().first);
  CHECK(f.world.batches[0][0].second.value == Variant(1.0));
  CHECK(f.device->health().isConnected);
  CHECK(f.device->health().polls >= 3);
}

TEST_CASE("a write brings the device's own value before its answer", "[device]") {
  Fixture f;
  f.device->start();
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  CHECK(f.write(0, 10).code.isGood());
  std::lock_guard lock(f.world.mutex);
  CHECK(f.world.batches.back()[0].second.value == Variant(5.0));
}

TEST_CASE("what a device refuses is told to the writer alone", "[device]") {
  Fixture f;
  f.device->start();
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  CHECK(f.write(1, 10).code == status::BadNotWritable);
  CHECK(f.device->health().isConnected);
}

TEST_CASE("a device that goes is told of once, refuses writes, and is found again", "[device]") {
  Fixture f;
  f.device->start();
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  f.world.set([&] { f.world.isThere = false; });
  REQUIRE(f.world.wait([&] { return f.world.connections.size() >= 2; }));
  CHECK(!f.world.connections[1].first);
  CHECK(f.world.connections[1].second.cause == "it has gone");
  CHECK(f.write(0, 1).code == status::BadNoCommunication);
  CHECK(!f.device->health().isConnected);
  REQUIRE(f.world.wait([&] { return f.world.connects >= 2; }));
  f.world.set([&] {
    f.world.isThere = true;
    f.world.batches.clear();
  });
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  CHECK(f.world.connections.back().first);
}

TEST_CASE("actions go step by step and stop at what is refused", "[device]") {
  World world;
  FakeDriver driver(world);
  using Kind = device::ActionStep::Kind;
  const device::Action fill{"fill", {{Kind::WriteInput, 0, "litres", {}}, {Kind::ReadOutput, 0, "level", {}}}};
  const auto done = driver.act(fill, {{"litres", Variant(std::uint16_t{8})}});
  REQUIRE(done);
  CHECK(done->outputs.at("level") == Variant(4.0));
  CHECK(driver.act(fill, {})->error.code == status::BadArgumentsMissing);
  CHECK(driver.act(fill, {{"litres", Variant("many")}})->error.code == status::BadTypeMismatch);
  const device::Action breakIn{"break",
                               {{Kind::WriteValue, 1, {}, Variant(1.0)}, {Kind::WriteValue, 0, {}, Variant(100.0)}}};
  CHECK(driver.act(breakIn, {})->error.code == status::BadNotWritable);
  CHECK(world.value == 4);
  world.isThere = false;
  CHECK(driver.act(fill, {{"litres", Variant(std::uint16_t{8})}}).code() == status::BadNoCommunication);
}

TEST_CASE("what nobody waits for any more is not written", "[device]") {
  Fixture f;
  f.device->start();
  REQUIRE(f.world.wait([&] { return !f.world.batches.empty(); }));
  CHECK(f.write(0, 80, std::chrono::steady_clock::now() - std::chrono::milliseconds(1)).code == status::BadTimeout);
  std::lock_guard lock(f.world.mutex);
  CHECK(f.world.value == 1);
}

TEST_CASE("a full queue refuses, and the beat goes on between what is written", "[device]") {
  Fixture f;  // not started: nothing is carried out
  std::vector<Error> outcomes;
  for (std::size_t i = 0; i <= Device::kMostJobs; ++i)
    f.device->write({{0, Variant(1.0)}}, Instant::max(),
                    [&](std::vector<Error> told) { f.world.set([&] { outcomes.push_back(told[0]); }); });
  REQUIRE(outcomes.size() == 1);
  CHECK(outcomes[0].code == status::BadTooManyOperations);
  f.device->start();
  REQUIRE(f.world.wait([&] { return outcomes.size() == Device::kMostJobs + 1; }));
  CHECK(f.device->health().polls >= Device::kMostJobs);  // one after each write, and the beat's own
}

}  // namespace zunth::device_test
