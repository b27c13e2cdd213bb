#include "service/admin/site.hpp"

#include "core/channel/url.hpp"

#include "tests/service/process.hpp"
#include <catch2/catch.hpp>

namespace zunth::site_test {

using namespace zunth::ua;

namespace {

const char* kSite = "uri: urn:fernhollow.example:test\nsecurity:\n  unsecured: on\n";
const char* kModel =
    "namespace: http://fernhollow.example/test\nobjects:\n  F1:\n    a: Double\n    b: String\n    w: Int16 = 0 "
    "writable\n "
    "   go(): x\n    row: Double[3]\n    any: Double[]\n  F2:\n    a: Double\n";
const char* kDevice =
    "driver: modbus-tcp\npoints:\n  a: input 0 Float\n  s: holding 5 String 4\n  three: input 10 Int16[3] scale 0.1\n"
    "  four: input 20 Float[4]\nactions:\n  go:\n    - s = x\n";

admin::Site siteWith(const std::string& bindings, const test::TemporaryFolder& folder) {
  folder.write("site.yaml", kSite);
  folder.write("model/m.yaml", kModel);
  folder.write("devices/dev-F1.yaml", kDevice);
  folder.write("devices/dev-F2.yaml", kDevice);
  folder.write("bindings/b.yaml", "bindings:\n" + bindings);
  return admin::loadSite(folder.path);
}

}  // namespace

TEST_CASE("bindings lead from nodes to points", "[site]") {
  test::TemporaryFolder folder;
  const auto site = siteWith(
      "  \"{F}/a\": dev-{F}/a\n  F1/b: dev-F1/s\n  F1/go(): dev-F2/go\n  F1/row: dev-F1/three\n  F1/any: dev-F1/four\n",
      folder);
  for (const auto& line : site.report()) FAIL(line);
  REQUIRE(site.bindings.variables.size() == 5);
  const auto shown =
      device::shownAs(*site.space, site.bindings.variables[4].variable, DataValue(Variant::array({0.1f, -2.0f})));
  CHECK(shown.value == Variant::array({0.1, -2.0}));
  CHECK(site.space->path(site.bindings.variables[1].variable) == "F2/a");
  CHECK(site.devices[site.bindings.variables[1].device].name == "dev-F2");
  REQUIRE(site.bindings.methods.size() == 1);
  CHECK(site.devices[site.bindings.methods[0].device].name == "dev-F2");
}

TEST_CASE("bindings that lead nowhere are named", "[site]") {
  for (const auto& [bindings, message] : std::vector<std::pair<std::string, std::string>>{
           {"  F1/aa: dev-F1/a\n", "the model has no 'aa' at F1/aa"},
           {"  F3/a: dev-F1/a\n", "the model has no 'F3' at F3/a"},
           {"  F1/a: dve-F1/a\n", "there is no device 'dve-F1'"},
           {"  F1/a: dev-F1/c\n", "the device dev-F1 has no point 'c'"},
           {"  F1/b: dev-F1/a\n", "F1/b is a String, the point a gives a Float"},
           {"  F1/a: dev-F1/four\n", "F1/a is a Double, the point four gives a Float[4]"},
           {"  F1/row: dev-F1/four\n", "F1/row is a Double[3], the point four gives a Float[4]"},
           {"  F1/row: dev-F1/a\n", "F1/row is a Double[3], the point a gives a Float"},
           {"  F1/any: dev-F1/s\n", "F1/any is a Double[], the point s gives a String"},
           {"  F1: dev-F1/a\n", "F1 is no variable"},
           {"  F1/a(): dev-F1/go\n", "F1/a is no method"},
           {"  F1/go(): dev-F1/stop\n", "the device dev-F1 has no action 'stop'"},
           {"  F1/a: dev-F1/a\n  \"{F}/a\": dev-{F}/a\n", "F1/a is bound twice"},
           {"  F1/a:\n", "'F1/a' is bound to nothing"}}) {
    test::TemporaryFolder folder;
    const auto site = siteWith(bindings, folder);
    INFO(bindings);
    REQUIRE(!site.findings.list().empty());
    CHECK(site.findings.list()[0].message == message);
    CHECK(site.findings.list()[0].place.file == "bindings/b.yaml");
  }
  test::TemporaryFolder folder;
  const auto warned = siteWith("  F1/w: dev-F1/a\n", folder);
  CHECK(warned.isSound());
  CHECK(warned.findings.list()[0].message == "F1/w is writable, but the point a is not: writes will be refused");
}

TEST_CASE("a site's own settings are checked", "[site]") {
  for (const auto& [text, message] : std::vector<std::pair<std::string, std::string>>{
           {"name: x\n", "the site names no application URI"},
           {"uri: urn:x\nendpiont: y\n", "'endpiont' means nothing here"},
           {"uri: urn:x\nendpoint: http://y\n",
            "'http://y' is not an endpoint URL: it doesn't start with opc.tcp://, opc.wss:// or opc.https://"},
           {"uri: urn:x\nclients: [opc.wss://y]\n", "'opc.wss://y' is no URL for a server to go to"},
           {"uri: urn:x\nlimits:\n  sessions: 0\n", "'0' is no number from 1 to 10000"},
           {"uri: urn:x\nsecurity: {tolerate: [time, trust]}\n", "'trust' is no fault that may be tolerated"},
           {"uri: urn:x\nsecurity: {policies: [Basic256Sha265]}\n", "there is no policy 'Basic256Sha265' here"},
           {"uri: urn:x\nsecurity: {policies: []}\n", "no policy is left"},
           {"uri: urn:x\nsecurity: {modes: [encrypted]}\n", "'encrypted' is no mode of a secured channel"},
           {"uri: urn:x\nsecurity: {anonymous: Fisher}\n", "'Fisher' is neither off nor on nor a role"},
           {"uri: urn:x\nlimits:\n  sesions: 5\n", "'sesions' means nothing here"},
           {"uri: urn:x\nsecurity:\n  unsecured: maybe\n", "'maybe' is neither on nor off"}}) {
    test::TemporaryFolder folder;
    folder.write("site.yaml", text);
    folder.write("model/none.yaml", "namespace: urn:none\n");
    const auto site = admin::loadSite(folder.path);
    REQUIRE(!site.findings.list().empty());
    CHECK(site.findings.list()[0].message == message);
  }
  test::TemporaryFolder folder;
  folder.write("site.yaml", "uri: urn:x\n");
  CHECK_FALSE(admin::loadSite(folder.path).isSound());  // a folder that is not there is none that is empty
  for (const char* taken : {"urn:x", "http://opcfoundation.org/UA/"}) {
    folder.write("model/none.yaml", std::string("namespace: ") + taken + "\n");
    CHECK_FALSE(admin::loadSite(folder.path).isSound());
  }
  folder.write("model/none.yaml", "namespace: urn:none\n");
  const auto site = admin::loadSite(folder.path);
  CHECK(site.isSound());
  CHECK(!site.settings.allowUnsecured);  // nobody is let in until somebody says so
  CHECK(!site.settings.allowAnonymous);
}

TEST_CASE("a site grants what its limits say", "[site]") {
  test::TemporaryFolder folder;
  folder.write("model/none.yaml", "namespace: urn:none\n");
  folder.write("site.yaml",
               "uri: urn:x\nendpoint: [opc.tcp://127.0.0.1:1, opc.wss://127.0.0.1:2]\n"
               "limits: {sessions: 7, monitored-items: 1000, message-octets: 100000}\n");
  const auto site = admin::loadSite(folder.path);
  REQUIRE(site.isSound());
  CHECK(site.settings.endpointUrls.size() == 2);
  CHECK(site.settings.limits.maxSessions == 7);
  CHECK(site.settings.limits.maxMonitoredItems == 1000);
  CHECK(site.settings.maxMessageSize == 100000);
}

TEST_CASE("a device's value is shown in the variable's type", "[site]") {
  test::TemporaryFolder folder;
  const auto site = siteWith("", folder);
  const auto w = site.space->find(NodeId(2, String("F1/w")));
  CHECK(device::shownAs(*site.space, w, DataValue(Variant(41.6), DateTime{5})).value == Variant(std::int16_t{42}));
  const auto tooBig = device::shownAs(*site.space, w, DataValue(Variant(70000.0), DateTime{5}));
  CHECK(tooBig.status == status::BadOutOfRange);
  CHECK(tooBig.sourceTimestamp == DateTime{5});
  CHECK(device::shownAs(*site.space, w, DataValue(Variant("x"), DateTime{5})).status == status::BadTypeMismatch);
  CHECK(device::shownAs(*site.space, w, DataValue(Variant(), DateTime{5}, status::BadDeviceFailure)).status ==
        status::BadDeviceFailure);
}

TEST_CASE("endpoint URLs are read and written", "[net]") {
  for (const auto& [text, host, port] :
       std::vector<std::tuple<const char*, const char*, int>>{{"opc.tcp://127.0.0.1:4840", "127.0.0.1", 4840},
                                                              {"opc.tcp://filter-house", "filter-house", 4840},
                                                              {"opc.tcp://[::1]:5000/a/b", "::1", 5000},
                                                              {"opc.tcp://[fe80::1]", "fe80::1", 4840}}) {
    const auto url = channel::Url::parse(text);
    REQUIRE(url);
    CHECK(url->host == host);
    CHECK(url->port == port);
    CHECK(channel::Url::parse(url->text())->text() == url->text());
  }
  for (const char* wrong :
       {"", "127.0.0.1:4840", "http://x", "opc.tcp://", "opc.tcp://x:", "opc.tcp://x:70000", "opc.tcp://:4840"})
    CHECK(channel::Url::parse(wrong).code() == status::BadTcpEndpointUrlInvalid);
}

TEST_CASE("a site's tables and units are part of its model", "[site]") {
  test::TemporaryFolder folder;
  folder.write("units.csv", "symbol,name,code\nlpm,litre per minute,L2\nfish,fish,\n");
  folder.write("model/points.csv",
               "path,type,unit,range,point\nF1/flow,Double,lpm,0..9,dev-F1/a\nF1/count,UInt32,fish,,\n");
  const auto site = siteWith("  F1/a: dev-F1/a\n", folder);
  for (const auto& line : site.report()) FAIL(line);
  REQUIRE(site.bindings.variables.size() == 2);
  CHECK(site.space->path(site.bindings.variables[1].variable) == "F1/flow");
  CHECK(site.space->path(site.space->find(NodeId(2, String("F1/count")))) == "F1/count");

  folder.write("model/points.csv", "path,type,unit\nF1/flow,Double,lpn\n");
  const auto wrong = siteWith("  F1/a: dev-F1/a\n", folder);
  REQUIRE(wrong.findings.list().size() == 1);
  CHECK(wrong.findings.list()[0].message == "there is no unit 'lpn'");
  CHECK(wrong.findings.list()[0].hint == "did you mean 'lpm'?");
  folder.write("units.csv", "symbol,name,code\nlpm\n");
  CHECK(!siteWith("  F1/a: dev-F1/a\n", folder).isSound());
}

TEST_CASE("what is writable beside bound variables and bound to nothing is told once", "[site]") {
  test::TemporaryFolder folder;
  folder.write("site.yaml", kSite);
  folder.write(
      "model/m.yaml",
      "namespace: http://fernhollow.example/test\ntypes:\n  T: {a: Double, goal: Double writable}\nobjects:\n  "
      "'F{1..3}': T\n");
  folder.write("devices/dev-F1.yaml", kDevice);
  folder.write("bindings/b.yaml", "bindings:\n  F1/a: dev-F1/a\n  F2/a: dev-F1/a\n");
  const auto site = admin::loadSite(folder.path);
  CHECK(site.isSound());
  REQUIRE(site.findings.list().size() == 1);
  CHECK(site.findings.list()[0].message == "F1/goal (and 1 more) is writable and bound to no point");
}

TEST_CASE("a model file is checked alone", "[site]") {
  test::TemporaryFolder folder;
  folder.write("m.yaml", "namespace: urn:fernhollow.example:m\nobjects:\n  A:\n    x: Duoble\n");
  folder.write("t.csv", "path,type\nA/x,Double\n");
  const auto wrong = admin::loadModel(folder.path / "m.yaml");
  REQUIRE(wrong.findings.list().size() == 1);
  CHECK(wrong.findings.list()[0].place.line == 4);
  CHECK(admin::loadModel(folder.path / "t.csv").isSound());
  CHECK(!admin::loadModel(folder.path / "gone.yaml").isSound());
}

TEST_CASE("what is kept of history is said in lines of words, and mistakes are named", "[site][history]") {
  const auto load = [](const std::string& history) {
    test::TemporaryFolder folder;
    folder.write("site.yaml", kSite + history);
    folder.write("model/m.yaml", "namespace: http://fernhollow.example/test\nobjects:\n  F1:\n    a: Double history\n");
    return admin::loadSite(folder.path);
  };
  const auto site = load(
      "history:\n  keep: 2 years\n  size: 500 MB\n  rules:\n    F1/a: deadband 0.5, pause 10 min, keep 3 months\n"
      "    F1/*: swinging-door 2\n    '**': every-change\n  aggregates:\n"
      "    F1/a: uncertain-counts, good 80 %, bad 50%\n    '**': extrapolated\n");
  for (const auto& line : site.report()) FAIL(line);
  using enum history::Rule::Kind;
  CHECK(site.history.days == 732);
  CHECK(site.history.gigabytes == 0.5);
  CHECK(site.history.choices == std::vector<history::Choice>{{"F1/a", {Deadband, 0.5, 600'000}, 93},
                                                             {"F1/*", {SwingingDoor, 2}},
                                                             {"**", {EveryChange}}});
  CHECK(site.history.aggregates ==
        std::vector<admin::AggregateChoice>{{"F1/a", {false, 50, 80, false}}, {"**", {true, 100, 100, true}}});
  CHECK(!load("history: off\n").history.isOn);
  for (const auto& [history, message] : std::vector<std::pair<std::string, std::string>>{
           {"history: sometimes\n", "'sometimes' is neither on nor off"},
           {"history:\n  keep: long\n", "'long' is no time for history to be kept"},
           {"history:\n  size: 20 apples\n", "'20 apples' is no size"},
           {"history:\n  rules:\n    F1/a: deadbnad 1\n", "'deadbnad' is no word of a rule of history"},
           {"history:\n  rules:\n    F1/a: deadband\n", "'deadband' is followed by a number, in the variable's unit"},
           {"history:\n  rules:\n    F1/a: keep long\n", "'keep' is followed by a number of days, months or years"},
           {"history:\n  keep: 30 days\n  rules:\n    F1/a: keep 2 months\n",
            "nothing is kept for longer than 30 days"},
           {"history:\n  rules:\n    F1/a: pause long\n", "'pause' is followed by a time"},
           {"history:\n  aggregates:\n    F1/a: uncertian-counts\n", "'uncertian-counts' says nothing of aggregates"},
           {"history:\n  aggregates:\n    F1/a: good many\n", "'good' is followed by a percentage, as a whole number"},
           {"history:\n  aggregates:\n    F1/a: bad 101\n", "'bad' is followed by a percentage, as a whole number"},
           {"history:\n  aggregates:\n    F1/a: good 40, bad 50\n",
            "an interval could be good and bad at once: 40 % and 50 %"},
           {"history:\n  aggregates:\n    F1/b: good 80\n", "'F1/b' means no variable with a history"},
           {"history:\n  rules:\n    F1/b: deadband 1\n", "'F1/b' means no variable with a history"}}) {
    const auto wrong = load(history);
    INFO(history);
    REQUIRE(!wrong.findings.list().empty());
    CHECK(wrong.findings.list()[0].message == message);
  }
}

}  // namespace zunth::site_test
