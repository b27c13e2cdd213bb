// Variables that are put together out of several points: elements of a row, fields of a structure.
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"
#include "service/device/bound_devices.hpp"

#include "tests/core/model_space.hpp"
#include <fmt/format.h>

namespace zunth::composition_test {

using namespace zunth::ua;
using namespace zunth::device;
using space::NodeIndex;

namespace {

constexpr const char* kModel =
    "namespace: http://fernhollow.example/parts\n"
    "types:\n"
    "  Mode: enum Off | Auto\n"
    "  Feed: \"struct { grams UInt32, mode Mode, times Double[], why? String }\"\n"
    "  Deep: \"struct { feed Feed }\"\n"
    "objects:\n"
    "  DF1:\n"
    "    nozzles: Double[3] = [1, 2, 3] writable\n"
    "    feed: {is: Feed writable, starts: {grams: 400, mode: Auto, times: [1.5]}}\n"
    "    deep: {is: Deep}\n"
    "    any: Double[]\n"
    "    level: Double\n"
    "    \"odd[0]\": Double\n";

/// Shows what a test tells it to, refuses what it is told to, and remembers what is written.
class Hand final : public Driver {
 public:
  explicit Hand(std::vector<Point> points) : points_(std::move(points)) {}
  const std::vector<Point>& points() const override { return points_; }
  void start(Sink& sink) override { this->sink = &sink; }
  void stop(std::function<void()> done) override {
    if (isSlow)
      goodbye = std::move(done);
    else
      done();
  }
  void want(std::vector<Wish>) override {}
  void refresh(std::vector<PointIndex>, Instant, std::function<void()> done) override { done(); }
  void write(std::vector<PointWrite> writes, Instant, WritesDone done) override {
    std::vector<Error> outcomes;
    for (const auto& write : writes) {
      written += fmt::format("{}={};", points_[write.point].name, format(write.value));
      outcomes.push_back({write.point == refused ? status::BadOutOfRange : status::Good, {}, {}});
    }
    done(std::move(outcomes));
  }
  void act(std::vector<Step>, Instant, ActDone done) override { done(std::vector<Variant>()); }
  Sink* sink = nullptr;
  std::string written;
  PointIndex refused = 99;
  bool isSlow = false;
  std::function<void()> goodbye;

 private:
  std::vector<Point> points_;
};

struct World {
  World() : space(test::spaceOf(kModel)) {
    BoundDevices::Loop loop;
    loop.post = [](auto work) { work(); };
    loop.served = [] {};
    devices = std::make_shared<BoundDevices>(*space, owners, std::move(loop));
  }
  DeviceFile file() {
    DeviceFile out;
    out.name = "hand";
    out.identity = identity;
    const std::vector<Point> points{{"n0", BuiltInType::Double, true, ""},   {"n1", BuiltInType::Double, true, ""},
                                    {"n2", BuiltInType::UInt16, true, ""},   {"grams", BuiltInType::UInt16, true, ""},
                                    {"mode", BuiltInType::UInt16, true, ""}, {"why", BuiltInType::String, true, ""},
                                    {"flag", BuiltInType::String, false, ""}};
    for (const auto& point : points) out.points.push_back({point, {}});
    out.makeDriver = [this, points] {
      auto made = std::make_unique<Hand>(points);
      hand = made.get();
      return made;
    };
    return out;
  }
  /// What is wrong with these bindings; they count when nothing is.
  std::string bind(const std::string& lines) {
    model::Findings findings;
    const std::vector<DeviceFile> files{file()};
    Bindings bindings;
    readBindings("bindings/b.yaml", "bindings:\n" + lines, *space, files, bindings, findings);
    std::string out;
    for (const auto& finding : findings.list())
      if (finding.severity == model::Finding::Severity::Error) out += finding.message + "; " + finding.hint + "\n";
    if (out.empty()) devices->rebind({file()}, bindings);
    return out;
  }
  NodeIndex at(const std::string& path) const { return space->find(NodeId(2, String("DF1/" + path))); }
  DataValue value(const std::string& path) const { return space->value(at(path)); }
  std::string text(const std::string& path) const {
    const auto types = space::typeCatalog(*space);
    return toJson(value(path).value, {JsonForm::Plain, &types}).dump();
  }
  void come(PointIndex point, Variant value, StatusCode status = status::Good, std::int64_t second = 1) {
    hand->sink->samples(
        {{point, DataValue(std::move(value), DateTime{133'000'000'000'000'000 + second * 10'000'000}, status)}});
  }
  StatusCode write(const std::string& path, Variant value) {
    StatusCode out = status::BadTimeout;
    devices->write({{at(path), std::move(value)}}, Instant::max(), [&](std::size_t, const Error& e) { out = e.code; });
    return out;
  }
  std::unique_ptr<space::Space> space;
  space::Owners owners;
  Hand* hand = nullptr;
  std::string identity = "one";
  std::shared_ptr<BoundDevices> devices;
};

}  // namespace

TEST_CASE("a row is put together out of points, and what is written goes to those that differ", "[device][composed]") {
  World w;
  REQUIRE(w.bind("  'DF1/nozzles[{n}]': hand/n{n}\n") == "");
  w.devices->start();
  CHECK(w.value("nozzles").status == status::UncertainInitialValue);
  w.come(0, Variant(1.5));
  CHECK(w.value("nozzles").status == status::BadWaitingForInitialData);
  w.come(1, Variant(2.5), status::Good, 9);
  w.come(2, Variant(std::uint16_t{7}), status::UncertainSensorNotAccurate, 5);
  CHECK(w.value("nozzles").value == Variant::array({1.5, 2.5, 7.0}));
  CHECK(w.value("nozzles").status == status::UncertainSensorNotAccurate);
  CHECK(w.value("nozzles").sourceTimestamp.ticks == 133'000'000'090'000'000);
  w.come(2, Variant(), status::BadSensorFailure);
  CHECK(w.value("nozzles").status == status::BadSensorFailure);
  CHECK(w.value("nozzles").value.isNull());
  w.come(2, Variant("many"));
  CHECK(w.value("nozzles").status == status::BadTypeMismatch);
  w.come(2, Variant(std::uint16_t{8}));
  CHECK(w.value("nozzles").status == status::Good);

  CHECK(w.write("nozzles", Variant::array({1.5, 3.5, 8.0})) == status::Good);
  CHECK(w.hand->written == "n1=3.5;");
  w.hand->written.clear();
  w.come(1, Variant(3.5));
  CHECK(w.write("nozzles", Variant::array({1.5, 3.5, 8.0})) == status::Good);
  CHECK(w.hand->written == "n0=1.5;n1=3.5;n2=8;");  // as a setpoint that is set again
  w.hand->refused = 1;
  CHECK(w.write("nozzles", Variant::array({1.0, 4.0, 9.0})) == status::BadOutOfRange);
  CHECK(w.write("nozzles", Variant::array({1.0, 4.0})) == status::BadTypeMismatch);

  // An apply that changes nothing of it leaves its value; the device that goes takes it along.
  REQUIRE(w.bind("  'DF1/nozzles[{n}]': hand/n{n}\n  DF1/level: hand/n0\n") == "");
  CHECK(w.value("nozzles").value == Variant::array({1.5, 3.5, 8.0}));
  CHECK(w.value("nozzles").status == status::Good);
  w.hand->sink->link(true, {status::Good, {}, {}});
  w.hand->sink->link(false, {status::BadNoCommunication, "gone", {}});
  CHECK(w.value("nozzles").status == status::BadNoCommunication);
  w.come(0, Variant(1.0));
  CHECK(w.value("nozzles").status == status::BadNoCommunication);  // of the others nothing is known yet
  Result<Trace> way = Error{status::BadTimeout, {}, {}};
  w.devices->explain(w.at("nozzles"), Instant::max(), [&](Result<Trace> told) { way = std::move(told); });
  REQUIRE(way);
  CHECK(way->front().what == "[0] from hand/n0");
  CHECK(way->front().shows == "1 (Good)");
  REQUIRE(w.bind("  DF1/level: hand/n0\n") == "");
  CHECK(w.value("nozzles").status != status::Good);
}

TEST_CASE("what a device says while it leaves is shown nowhere", "[device][composed]") {
  World w;
  REQUIRE(w.bind("  'DF1/nozzles[{n}]': hand/n{n}\n  DF1/level: hand/n0\n") == "");
  w.devices->start();
  w.come(0, Variant(1.0));
  Hand* const old = w.hand;
  old->isSlow = true;
  w.identity = "another";
  // The row is bound no more; the level comes from the new one.
  REQUIRE(w.bind("  DF1/level: hand/n1\n") == "");
  REQUIRE(old != w.hand);
  const auto before = w.value("nozzles");
  old->sink->samples({{0, DataValue(Variant(9.0))}, {1, DataValue(Variant(9.0))}});
  old->sink->link(false, {status::BadNoCommunication, "gone", {}});
  CHECK(w.value("nozzles").value == before.value);
  CHECK(w.value("nozzles").status == before.status);
  CHECK_FALSE(w.value("level").value == Variant(9.0));
  CHECK(w.value("level").status != status::BadNoCommunication);
  old->goodbye();
  w.come(1, Variant(2.5));
  CHECK(w.value("level").value == Variant(2.5));
}

TEST_CASE("fields of a structure come from points, the others stay as they were written", "[device][composed]") {
  World w;
  REQUIRE(w.bind("  DF1/feed.grams: hand/grams\n  DF1/feed.mode: hand/mode\n") == "");
  w.devices->start();
  w.come(3, Variant(std::uint16_t{650}));
  w.come(4, Variant(std::uint16_t{0}));
  CHECK(w.value("feed").status == status::Good);
  CHECK(w.text("feed") == R"({"grams":650,"mode":"Off_0","times":[1.5]})");
  // Another value of the same type, written whole.
  World other;
  REQUIRE(other.bind("  DF1/feed.grams: hand/grams\n  DF1/feed.why: hand/why\n") == "");
  other.devices->start();
  other.come(3, Variant(std::uint16_t{700}));
  other.come(5, Variant("rain"));
  const Variant wanted = other.value("feed").value;
  CHECK(other.text("feed") == R"({"grams":700,"mode":"Auto_1","times":[1.5],"why":"rain"})");
  CHECK(w.write("feed", wanted) == status::Good);
  CHECK(w.hand->written == "grams=700;mode=1;");
  w.come(3, Variant(std::uint16_t{700}));
  w.come(4, Variant(std::uint16_t{1}));
  CHECK(w.value("feed").value == wanted);
  CHECK(w.write("feed", Variant(5)) == status::BadTypeMismatch);
}

TEST_CASE("parts that aren't there, or don't fit, are named", "[device][composed]") {
  struct Row {
    const char *lines, *said;
  };
  for (const Row& row : {
           Row{"  'DF1/nozzles[3]': hand/n0\n", "DF1/nozzles has no part '[3]'"},
           Row{"  DF1/feed.gram: hand/grams\n", "did you mean '.grams'?"},
           Row{"  DF1/feed.grams: hand/flag\n", "DF1/feed.grams is a UInt32, the point flag gives a String"},
           Row{"  DF1/feed.times: hand/n0\n", "DF1/feed.times is a Double[], the point n0 gives a Double"},
           Row{"  DF1/feed.grams: hand/gram\n", "the device hand has no point 'gram'"},
           Row{"  DF1/deep.feed: hand/grams\n", "DF1/deep has no parts that points could be bound to"},
           Row{"  'DF1/any[0]': hand/n0\n", "DF1/any has no parts that points could be bound to"},
           Row{"  'DF1/level[0]': hand/n0\n", "DF1/level has no parts that points could be bound to"},
           Row{"  'DF1/nozzles[0]': hand/n0\n  'DF1/nozzles[{n}]': hand/n{n}\n", "DF1/nozzles[0] is bound twice"},
           Row{"  DF1/level: hand/n0\n  'DF1/nozles[0]': hand/n0\n", "did you mean 'nozzles'?"},
           Row{"  'DF1/nozzles[0]': hand/n0\n  DF1/nozzles: hand/n0\n", "DF1/nozzles is bound twice"},
           Row{"  'DF1/nozzles[{n}]': hand/n0\n", ""},
           Row{"  'DF1/odd[0]': hand/n0\n", ""},
       }) {
    INFO(row.lines);
    World w;
    const std::string said = w.bind(row.lines);
    INFO(said);
    CHECK(said.find(row.said) != std::string::npos);
    CHECK(said.empty() == (*row.said == '\0'));
  }
}

}  // namespace zunth::composition_test
