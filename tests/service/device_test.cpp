// What a device makes of what its driver brings and takes.
#include "service/device/device.hpp"

#include <catch2/catch.hpp>

namespace zunth::device_test {

using namespace zunth::ua;
using namespace zunth::device;

namespace {

/// Does at once what it is told, and remembers it.
class PlainDriver final : public Driver {
 public:
  explicit PlainDriver(std::vector<Point> points) : points_(std::move(points)) {}
  const std::vector<Point>& points() const override { return points_; }
  void start(Sink& sink) override { this->sink = &sink; }
  void stop(std::function<void()> done) override { done(); }
  void want(std::vector<Wish> wishes) override { wanted = std::move(wishes); }
  void refresh(std::vector<PointIndex>, Instant, std::function<void()> done) override { done(); }
  void write(std::vector<PointWrite> writes, Instant, WritesDone done) override {
    std::vector<Error> outcomes;
    for (auto& write : writes) {
      written.push_back(write.value);
      outcomes.push_back({write.point == 1 ? status::BadOutOfRange : status::Good, {}, {}});
    }
    done(std::move(outcomes));
  }
  void act(std::vector<Step> steps, Instant, ActDone done) override {
    std::vector<Variant> outputs;
    for (auto& step : steps)
      if (step.kind == Step::Kind::Write)
        written.push_back(step.value);
      else
        outputs.push_back(Variant(std::uint16_t{1}));
    done(std::move(outputs));
  }
  Sink* sink = nullptr;
  std::vector<Wish> wanted;
  std::vector<Variant> written;

 private:
  std::vector<Point> points_;
};

/// Points: a scaled one, a plain one, a named one.
struct World {
  World() {
    file.name = "pond";
    Conversion scaled, named;
    scaled.scale = 0.1;
    named.names = {{0, "off"}, {1, "on"}};
    for (const auto& [name, conversion] :
         std::vector<std::pair<const char*, Conversion>>{{"level", scaled}, {"count", {}}, {"pump", named}})
      file.points.push_back({{name, BuiltInType::UInt16, true, "fake"}, conversion});
    file.points[2].every = 60'000;
    std::vector<Point> raw;
    for (const auto& point : file.points) raw.push_back(point.raw);
    file.makeDriver = [this, raw] {
      auto made = std::make_unique<PlainDriver>(raw);
      driver = made.get();
      return made;
    };
    Device::Events events;
    events.values = [this](std::vector<Shown> batch) { batches.push_back(std::move(batch)); };
    events.link = [this](bool isConnected, DateTime) { links.push_back(isConnected); };
    device = std::make_unique<Device>(file, std::move(events));
    device->start();
  }
  DeviceFile file;
  PlainDriver* driver = nullptr;
  std::vector<std::vector<Shown>> batches;
  std::vector<bool> links;
  std::unique_ptr<Device> device;
};

}  // namespace

TEST_CASE("what comes is converted, and what can't be has a status that says so", "[device]") {
  World w;
  w.driver->sink->samples({{0, DataValue(Variant(std::uint16_t{215}))},
                           {1, DataValue(Variant(std::uint16_t{7}))},
                           {2, DataValue(Variant(std::uint16_t{1}))},
                           {2, DataValue(Variant(std::uint16_t{9}))},
                           {0, DataValue(Variant(), DateTime{5}, status::BadDeviceFailure)}});
  REQUIRE(w.batches.size() == 1);
  const auto& shown = w.batches[0];
  CHECK(shown[0].value.value == Variant(21.5));
  CHECK(shown[1].value.value == Variant(std::uint16_t{7}));
  CHECK(shown[2].value.value == Variant("on"));
  CHECK(shown[3].value.status == status::BadOutOfRange);
  CHECK(shown[4].value.status == status::BadDeviceFailure);
  CHECK(w.device->health().good == 1);  // the last of each counts
  CHECK(w.device->health().bad == 2);
  CHECK_FALSE(w.device->health().lastContact.isNull());
  w.driver->sink->link(true, {status::Good, {}, {}});
  w.driver->sink->link(false, {status::BadNoCommunication, "gone", {}});
  CHECK(w.device->health().good == 0);
  CHECK(w.device->health().bad == 3);
}

TEST_CASE("each step of a conversion is shown to who looks", "[device]") {
  World w;
  w.driver->sink->samples(
      {{0, DataValue(Variant(std::uint16_t{215})), std::make_shared<const Trace>(Trace{{"answer", "00 D7"}})}});
  const auto& trace = w.batches.at(0).at(0).trace;
  REQUIRE(trace);
  REQUIRE(trace->size() == 2);
  CHECK(trace->at(0).shows == "00 D7");
  CHECK(trace->at(1).what == "× 0.1 + 0");
  CHECK(trace->at(1).shows == "21.5");
}

TEST_CASE("what is written goes back the same way, each with its own outcome", "[device]") {
  World w;
  std::vector<Error> outcomes;
  w.device->write({{0, Variant(21.5)}, {2, Variant("of")}, {1, Variant(std::uint16_t{3})}, {2, Variant("on")}},
                  Instant::max(), [&](auto told) { outcomes = std::move(told); });
  CHECK(w.driver->written ==
        std::vector<Variant>{Variant(std::uint16_t{215}), Variant(std::uint16_t{3}), Variant(std::uint16_t{1})});
  REQUIRE(outcomes.size() == 4);
  CHECK(outcomes[0].code.isGood());
  CHECK(outcomes[1].code == status::BadOutOfRange);
  CHECK(outcomes[1].cause == "the point knows no 'of'");
  CHECK(outcomes[2].code == status::BadOutOfRange);  // the driver's word
  CHECK(outcomes[3].code.isGood());
  CHECK(w.device->health().writes == 3);
}

TEST_CASE("an action's inputs and outputs are those that its method shows", "[device]") {
  World w;
  using Kind = ActionStep::Kind;
  const Action fill{"fill",
                    {{Kind::WriteInput, 0, "litres", {}},
                     {Kind::WriteValue, 2, {}, Variant("on")},
                     {Kind::ReadOutput, 2, "pump", {}}}};
  Device::Outcome outcome;
  const auto act = [&](const std::map<std::string, Variant>& inputs) {
    w.device->act(fill, inputs, Instant::max(), [&](auto told) { outcome = std::move(told); });
    return outcome.error.code;
  };
  CHECK(act({{"litres", Variant(8)}}).isGood());
  CHECK(w.driver->written == std::vector<Variant>{Variant(std::uint16_t{80}), Variant(std::uint16_t{1})});
  CHECK(outcome.outputs.at("pump") == Variant("on"));
  CHECK(act({}) == status::BadArgumentsMissing);
  CHECK(act({{"litres", Variant("many")}}) == status::BadTypeMismatch);
  CHECK(w.driver->written.size() == 2);  // nothing was begun
}

TEST_CASE("points are wanted in their beats, and health follows the link", "[device]") {
  World w;
  w.device->want(w.file, {0, 2});
  REQUIRE(w.driver->wanted.size() == 2);
  CHECK(w.driver->wanted[0].every == std::chrono::seconds(1));
  CHECK(w.driver->wanted[1].every == std::chrono::minutes(1));
  CHECK(!w.device->health().isConnected);
  w.driver->sink->link(true, {status::Good, {}, {}});
  CHECK(w.device->health().isConnected);
  CHECK(w.device->isOlderThan(0, std::chrono::hours(1)));  // it never came
  w.driver->sink->samples({{0, DataValue(Variant(std::uint16_t{1}))}});
  CHECK(!w.device->isOlderThan(0, std::chrono::hours(1)));
  w.driver->sink->link(false, {status::BadNoCommunication, "it has gone", {}});
  CHECK(w.device->health().lastError.cause == "it has gone");
  CHECK(w.links == std::vector<bool>{true, false});
}

TEST_CASE("a driver is told to slow down while what it brought is not shown", "[device]") {
  World w;
  bool isRoom = true;
  int batches = 0;
  while (isRoom && batches < 1'000) {
    isRoom = w.driver->sink->samples({{0, DataValue(Variant(std::uint16_t{1}))}});
    ++batches;
  }
  CHECK(batches < 1'000);
  for (int i = 0; i < batches; ++i) w.device->taken();
  CHECK(w.driver->sink->samples({{0, DataValue(Variant(std::uint16_t{1}))}}));
}

}  // namespace zunth::device_test
