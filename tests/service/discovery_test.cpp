// Points that devices discover by themselves, and the nodes that show them.
#include "core/space/namespace0.hpp"
#include "core/ua/json_type.hpp"
#include "service/admin/discovery_file.hpp"
#include "service/device/topic_pattern.hpp"

#include <thread>

#include "tests/service/broker.hpp"
#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <mosquitto.h>

namespace zunth::discovery_test {

using namespace zunth::ua;
using namespace zunth::device;
using namespace zunth::test;
using space::NodeIndex;

namespace {

/// Shows what a test tells it to, and remembers what is written.
class Explorer final : public Driver {
 public:
  explicit Explorer(std::vector<Point> points) : points_(std::move(points)) {}
  const std::vector<Point>& points() const override { return points_; }
  std::vector<DevicePoint> remember(const std::vector<Discovered>& known) override { return make(known); }
  void start(Sink& sink) override { this->sink = &sink; }
  void stop(std::function<void()> done) override { done(); }
  void want(std::vector<Wish> wishes) override { wanted = std::move(wishes); }
  void refresh(std::vector<PointIndex>, Instant, std::function<void()> done) override { done(); }
  void write(std::vector<PointWrite> writes, Instant, WritesDone done) override {
    for (const auto& write : writes) written.emplace_back(points_[write.point].name, write.value);
    done(std::vector<Error>(writes.size(), Error{status::Good, {}, {}}));
  }
  void act(std::vector<Step>, Instant, ActDone done) override { done(std::vector<Variant>()); }
  void discover(const std::vector<Discovered>& points) { sink->discovered(make(points)); }

  Sink* sink = nullptr;
  std::vector<Wish> wanted;
  std::vector<std::pair<std::string, Variant>> written;

 private:
  std::vector<DevicePoint> make(const std::vector<Discovered>& known) {
    std::vector<DevicePoint> out;
    for (const auto& each : known) {
      points_.push_back({each.name, each.type, each.words == "writable", each.words});
      out.push_back({points_.back(), {}});
    }
    return out;
  }
  std::vector<Point> points_;
};

struct Memory final : DiscoveredPoints {
  std::vector<Discovered> of(const DeviceFile& device) const override {
    const auto found = known.find(device.name + " " + device.discovers);
    return found == known.end() ? std::vector<Discovered>() : found->second;
  }
  void add(const DeviceFile& device, const std::vector<Discovered>& points) override {
    auto& list = known[device.name + " " + device.discovers];
    list.insert(list.end(), points.begin(), points.end());
  }
  void forget(const std::string& device) override {
    std::erase_if(known, [&](const auto& entry) { return entry.first.starts_with(device + " "); });
  }
  std::map<std::string, std::vector<Discovered>> known;
};

/// A device with one point of its own, which may discover more.
struct World {
  explicit World(Memory& memory) : space("urn:fernhollow.example:test") {
    space::loadNamespace0(space);
    BoundDevices::Loop loop;
    loop.post = [](auto work) { work(); };
    loop.served = [] {};
    loop.modelChanged = [this](auto told) { changes.push_back(told); };
    loop.after = [this](Duration, auto work) { later.push_back(std::move(work)); };
    loop.interest = [this](NodeIndex variable) {
      const auto found = interests.find(variable);
      return found == interests.end() ? std::nullopt : std::optional(found->second);
    };
    loop.past = [this](NodeIndex variable, DataValue value) { past.emplace_back(variable, value.value); };
    loop.discovered = &memory;
    devices = std::make_shared<BoundDevices>(space, owners, std::move(loop));
  }
  DeviceFile file(const std::string& discovers) {
    DeviceFile out;
    out.name = "brook";
    out.identity = out.discovers = discovers;
    const Point own{"level", BuiltInType::Double, false, "own"};
    out.points.push_back({own, {}});
    out.makeDriver = [this, own] {
      auto made = std::make_unique<Explorer>(std::vector{own});
      driver = made.get();
      return made;
    };
    return out;
  }
  NodeIndex at(const std::string& path) const { return space.find(NodeId(1, String("devices/brook/Points/" + path))); }
  DataValue value(const std::string& path) const { return space.value(at(path)); }
  space::Space space;
  space::Owners owners;
  std::vector<std::vector<ModelChangeStructureDataType>> changes;
  /// The wishes that the driver has: "level 500, count 1000".
  std::string wished() const {
    std::string out;
    for (const auto& wish : driver->wanted)
      out += fmt::format("{}{} {}", out.empty() ? "" : ", ", driver->points()[wish.point].name,
                         std::chrono::duration_cast<std::chrono::milliseconds>(wish.every).count());
    return out;
  }
  void pass() {
    for (auto& work : std::exchange(later, {})) work();
  }
  std::map<NodeIndex, double> interests;
  std::vector<std::pair<NodeIndex, Variant>> past;
  std::vector<std::function<void()>> later;
  Explorer* driver = nullptr;
  std::shared_ptr<BoundDevices> devices;
};

}  // namespace

TEST_CASE("a topic makes the point that its pattern says, or none", "[device][mqtt]") {
  model::Findings findings;
  const auto root = model::readYaml(
      "d.yaml", "\"{tank}/{kind}\": hall/{tank}/probe-{kind}/state $.{kind} send set/{tank}\n", findings);
  const auto pattern = mqtt::TopicPattern::read(root.entries.at(0), findings);
  REQUIRE(pattern);
  CHECK(pattern->filter() == "hall/+/+/state");
  const auto point = pattern->pointOf("hall/a1/probe-o2/state");
  REQUIRE(point);
  CHECK(point->name.text == "a1/o2");
  CHECK(point->words.text == "hall/a1/probe-o2/state $.o2 send set/a1");
  for (const char* topic :
       {"", "hall/a1/probe-o2", "hall/a1/probe-o2/state/x", "hall/a1/prob/state", "hall/a1/probe-/state",
        "hall/a 1/probe-o2/state", "hall/a1/probe-{tank}/state", "hall/'/probe-o2/state", "hall//probe-o2/state",
        "hall/$x/probe-o2/state", "hall/a\n/probe-o2/state"}) {
    INFO(topic);
    CHECK_FALSE(pattern->pointOf(topic));
  }
  CHECK(pattern->pointOf("hall/" + std::string(64, 'a') + "/probe-o2/state"));
  CHECK_FALSE(pattern->pointOf("hall/" + std::string(65, 'a') + "/probe-o2/state"));
}

TEST_CASE("what can't be discovered is a finding", "[device]") {
  for (const auto& [driver, lines, said] : std::vector<std::tuple<std::string, std::string, std::string>>{
           {"mqtt", "discover: {'{t}': a/b}", "'a/b' has no placeholder: it is a single point"},
           {"mqtt", "discover: {'x': 'a/{t}'}", "the name lacks {t}: several topics would be one point"},
           {"mqtt", "discover: {'{t}/{u}': 'a/{t}'}", "{u} is nowhere in the topic"},
           {"mqtt", "discover: {'{t}': 'a/{t}/+'}", "'+' stands for what no name can tell"},
           {"mqtt", "discover: {'{t}{u}': 'a/{t}{u}'}", "'{t}{u}' is more than one placeholder"},
           {"mqtt", "discover: {'{t}': 'a/{t} $.{u}'}", "{u} is nowhere in the topic"},
           {"mqtt", "discover: {'{t}': 'a/{t} skale 2'}", "'skale' means nothing here"},
           {"mqtt", "discover: {'{t}': }", "'{t}' has no topic"},
           {"mqtt", "discover: everything", "'discover' has no patterns"},
           {"dnp3", "discover: analogue", "there is no kind of point 'analogue'"},
           {"dnp3", "discover: []", "'discover' names no kind"},
           {"simulation", "discover: everything", "'discover' means nothing here"}}) {
    INFO(lines);
    model::Findings findings;
    readDeviceFile("d", "devices/d.yaml", "driver: " + driver + "\n" + lines + "\n", findings);
    REQUIRE_FALSE(findings.list().empty());
    CHECK(findings.list()[0].message.find(said) != std::string::npos);
  }
  for (const char* whole : {"driver: dnp3\ndiscover: analog, counter\n", "driver: dnp3\ndiscover: [binary]\n",
                            "driver: mqtt\ndiscover: {'{t}': 'a/{t} $.x scale 2'}\n"}) {
    model::Findings findings;
    const auto file = readDeviceFile("d", "devices/d.yaml", whole, findings);
    CHECK(findings.list().empty());
    CHECK(file.room() == kMostDiscovered);
  }
}

TEST_CASE("what a device discovers becomes nodes, and stays while its file asks for the same", "[device]") {
  Memory memory;
  const std::vector<Discovered> found{{"analog/3", "analog 3", BuiltInType::Double},
                                      {"binary/0", "binary 0", BuiltInType::Boolean},
                                      {"gate", "writable", BuiltInType::Double}};
  {
    World w(memory);
    w.devices->rebind({w.file("everything")}, {});
    w.devices->start();
    CHECK(w.at("analog") == space::kNoNode);
    w.driver->discover(found);
    REQUIRE(w.at("analog/3") != space::kNoNode);
    CHECK(w.value("analog/3").status == status::BadWaitingForInitialData);
    w.driver->sink->samples({{1, DataValue(Variant(7.5))}, {2, DataValue(Variant(true))}});
    CHECK(w.value("analog/3").value == Variant(7.5));
    CHECK(w.value("binary/0").value == Variant(true));
    CHECK(w.space.traits(w.at("binary/0")).dataType == w.space.at(id::Boolean));
    CHECK(w.driver->wanted.size() == 3);
    CHECK(w.changes.size() == 1);
    // Through the node to the device, where it is to be written.
    w.devices->write({{w.at("gate"), Variant(3.0)}}, Instant::max(), [](std::size_t, const Error&) {});
    CHECK(w.driver->written == std::vector{std::pair(std::string("gate"), Variant(3.0))});
    CHECK((w.space.traits(w.at("gate")).accessLevel & AccessLevelType::CurrentWrite) != 0);
    CHECK((w.space.traits(w.at("analog/3")).accessLevel & AccessLevelType::CurrentWrite) == 0);
    // An apply that changes nothing of it leaves driver, nodes and values; another point comes behind.
    Explorer* const before = w.driver;
    w.devices->rebind({w.file("everything")}, {});
    CHECK(w.driver == before);
    CHECK(w.value("analog/3").status == status::Good);
    w.driver->discover({{"analog/4", "analog 4", BuiltInType::Double}});
    w.driver->sink->samples({{4, DataValue(Variant(1.0))}, {1, DataValue(Variant(8.5))}});
    CHECK(w.value("analog/4").value == Variant(1.0));
    CHECK(w.value("analog/3").value == Variant(8.5));
  }
  // The next run has them all before the device says a word.
  World w(memory);
  w.devices->rebind({w.file("everything")}, {});
  CHECK(w.value("analog/4").status == status::BadWaitingForInitialData);
  w.devices->start();
  w.driver->sink->samples({{4, DataValue(Variant(2.0))}});
  CHECK(w.value("analog/4").value == Variant(2.0));
  // A file that asks for something else begins anew, and what isn't there any more is forgotten.
  w.devices->rebind({w.file("analog")}, {});
  CHECK(w.at("analog/4") == space::kNoNode);
  w.driver->discover({{"analog/4", "analog 4", BuiltInType::Double}});
  CHECK(w.at("analog/4") != space::kNoNode);
  CHECK(w.at("binary/0") == space::kNoNode);
  w.devices->rebind({w.file("")}, {});
  CHECK(w.at("analog/4") == space::kNoNode);
  CHECK(w.at("analog") == space::kNoNode);
  CHECK(memory.known.empty());
  // A name that is a folder, or too deep, is no variable; the others are.
  w.devices->rebind({w.file("everything")}, {});
  std::string deep = "a";
  for (int i = 0; i < 20; ++i) deep += "/a";
  w.driver->discover({{"x/y", "", BuiltInType::Double},
                      {"x", "", BuiltInType::Double},
                      {deep, "", BuiltInType::Double},
                      {"z", "", BuiltInType::Double}});
  CHECK(w.space.nodeClass(w.at("x")) == NodeClass::Object);
  w.driver->sink->samples({{2, DataValue(Variant(1.0))}, {3, DataValue(Variant(1.0))}, {4, DataValue(Variant(2.0))}});
  CHECK(w.value("z").value == Variant(2.0));
}

TEST_CASE("what is read when somebody asks is read as fast as they ask, and no faster", "[device]") {
  Memory memory;
  World w(memory);
  const auto add = [&](const char* name) {
    space::NewNode made;
    made.nodeId = NodeId(1, String(name));
    made.nodeClass = NodeClass::Variable;
    made.browseName = {1, String(name)};
    made.traits.dataType = w.space.at(id::Double);
    return *w.space.add(std::move(made));
  };
  const NodeIndex first = add("first"), second = add("second");
  auto file = w.file("");
  file.every = 1'000;
  file.isWhenAsked = true;
  Bindings bindings;
  bindings.variables = {{first, 0, 0}, {second, 0, 0}};  // two that show the same point
  w.devices->rebind({file}, bindings);
  w.devices->start();
  CHECK(w.wished() == "");
  w.interests[first] = 5'000;
  w.pass();
  CHECK(w.wished() == "level 5000");
  w.interests[second] = 2'000;
  w.pass();
  CHECK(w.wished() == "level 2000");
  w.interests[second] = 0;  // history, which takes all
  w.pass();
  CHECK(w.wished() == "level 1000");
  w.interests.clear();
  w.pass();
  CHECK(w.wished() == "");
  // What comes late is for history alone.
  w.driver->sink->samples({{0, DataValue(Variant(7.0))}});
  w.driver->sink->samples({{0, DataValue(Variant(5.0)), {}, Sample::Kind::Past}});
  CHECK(w.space.value(first).value == Variant(7.0));
  CHECK(w.past == std::vector{std::pair(first, Variant(5.0)), std::pair(second, Variant(5.0))});
  CHECK(w.devices->states()[0].health.good == 1);
  // In its beat again, nobody is asked any more.
  file.isWhenAsked = false;
  w.devices->rebind({file}, bindings);
  CHECK(w.wished() == "level 1000");
  w.pass();
  CHECK(w.later.empty());
}

TEST_CASE("a beat is a time, and whether it goes by who asks", "[device]") {
  const auto read = [](const std::string& lines, model::Findings& findings) {
    return readDeviceFile("d", "devices/d.yaml", "driver: simulation\n" + lines, findings);
  };
  model::Findings none;
  const auto file = read(
      "every: 2 s when asked\npoints: {a: constant 1, b: {point: constant 2, every: 1 min}}\n"
      "groups: {slow: {every: 3 s when asked, points: {c: constant 3}}}\n",
      none);
  REQUIRE(none.list().empty());
  CHECK(file.beatOf(0) == 2'000);
  CHECK(file.isWhenAskedFor(0));
  CHECK(file.beatOf(1) == 60'000);
  CHECK_FALSE(file.isWhenAskedFor(1));
  CHECK(file.beatOf(2) == 3'000);
  CHECK(file.isWhenAskedFor(2));
  for (const char* beat : {"when asked", "2 s if asked", "0 s", "fast when asked"}) {
    model::Findings findings;
    read(std::string("every: ") + beat + "\npoints: {a: constant 1}\n", findings);
    REQUIRE(findings.list().size() == 1);
    CHECK(findings.list()[0].message == std::string("'") + beat + "' is no beat");
  }
}

TEST_CASE("what is discovered is kept on disk, and a damaged file isn't written over", "[device]") {
  const TemporaryFolder folder;
  std::vector<std::function<void()>> later;
  const auto parts = [&] {
    return admin::DiscoveryFile::Parts{folder.path / "discovered.json",
                                       [&](Duration, auto work) { later.push_back(std::move(work)); },
                                       [](auto work) { work(); }};
  };
  DeviceFile brook;
  brook.name = "brook";
  brook.discovers = "everything";
  const auto names = [&](const admin::DiscoveryFile& file) {
    std::string out;
    for (const auto& point : file.of(brook))
      out += point.name + "=" + point.words + " " + nameOf(point.type).data() + ";";
    return out;
  };
  admin::DiscoveryFile first(parts());
  REQUIRE(first.load());
  first.add(brook, {{"a/1", "analog 1", BuiltInType::Double}});
  first.add(brook, {{"b/1", "binary 1", BuiltInType::Boolean}});
  REQUIRE(later.size() == 1);  // for both
  later[0]();
  admin::DiscoveryFile second(parts());
  REQUIRE(second.load());
  CHECK(names(second) == "a/1=analog 1 Double;b/1=binary 1 Boolean;");
  brook.discovers = "analog";
  CHECK(names(second).empty());
  second.add(brook, {{"a/2", "analog 2", BuiltInType::Double}});
  second.finish();
  admin::DiscoveryFile third(parts());
  REQUIRE(third.load());
  CHECK(names(third) == "a/2=analog 2 Double;");
  third.forget("brook");
  third.finish();
  for (
      const char* damaged :
      {"{", "{\"version\": 1, \"devices\": [{\"name\": \"x\"}]}",
       R"({"version": 1, "devices": [{"name": "x", "discover": "y", "points": [{"name": "a", "is": "b", "type": "Duoble"}]}]})"}) {
    folder.write("discovered.json", damaged);
    admin::DiscoveryFile file(parts());
    const auto loaded = file.load();
    REQUIRE_FALSE(loaded);
    CHECK(loaded.error().code == status::BadConfigurationError);
    CHECK(loaded.error().cause.find("discovered.json can't be read") != std::string::npos);
    file.add(brook, {{"a/1", "analog 1", BuiltInType::Double}});
    file.finish();
    CHECK_FALSE(admin::DiscoveryFile(parts()).load());
  }
  folder.write("discovered.json", R"({"version": 2, "devices": []})");
  CHECK(admin::DiscoveryFile(parts()).load().error().code == status::BadNotSupported);
}

TEST_CASE("more than there is room for is left out", "[device][mqtt]") {
  const Broker broker;
  model::Findings findings;
  const auto file = readDeviceFile(
      "d", "devices/d.yaml", "driver: mqtt\nbroker: " + broker.address() + "\ndiscover: {'{t}': 'a/{t}'}\n", findings);
  REQUIRE(findings.list().empty());
  const auto driver = file.makeDriver();
  std::vector<Discovered> many;
  for (std::size_t i = 0; i < kMostDiscovered + 5; ++i)
    many.push_back({std::to_string(i), "a/" + std::to_string(i), BuiltInType::Double});
  CHECK(driver->remember(many).size() == kMostDiscovered);
}

namespace {

/// A site of its own with what speaks MQTT and DNP3.
struct Shore {
  Shore() {
    startOutstation("0");
    folder.write("site/site.yaml",
                 "name: Shore\nuri: urn:fernhollow.example:shore\nendpoint: opc.tcp://127.0.0.1:0\nsecurity:\n  "
                 "unsecured: on\n  anonymous: on\n");
    folder.write("site/model/plant.yaml",
                 "namespace: http://fernhollow.example/shore\nobjects:\n  A:\n    b: Double\n");
    folder.write("site/devices/probes.yaml",
                 "driver: mqtt\nbroker: " + broker.address() +
                     "\ndiscover:\n  '{tank}/{what}': hall/{tank}/{what} send hall/{tank}/{what}/set\n");
    folder.write("site/devices/intake.yaml",
                 "driver: dnp3\nport: " + port + "\nevery: 100 ms\ndiscover: everything\npoints:\n  level: analog 0\n");
    start();
  }
  void startOutstation(const std::string& at) {
    outstation = std::make_unique<Process>(
        std::vector<std::string>{program("zunth-sim"), "outstation", "--port", at, "--speedup", "10"});
    const std::string line = outstation->line();
    port = line.substr(line.rfind(':') + 1);
  }
  void start() {
    service = std::make_unique<Process>(
        std::vector<std::string>{program("zunthd"), (folder.path / "site").string(), "--log", "off"});
    const std::string line = service->line();
    url = line.substr(line.find("opc.tcp"));
  }
  /// Sends a message and waits until the broker has it.
  void say(const std::string& topic, const std::string& payload) const {
    bool isSent = false;
    mosquitto* speaker = mosquitto_new(nullptr, true, &isSent);
    mosquitto_publish_callback_set(speaker, [](mosquitto*, void* sent, int) { *static_cast<bool*>(sent) = true; });
    REQUIRE(mosquitto_connect(speaker, "127.0.0.1", broker.port, 60) == MOSQ_ERR_SUCCESS);
    mosquitto_publish(speaker, nullptr, topic.c_str(), static_cast<int>(payload.size()), payload.data(), 1, false);
    for (int i = 0; i < 200 && !isSent; ++i) mosquitto_loop(speaker, 100, 1);
    mosquitto_destroy(speaker);
    REQUIRE(isSent);
  }
  Outcome zunth(const std::string& arguments) const {
    return run(program("zunth") + " " + arguments + " --at " + url, folder.path);
  }
  Outcome zunthAlone(const std::string& arguments) const {
    return run(program("zunth") + " " + arguments, folder.path);
  }
  /// Once a node shows it.
  bool comes(const std::string& node, const std::string& text) const {
    Process watch(
        {program("zunth"), "watch", node, "--interval", "50", "--output", "json", "--for", "30", "--at", url});
    for (std::string line = watch.line(); !line.empty(); line = watch.line())
      if (line.find(text) != std::string::npos) return true;
    return false;
  }
  bool comes(const std::string& node, int value) const {
    Process watch(
        {program("zunth"), "watch", node, "--interval", "50", "--output", "json", "--for", "30", "--at", url});
    for (std::string line = watch.line(); !line.empty(); line = watch.line())
      if (Json::parse(line)["value"] == value) return true;
    return false;
  }
  Broker broker;
  TemporaryFolder folder;
  std::unique_ptr<Process> outstation, service;
  std::string port, url;
};

}  // namespace

TEST_CASE("an outstation and a broker fill a tree by themselves", "[device][dnp3][mqtt][plant]") {
  Shore shore;
  CHECK(shore.comes("Devices/intake/Connected", "true"));
  const auto tree = shore.zunth("tree Devices/intake/Points --depth 3");
  INFO(tree.out << tree.error);
  CHECK(tree.out.find("analog-output") != std::string::npos);
  CHECK(tree.out.find("double-bit") != std::string::npos);
  // What the file names is no discovery.
  CHECK(shore.zunth("read Devices/intake/Points/analog/0").code != 0);
  CHECK(shore.comes("Devices/intake/Points/analog/1", "\"Good\""));
  CHECK(shore.zunth("write Devices/intake/Points/analog-output/0=42.5").code == 0);
  CHECK(shore.comes("Devices/intake/Points/analog-output/0", "42.5"));
  // Two probes that nobody has heard of.
  CHECK(shore.comes("Devices/probes/Connected", "true"));
  shore.say("hall/A1/oxygen", "9.25");
  shore.say("hall/A1/oxygen", "9.5");
  CHECK(shore.comes("Devices/probes/Points/A1/oxygen", "9.5"));
  shore.say("hall/A1/air", "on");
  CHECK(shore.comes("Devices/probes/Points/A1/air", "\"on\""));
  // They are kept a second later, and then listed in the words of a file.
  const auto isListed = [&] {
    return shore.zunthAlone("device points probes --site site").out.find("Devices/probes/Points/A1/air") !=
           std::string::npos;
  };
  bool isThere = isListed();
  for (int i = 0; i < 100 && !isThere; ++i, isThere = isListed())
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
  CHECK(isThere);
  CHECK(shore.zunthAlone("explain Devices/probes/Points/A1/air --site site").out.find("hall/A1/air") !=
        std::string::npos);
  // A restart without either of them: the nodes are there, and say that nobody answers.
  shore.service->stop();
  shore.outstation->stop();
  shore.broker.stop();
  shore.start();
  CHECK(shore.comes("Devices/probes/Points/A1/oxygen", "BadNoCommunication"));
  CHECK(shore.comes("Devices/intake/Points/analog/1", "BadNoCommunication"));
  shore.startOutstation(shore.port);
  CHECK(shore.comes("Devices/intake/Points/analog/1", "\"Good\""));
  // A device that goes takes them along.
  std::filesystem::remove(shore.folder.path / "site/devices/probes.yaml");
  CHECK(shore.zunthAlone("apply --site site --yes").code == 0);
  CHECK(shore.zunth("read Devices/probes/Points/A1/oxygen").code != 0);
}

TEST_CASE("what a gateway sends late goes to history, in its place", "[device][mqtt][history][plant]") {
  Shore shore;
  shore.folder.write("site/model/plant.yaml",
                     "namespace: http://fernhollow.example/shore\nobjects:\n  A:\n    b: Double history\n");
  shore.folder.write("site/devices/gate.yaml",
                     "driver: mqtt\nbroker: " + shore.broker.address() + "\npoints: {b: gate $.v time $.at}\n");
  shore.folder.write("site/bindings/all.yaml", "bindings: {A/b: gate/b}\n");
  REQUIRE(shore.zunthAlone("apply --site site --yes").code == 0);
  REQUIRE(shore.comes("Devices/gate/Connected", "true"));
  const auto now = std::chrono::system_clock::now();
  const auto say = [&](int value, int secondsAgo) {
    const auto time = DateTime::from(now - std::chrono::seconds(secondsAgo)).text();
    shore.say("gate", "{\"v\": " + std::to_string(value) + ", \"at\": \"" + time + "\"}");
  };
  say(1, 60);
  say(4, 10);
  REQUIRE(shore.comes("A/b", 4));
  say(2, 40);
  say(3, 20);
  say(5, 5);
  REQUIRE(shore.comes("A/b", 5));
  std::vector<double> values;
  for (int i = 0; i < 200 && values.size() < 5; ++i) {
    values.clear();
    const auto told = shore.zunth("history A/b --from -5min --output json").out;
    for (const auto& row : Json::parse(told))
      if (row["value"].is_number()) values.push_back(row["value"]);
  }
  CHECK(values == std::vector<double>{1, 2, 3, 4, 5});
}

}  // namespace zunth::discovery_test
