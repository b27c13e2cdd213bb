// What a device makes of what its driver brings and takes.
#include "service/device/device.hpp"

#include "service/device/scan.hpp"

#include "tests/service/process.hpp"
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
    events.after = [this](Duration pause, auto work) { later.emplace_back(pause, std::move(work)); };
    device = std::make_unique<Device>(file, std::move(events));
    device->start();
  }
  DeviceFile file;
  PlainDriver* driver = nullptr;
  std::vector<std::vector<Shown>> batches;
  /// Does what was to be done later; what that puts off again stays.
  void pass() {
    for (auto& [pause, work] : std::exchange(later, {})) work(*device);
  }
  void bring(PointIndex point, Variant value) { driver->sink->samples({{point, DataValue(std::move(value))}}); }

  std::vector<bool> links;
  std::vector<std::pair<Duration, std::function<void(Device&)>>> later;
  std::unique_ptr<Device> device;
};

Variant number(int value) { return Variant(static_cast<std::uint16_t>(value)); }

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

TEST_CASE("an action waits until a point shows what it is to, and no longer than it may", "[device]") {
  World w;
  using Kind = ActionStep::Kind;
  ActionStep wait{Kind::Wait, 1, "target"};
  wait.relation = ActionStep::Relation::AtLeast;
  wait.time = 5'000;
  wait.text = "count >= input target";
  ActionStep pause{Kind::Pause};
  pause.time = 200;
  const Action fill{"fill", {{Kind::WriteValue, 2, {}, Variant("on")}, wait, pause, {Kind::ReadOutput, 2, "pump", {}}}};
  w.file.actions = {fill};
  w.device->want(w.file, {0});
  CHECK(w.driver->wanted.size() == 2);  // what it waits for is looked at, too

  std::optional<Device::Outcome> outcome;
  w.driver->sink->link(true, {status::Good, {}, {}});
  w.device->act(fill, {{"target", number(7)}}, Instant::max(), [&](auto told) { outcome = std::move(told); });
  CHECK(w.driver->written.size() == 1);
  SECTION("it comes") {
    w.bring(1, number(6));
    w.bring(0, number(9));  // another point
    CHECK(w.later.size() == 1);
    w.bring(1, number(7));
    REQUIRE(w.later.size() == 2);  // the pause
    CHECK(w.later[1].first == milliseconds(200));
    CHECK_FALSE(outcome);
    w.pass();
    REQUIRE(outcome);
    CHECK(outcome->error.code.isGood());
    CHECK(outcome->outputs["pump"] == Variant("on"));
  }
  SECTION("it doesn't") {
    w.pass();
    REQUIRE(outcome);
    CHECK(outcome->error.code == status::BadTimeout);
    CHECK(outcome->error.cause == "'count >= input target' did not come within 5000 ms");
  }
  SECTION("the device goes") {
    w.driver->sink->link(false, {status::BadNoCommunication, "gone", {}});
    REQUIRE(outcome);
    CHECK(outcome->error.code == status::BadNoCommunication);
  }
  // Later is nobody's any more.
  w.bring(1, number(8));
  CHECK(w.driver->written.size() == 1);
}

TEST_CASE("what a point shows already needs no wait", "[device]") {
  World w;
  ActionStep wait{ActionStep::Kind::Wait, 2};
  wait.value = Variant("on");
  wait.time = 100;
  std::optional<Device::Outcome> outcome;
  w.device->act({"start", {wait}}, {}, Instant::max(), [&](auto told) { outcome = std::move(told); });
  REQUIRE(outcome);
  CHECK(outcome->error.code.isGood());
}

TEST_CASE("actions wait no longer than their callers, and not without end", "[device]") {
  World w;
  ActionStep wait{ActionStep::Kind::Wait, 1}, pause{ActionStep::Kind::Pause};
  wait.value = number(7);
  wait.time = pause.time = 3'600'000;
  const auto soon = std::chrono::steady_clock::now() + std::chrono::seconds(1);
  std::vector<StatusCode> ended;
  const auto act = [&](ActionStep step, Instant deadline) {
    w.device->act({"fill", {std::move(step)}}, {}, deadline, [&](auto told) { ended.push_back(told.error.code); });
  };
  act(wait, soon);
  REQUIRE(w.later.size() == 1);
  CHECK(w.later[0].first <= std::chrono::seconds(1));
  act(wait, soon - std::chrono::seconds(2));  // the caller has gone
  REQUIRE(w.later.size() == 2);
  CHECK(w.later[1].first == Duration::zero());
  // Nothing is gained by pausing longer than somebody waits for the end.
  act(pause, soon);
  CHECK(ended == std::vector{status::BadTimeout});
  CHECK(w.later.size() == 2);
  for (int i = 2; i < 1'000; ++i) act(wait, Instant::max());
  CHECK(ended.size() == 1);
  act(wait, Instant::max());
  REQUIRE(ended.size() == 2);
  CHECK(ended[1] == status::BadTooManyOperations);
  // Those that wait go on all the same, and make room.
  w.bring(1, number(7));
  CHECK(ended.size() == 1'002);
  CHECK(std::ranges::count_if(ended, [](StatusCode code) { return code.isGood(); }) == 1'000);
  act(wait, Instant::max());
  CHECK(ended.size() == 1'002);
}

TEST_CASE("a device is tried whatever it does beside", "[device]") {
  /// Shows points of its own before those that it is asked for.
  class Showing final : public Driver {
   public:
    const std::vector<Point>& points() const override { return points_; }
    void start(Sink& sink) override {
      sink_ = &sink;
      sink.link(true, {status::Good, {}, {}});
      sink.discovered({DevicePoint{{"more", BuiltInType::Double, false, "x"}, {}}});
      sink.samples({{2, DataValue(Variant(9.0))}, {1, DataValue(Variant(1.0))}});
    }
    void stop(std::function<void()> done) override { done(); }
    void want(std::vector<Wish>) override {}
    void refresh(std::vector<PointIndex> points, Instant, std::function<void()> done) override {
      for (const auto point : points) sink_->samples({{point, DataValue(Variant(5.0 + static_cast<double>(point)))}});
      done();
    }
    void write(std::vector<PointWrite>, Instant, WritesDone) override {}
    void act(std::vector<Step>, Instant, ActDone) override {}

   private:
    Sink* sink_ = nullptr;
    std::vector<Point> points_{{"level", BuiltInType::Double, false, "x"}, {"beat", BuiltInType::Double, false, "x"}};
  };
  DeviceFile file;
  file.name = "pond";
  file.discovers = "all";
  file.heartbeat = Heartbeat{1, 5'000};
  const Showing shows;
  for (const auto& point : shows.points()) file.points.push_back({point, {}});
  file.makeDriver = [] { return std::make_unique<Showing>(); };
  const auto all = tryOut(file, std::chrono::seconds(20));
  REQUIRE(all);
  REQUIRE(all->size() == 2);
  CHECK((*all)[0].value.value == Variant(5.0));
  const auto one = tryOut(file, {1}, std::chrono::seconds(20));
  REQUIRE(one);
  REQUIRE(one->size() == 1);
  CHECK((*one)[0].name == "beat");
}

TEST_CASE("numbers are compared as numbers, whatever their types", "[device]") {
  using Relation = ActionStep::Relation;
  const auto all = [](const Variant& a, const Variant& b) {
    std::string out;
    for (const auto& [sign, relation] : {std::pair{"=", Relation::Equal},
                                         {"!", Relation::Unequal},
                                         {"<", Relation::Less},
                                         {"[", Relation::AtMost},
                                         {">", Relation::More},
                                         {"]", Relation::AtLeast}})
      if (holds(relation, a, b)) out += sign;
    return out;
  };
  CHECK(all(Variant(2.0), number(2)) == "=[]");
  CHECK(all(Variant(-1.5f), number(2)) == "!<[");
  CHECK(all(number(3), Variant(2.5)) == "!>]");
  CHECK(all(Variant("on"), Variant("on")) == "=");
  CHECK(all(Variant(true), Variant(false)) == "!>]");
  CHECK(all(Variant("on"), number(1)) == "!");
}

TEST_CASE("a device whose heart stands still has gone, however well it answers", "[device]") {
  World w;
  w.file.heartbeat = Heartbeat{1, 2};
  w.device->want(w.file, {0});
  REQUIRE(w.later.size() == 1);
  w.driver->sink->link(true, {status::Good, {}, {}});
  const auto standStill = [&] {
    for (const auto until = std::chrono::steady_clock::now() + milliseconds(3);
         std::chrono::steady_clock::now() < until;)
      continue;
  };
  w.bring(1, number(1));
  w.bring(2, number(1));
  w.bring(0, number(215));
  CHECK(w.batches.size() == 3);
  standStill();
  w.pass();
  CHECK(w.links == std::vector<bool>{true, false});
  CHECK_FALSE(w.device->health().isConnected);
  CHECK(w.device->health().lastError.cause == "its heartbeat 'count' has stood still for 2 ms");
  // What it brings is not shown: neither news nor the heart's old value.
  w.bring(0, number(300));
  w.bring(1, number(1));
  CHECK(w.batches.size() == 3);
  w.bring(1, number(2));
  CHECK(w.links == std::vector<bool>{true, false, true});
  // Now the last of each is, also of what was said once.
  REQUIRE(w.batches.size() == 4);
  std::map<PointIndex, Variant> shown;
  for (const auto& each : w.batches.back()) shown[each.point] = each.value.value;
  CHECK(shown == std::map<PointIndex, Variant>{{0, Variant(30.0)}, {1, number(2)}, {2, Variant("on")}});
  // A device that is away already doesn't die a second time; without a heartbeat it is never looked at.
  w.driver->sink->link(false, {status::BadNoCommunication, "gone", {}});
  standStill();
  w.pass();
  CHECK(w.links == std::vector<bool>{true, false, true, false});
  w.file.heartbeat.reset();
  w.device->want(w.file, {0});
  w.pass();
  CHECK(w.later.empty());
}

TEST_CASE("a device's file says what its actions wait for, and what its heart is", "[device]") {
  const test::TemporaryFolder folder;
  folder.write("devices/pumps.csv",
               "point;where;nodes;every\nspeed;constant 5;A/speed;\ntorque;sine 1..2 every 5 s;;250 ms\n");
  folder.write("devices/empty.csv", "name,where\n");
  const auto read = [&](const std::string& lines) {
    model::Findings findings;
    auto file = readDeviceFile("d", "devices/d.yaml",
                               "driver: simulation\nevery: 100 ms\npoints:\n  count: ramp 0..100 every 10 s\n"
                               "  on: {point: constant true, every: 1 s}\n" +
                                   lines,
                               findings, folder.path);
    std::string said;
    for (const auto& finding : findings.list()) said += finding.message + "; ";
    return std::pair(std::move(file), said);
  };
  const auto [file, none] = read(R"(heartbeat: count within 2 s
points-from: pumps.csv
actions:
  run: [wait count > 50 within 5 s, pause 200 ms, wait on != input was within 1 min, output x = speed]
)");
  CHECK(none.empty());
  REQUIRE(file.heartbeat);
  CHECK(file.heartbeat->within == 2'000);
  REQUIRE(file.points.size() == 4);
  CHECK(file.points[3].name() == "torque");
  CHECK(file.points[3].every == 250);
  const auto& steps = file.actions.at(0).steps;
  REQUIRE(steps.size() == 4);
  CHECK(steps[0].relation == ActionStep::Relation::More);
  CHECK(steps[0].value == Variant(50.0));
  CHECK(steps[1].time == 200);
  CHECK(steps[2].name == "was");
  CHECK(steps[2].relation == ActionStep::Relation::Unequal);
  for (const auto& [lines, said] : std::initializer_list<std::pair<const char*, const char*>>{
           {"actions: {a: wait count > 5}", "'wait count > 5' is no step; "},
           {"actions: {a: wait count within 5 s}", "'wait count within 5 s' is no step; "},
           {"actions: {a: wait cuont = 5 within 5 s}", "there is no point 'cuont'; "},
           {"actions: {a: pause long}", "'pause long' is no step; "},
           {"heartbeat: count", "'count' is no heartbeat; "},
           {"heartbeat: pulse within 2 s", "there is no point 'pulse'; "},
           {"heartbeat: on within 1 s", "the heartbeat is looked at each 1000 ms: 1000 ms are too few; "},
           {"points-from: nothing.csv", "there is no list of points devices/nothing.csv; "},
           {"points-from: ../devices/pumps.csv", "there is no list of points devices/../devices/pumps.csv; "},
           {"points-from: empty.csv", "a list of points has the columns point and where; "}}) {
    INFO(lines);
    CHECK(read(lines).second == said);
  }
}

}  // namespace zunth::device_test
