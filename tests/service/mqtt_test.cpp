// Devices behind a real broker.
#include "service/device/device_file.hpp"
#include "service/device/mqtt_scan.hpp"

#include <condition_variable>

#include "tests/authority.hpp"
#include "tests/service/broker.hpp"
#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <sys/stat.h>

namespace zunth::mqtt_test {

using namespace zunth::ua;
using namespace zunth::device;
using namespace zunth::device::mqtt;

namespace {

struct Made {
  std::optional<MqttPoint> point;
  std::string mistake;
};
Made make(const std::string& words, const char* name = "x") {
  model::Findings findings;
  Conversion conversion;
  Made out{parsePoint({{name, {}}, {words, {"d.yaml", 1, 1, words.size()}}}, conversion, findings), {}};
  if (!findings.list().empty()) out.mistake = findings.list()[0].message;
  return out;
}

/// Keeps what a driver brings, and waits for it.
struct Listener final : Sink {
  bool samples(std::vector<Sample> batch) override {
    const std::lock_guard lock(mutex);
    if (!hasRoom) refused.push_back(batch.size());
    for (auto& sample : batch) came.push_back(std::move(sample));
    changed.notify_all();
    return hasRoom;
  }
  void discovered(std::vector<DevicePoint>) override {}
  void link(bool is, const Error& reason) override {
    const std::lock_guard lock(mutex);
    isConnected = is;
    why = reason;
    changed.notify_all();
  }
  bool isTraced(PointIndex point) const override { return point == traced; }
  template <class Condition>
  bool wait(Condition condition) {
    std::unique_lock lock(mutex);
    return changed.wait_for(lock, std::chrono::seconds(20), condition);
  }
  std::mutex mutex;
  std::condition_variable changed;
  std::vector<Sample> came;
  std::vector<std::size_t> refused;  // how many came each time there was no room
  std::optional<bool> isConnected;
  Error why{status::Good, {}, {}};
  std::atomic<PointIndex> traced = 99;
  std::atomic<bool> hasRoom = true;
};

/// Somebody at the same broker.
struct Speaker final : mqtt::Broker::Listener {
  explicit Speaker(const BrokerSettings& at) : broker(mqtt::Broker::to(at)) { broker->add(*this, {"#"}); }
  ~Speaker() override { broker->remove(*this); }
  void session(bool is, const Error&) override {
    const std::lock_guard lock(mutex);
    isThere = is;
    changed.notify_all();
  }
  void message(const std::string& topic, std::string_view payload, bool) override {
    const std::lock_guard lock(mutex);
    heard[topic] = payload;
    changed.notify_all();
  }
  void tick() override {}
  void say(const std::string& topic, const std::string& payload, bool isKept = false) {
    std::unique_lock lock(mutex);
    REQUIRE(changed.wait_for(lock, std::chrono::seconds(20), [this] { return isThere; }));
    bool isSent = false;
    lock.unlock();
    broker->publish(topic, payload, isKept, [&](Error error) {
      const std::lock_guard again(mutex);
      isSent = error.code.isGood();
      changed.notify_all();
    });
    lock.lock();
    REQUIRE(changed.wait_for(lock, std::chrono::seconds(20), [&] { return isSent; }));
  }
  std::shared_ptr<mqtt::Broker> broker;
  std::mutex mutex;
  std::condition_variable changed;
  bool isThere = false;
  std::map<std::string, std::string> heard;
};

BrokerSettings at(const test::Broker& broker, int version = 5) {
  BrokerSettings out;
  out.port = static_cast<std::uint16_t>(broker.port);
  out.version = version;
  return out;
}

struct Watched {
  explicit Watched(MqttSettings settings, std::vector<MqttPoint> points) : device(std::move(settings), points) {
    std::vector<Wish> all;
    for (PointIndex i = 0; i < points.size(); ++i) all.push_back({i, std::chrono::seconds(1)});
    device.want(all);
    device.start(sink);
  }
  std::vector<Error> write(std::vector<PointWrite> writes) {
    std::optional<std::vector<Error>> outcomes;
    device.write(std::move(writes), std::chrono::steady_clock::now() + std::chrono::seconds(20), [&](auto told) {
      const std::lock_guard lock(sink.mutex);
      outcomes = std::move(told);
      sink.changed.notify_all();
    });
    REQUIRE(sink.wait([&] { return outcomes.has_value(); }));
    return *outcomes;
  }
  bool hasCome(PointIndex point, const Variant& value, StatusCode code = status::Good) {
    return sink.wait([&] {
      return std::ranges::any_of(sink.came, [&](const Sample& sample) {
        return sample.point == point && sample.value.value == value && sample.value.status == code;
      });
    });
  }
  Listener sink;
  MqttDevice device;
};

}  // namespace

TEST_CASE("a payload is a value, its status and its time", "[device][mqtt]") {
  const DateTime now{133'000'000'000'000'000};
  struct Row {
    const char *words, *payload;
    Variant value;
    StatusCode code = status::Good;
    const char* time = nullptr;
  };
  for (const Row& row : std::vector<Row>{
           {"t", "9.5", Variant(9.5)},
           {"t", "open", Variant("open")},
           {"t $.o2", R"({"o2": 9})", Variant(std::uint64_t{9})},
           {"t $.a[1].b", R"({"a": [1, {"b": true}]})", Variant(true)},
           {"t $.o2", "{\"o2\": [1, 2]}", Variant::array({std::uint64_t{1}, std::uint64_t{2}})},
           {"t $.o2", "{\"o2\": [1, -2]}", Variant::array({std::int64_t{1}, std::int64_t{-2}})},
           {"t $.o2", "{\"o2\": [1, 2.5]}", Variant::array({1.0, 2.5})},
           {"t $.o2", R"({"o2": ["a", "b"]})", Variant::array({String("a"), String("b")})},
           {"t $.o2", R"({"o2": []})", Variant::array(std::vector<double>())},
           {"t $.o2", R"({"o2": [1, "b"]})", {}, status::BadNoData},
           {"t $.o2", R"({"o2": [[1]]})", {}, status::BadNoData},
           {"t $.o2", R"({"ph": 7})", {}, status::BadNoData},
           {"t $.o2", R"({"o2": {"deep": 1}})", {}, status::BadNoData},
           {"t $.o2", "{", {}, status::BadDecodingError},
           {"t $.o2", "", {}, status::BadDecodingError},
           {"t $.o2 time $.at", R"({"o2": 1.5, "at": "2026-05-04T07:30:00.125Z"})", Variant(1.5), status::Good,
            "2026-05-04T07:30:00.125Z"},
           {"t $.o2 time $.at", R"({"o2": 1.5, "at": 1777879800})", Variant(1.5), status::Good, "2026-05-04T07:30:00Z"},
           {"t $.o2 time $.at", R"({"o2": 1.5, "at": 1777879800500})", Variant(1.5), status::Good,
            "2026-05-04T07:30:00.5Z"},
           {"t $.o2 time $.at", R"({"o2": 1.5, "at": 1e300})", Variant(1.5)},
       }) {
    INFO(row.words << " of " << row.payload);
    const auto made = make(row.words);
    REQUIRE(made.point);
    const auto value = valueIn(*made.point, Message("t", row.payload, false), now);
    CHECK(value.status == row.code);
    CHECK(value.value == row.value);
    CHECK(value.sourceTimestamp == (row.time ? *DateTime::parse(row.time) : now));
  }
  const std::string deep(100'000, '[');
  CHECK(valueIn(*make("t $.x").point, Message("t", deep, false), now).status == status::BadDecodingError);
}

TEST_CASE("values come through the broker, and what is written goes through it", "[device][mqtt]") {
  const test::Broker broker;
  for (const int version : {4, 5}) {
    Speaker speaker(at(broker, version));
    Watched w({at(broker, version), {}, {}, 0}, {*make("hall/+/o2").point, *make("hall/a1/state $.t").point,
                                                 *make("hall/a1/air send hall/a1/air/set kept").point});
    REQUIRE(w.sink.wait([&] { return w.sink.isConnected == true; }));
    speaker.say("hall/a1/o2", "9.25");
    speaker.say("hall/a1/state", R"({"t": 11.5})");
    CHECK(w.hasCome(0, Variant(9.25)));
    CHECK(w.hasCome(1, Variant(11.5)));
    const auto outcomes = w.write({{2, Variant(true)}, {0, Variant(1.0)}});
    CHECK(outcomes[0].code.isGood());
    CHECK(outcomes[1].code == status::BadNotWritable);
    std::unique_lock lock(speaker.mutex);
    CHECK(speaker.changed.wait_for(lock, std::chrono::seconds(20),
                                   [&] { return speaker.heard["hall/a1/air/set"] == "true"; }));
  }
}

TEST_CASE("who wants the same again misses nothing, and gets nothing twice", "[device][mqtt]") {
  const test::Broker broker;
  Speaker speaker(at(broker, 4));  // in a session of its own: the broker sends once for each filter of a session
  speaker.say("hall/goal", "9", true);
  Watched w({at(broker), {}, {}, 0}, {*make("hall/goal").point, *make("hall/other").point});
  REQUIRE(w.hasCome(0, Variant(std::int64_t{9}), status::UncertainLastUsableValue));
  for (std::int64_t i = 10; i < 60; ++i) {
    w.device.want({{0, std::chrono::seconds(1)}});
    speaker.say("hall/goal", std::to_string(i), true);
    w.device.want({{0, std::chrono::seconds(1)}, {1, std::chrono::seconds(1)}});
  }
  REQUIRE(w.hasCome(0, Variant(std::int64_t{59})));
  const std::lock_guard lock(w.sink.mutex);
  std::int64_t next = 9;
  for (const auto& sample : w.sink.came) CHECK(sample.value.value == Variant(next++));
}

TEST_CASE("who has no room gets the last of each point, and all of it later", "[device][mqtt]") {
  const test::Broker broker;
  Speaker speaker(at(broker));
  Watched w({at(broker), {}, {}, 0}, {*make("hall/level").point});
  REQUIRE(w.sink.wait([&] { return w.sink.isConnected == true; }));
  w.sink.hasRoom = false;
  const auto begun = std::chrono::steady_clock::now();
  for (int i = 0; i < 200; ++i) speaker.say("hall/level", std::to_string(i));
  std::vector<std::size_t> refused;
  {
    const std::lock_guard lock(w.sink.mutex);
    refused = w.sink.refused;
  }
  // One at a time, and no more often than the broker's turns come, however slow the machine is.
  constexpr auto kTurn = std::chrono::milliseconds(100);
  const auto turns = (std::chrono::steady_clock::now() - begun) / kTurn;
  CHECK(refused.size() <= static_cast<std::size_t>(turns) + 2);
  CHECK(std::ranges::count(refused, 1u) == static_cast<std::ptrdiff_t>(refused.size()));
  w.sink.hasRoom = true;
  CHECK(w.hasCome(0, Variant(std::int64_t{199})));
}

TEST_CASE("what was held up on its way is not the newest", "[device][mqtt]") {
  const test::Broker broker;
  Speaker speaker(at(broker, 4));  // in a session of its own: the broker sends once for each filter of a session
  Watched w({at(broker), {}, {}, 0}, {*make("hall/level $.v time $.at").point, *make("hall/level $.v").point});
  REQUIRE(w.sink.wait([&] { return w.sink.isConnected == true; }));
  const auto now = std::chrono::system_clock::now();
  // A clock that was an hour ahead is set right, then two come in the wrong order.
  for (const int minutes : {60, 0, -20, -10, 1}) {
    const auto time = DateTime::from(now + std::chrono::minutes(minutes) - std::chrono::minutes(5)).text();
    speaker.say("hall/level", fmt::format("{{\"v\": {}, \"at\": \"{}\"}}", minutes, time));
  }
  REQUIRE(w.hasCome(0, Variant(std::uint64_t{1})));
  REQUIRE(w.hasCome(1, Variant(std::uint64_t{1})));
  std::string kinds, others;
  const std::lock_guard lock(w.sink.mutex);
  for (const auto& sample : w.sink.came)
    (sample.point == 0 ? kinds : others) += sample.kind == Sample::Kind::Past ? 'p' : 'c';
  CHECK(kinds == "ccppc");
  CHECK(others == "ccccc");
}

TEST_CASE("names of what is heard are names, whoever chose the topics", "[device][mqtt]") {
  const auto points = mqtt::propose("a: Double\n  evil/{1..9}", R"({"x": 1, "y\n: z": 2, "at": 5})");
  for (const auto& point : points)
    CHECK(point.name.find_first_not_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") ==
          std::string::npos);
  const auto plain = mqtt::propose("hall/a1", R"({"x": {"y": [1, true]}, "at": 5})");
  REQUIRE(plain.size() == 2);
  CHECK(plain[0].name == "hall_a1_x_y_0");
  CHECK(plain[0].words == "hall/a1 $.x.y[0] time $.at");
}

TEST_CASE("what the broker had kept is as old as nobody knows", "[device][mqtt]") {
  const test::Broker broker;
  Speaker speaker(at(broker));
  speaker.say("hall/a1/goal", "9", true);
  Watched w({at(broker), {}, {}, 0}, {*make("hall/a1/goal").point});
  CHECK(w.hasCome(0, Variant(std::int64_t{9}), status::UncertainLastUsableValue));
  speaker.say("hall/a1/goal", "10", true);
  CHECK(w.hasCome(0, Variant(std::int64_t{10})));
}

TEST_CASE("a device is there when it says so, and gone by its last will, by silence, or with the broker",
          "[device][mqtt]") {
  test::Broker broker;
  auto speaker = std::make_unique<Speaker>(at(broker));
  Watched alive({at(broker), "hall/state", "online", 0}, {*make("hall/a1/o2").point});
  Watched quiet({at(broker), {}, {}, 300},
                {*make("hall/a1/o2").point, *make("hall/a1/air send hall/a1/air/set").point});
  REQUIRE(alive.sink.wait([&] { return alive.sink.why.cause == "hall/state does not say 'online'"; }));
  speaker->say("hall/a1/o2", "9.5");
  speaker->say("hall/state", "online", true);
  // What came before that was known is not lost.
  CHECK(alive.hasCome(0, Variant(9.5)));
  CHECK(alive.sink.wait([&] { return alive.sink.isConnected == true; }));
  speaker->say("hall/state", "offline", true);
  CHECK(alive.sink.wait([&] { return alive.sink.isConnected == false; }));
  speaker->say("hall/state", "online", true);
  CHECK(alive.sink.wait([&] { return alive.sink.isConnected == true; }));

  CHECK(quiet.sink.wait([&] { return quiet.sink.why.cause == "nothing has come for 0.3 s"; }));
  speaker->say("hall/a1/o2", "9.75");
  CHECK(quiet.hasCome(0, Variant(9.75)));

  broker.stop();
  CHECK(alive.sink.wait([&] { return alive.sink.isConnected == false; }));
  CHECK(alive.write({{0, Variant(1)}})[0].code == status::BadNotWritable);
  CHECK(quiet.write({{1, Variant(true)}})[0].code == status::BadNoCommunication);
  broker.start();
  // Its last word is not known to a broker that forgets.
  speaker->say("hall/state", "online", true);
  speaker->say("hall/a1/o2", "7.5");
  CHECK(alive.hasCome(0, Variant(7.5)));
  // What was refused is not sent later: what comes next is the first that is heard.
  REQUIRE(quiet.sink.wait([&] { return quiet.sink.isConnected == true; }));
  CHECK(quiet.write({{1, Variant(false)}})[0].code.isGood());
  std::unique_lock lock(speaker->mutex);
  CHECK(speaker->changed.wait_for(lock, std::chrono::seconds(20),
                                  [&] { return speaker->heard["hall/a1/air/set"] == "false"; }));
}

TEST_CASE("who may not use a broker is told by whom", "[device][mqtt]") {
  const test::Broker broker("allow_anonymous false\n");
  Watched w({at(broker), {}, {}, 0}, {*make("x").point});
  CHECK(w.sink.wait([&] { return w.sink.why.code == status::BadUserAccessDenied; }));
  CHECK(w.sink.why.cause.find("the broker 127.0.0.1:") == 0);
}

TEST_CASE("a password stands in a file that goes nowhere", "[device][mqtt]") {
  const test::TemporaryFolder site;
  site.write("secrets/broker.txt", "trout and salmon\r\nnot this\n");
  site.write("secrets/empty.txt", "");
  site.write("secrets/large.txt", std::string(5'000, 'x'));
  REQUIRE(::mkfifo((site.path / "secrets/pipe.txt").c_str(), 0600) == 0);
  site.write("elsewhere.txt", "root:x:0\n");
  const auto passwords = (site.path / "passwords").string();
  test::Process made(
      std::vector<std::string>{"/usr/bin/mosquitto_passwd", "-b", "-c", passwords, "probes", "trout and salmon"});
  REQUIRE(made.wait() == 0);
  const test::Broker broker("allow_anonymous false\nuser root\npassword_file " + passwords + "\n");
  const auto file = [&](const std::string& more, model::Findings& findings) {
    return readDeviceFile("d", "devices/d.yaml",
                          "driver: mqtt\nbroker: " + broker.address() + "\nuser: probes\n" + more + "points:\n  x: t\n",
                          findings, site.path);
  };
  model::Findings none;
  const auto device = file("password-file: broker.txt\n", none);
  REQUIRE(none.list().empty());
  Listener sink;
  const auto driver = device.makeDriver();
  driver->start(sink);
  CHECK(sink.wait([&] { return sink.isConnected.has_value(); }));
  CHECK(sink.isConnected == true);
  // Another one makes it another device, which is connected anew.
  site.write("secrets/broker.txt", "changed\n");
  CHECK(file("password-file: broker.txt\n", none).identity != device.identity);
  for (const auto& [more, mistake] : std::vector<std::pair<const char*, const char*>>{
           {"password-file: nowhere.txt\n", "secrets/nowhere.txt holds nothing that can be read"},
           {"password-file: large.txt\n", "secrets/large.txt holds nothing that can be read"},
           {"password-file: pipe.txt\n", "secrets/pipe.txt holds nothing that can be read"},
           {"password-file: empty.txt\n", "secrets/empty.txt holds nothing that can be read"},
           {"password-file: ../elsewhere.txt\n", "'../elsewhere.txt' is no file in secrets/"},
           {"password-file: /etc/shadow\n", "'/etc/shadow' is no file in secrets/"},
           {"password-file: ..\n", "'..' is no file in secrets/"},
           {"password: x\npassword-file: broker.txt\n", "there are two passwords"}}) {
    INFO(more);
    model::Findings findings;
    file(more, findings);
    REQUIRE(findings.list().size() == 1);
    CHECK(findings.list()[0].message == mistake);
  }
}

TEST_CASE("a broker is believed by its certificate alone", "[device][mqtt]") {
  const test::Authority authority, stranger;
  const auto own = authority.issue({});
  const test::TemporaryFolder files;
  files.write("authority.pem", authority.certificate().pem());
  files.write("stranger.pem", stranger.certificate().pem());
  files.write("own.pem", own.certificate.pem());
  files.write("own.key", own.key.pem());
  const std::string at = files.path.string();
  // As root it would give up its rights before it reads these.
  const test::Broker broker("allow_anonymous true\nuser root\ncertfile " + at + "/own.pem\nkeyfile " + at +
                            "/own.key\n");
  struct Row {
    const char* authority;
    bool isBelieved;
  };
  for (const Row& row :
       {Row{"authority.pem", true}, Row{"stranger.pem", false}, Row{"none.pem", false}, Row{"", false}}) {
    INFO(row.authority);
    auto settings = mqtt_test::at(broker);
    settings.authority = *row.authority ? at + "/" + row.authority : "";
    Watched w({settings, {}, {}, 0}, {*make("x").point});
    REQUIRE(w.sink.wait([&] { return w.sink.isConnected.has_value(); }));
    CHECK(w.sink.isConnected == row.isBelieved);
  }
}

TEST_CASE("who looks is shown the message", "[device][mqtt]") {
  const test::Broker broker;
  Speaker speaker(at(broker));
  Watched w({at(broker), {}, {}, 0}, {*make("hall/state $.t").point});
  speaker.say("hall/state", R"({"t": 11.5})");
  REQUIRE(w.hasCome(0, Variant(11.5)));
  w.sink.traced = 0;
  bool isDone = false;
  w.device.refresh({0}, std::chrono::steady_clock::now() + std::chrono::seconds(5), [&] { isDone = true; });
  CHECK(isDone);
  const std::lock_guard lock(w.sink.mutex);
  REQUIRE(w.sink.came.back().trace);
  CHECK((*w.sink.came.back().trace)[1].shows == R"({"t": 11.5})");
}

TEST_CASE("mistakes in topics are named", "[device][mqtt]") {
  struct Row {
    const char *words, *mistake;
  };
  for (const Row& row : {Row{"a#b", "'a#b' is no topic"}, Row{"t $", ""}, Row{"t $..a", "'$..a' is no path into JSON"},
                         Row{"t time at", "'time' needs a path into JSON"},
                         Row{"t send a/+", "'send' needs the topic that what is written goes to"},
                         Row{"t loud", "'loud' means nothing here"}}) {
    INFO(row.words);
    CHECK(make(row.words).mistake == row.mistake);
  }
}

}  // namespace zunth::mqtt_test
