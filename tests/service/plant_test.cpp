// The real thing: zunth-sim behind zunthd, reached by zunth, on loopback.
#include "tests/service/plant.hpp"

#include "service/admin/site.hpp"

#include <cstring>
#include <fstream>
#include <regex>

#include "tests/service/terminal.hpp"
#include <catch2/catch.hpp>

namespace zunth::plant_test {

using namespace zunth::test;

TEST_CASE("values come from the device, setpoints and commands reach it", "[plant]") {
  Plant plant;
  REQUIRE(plant.watchUntil("DF1/pressure",
                           [](const Json& j) { return j["status"] == "Good" && j["value"].get<double>() > 9; }));
  double last = 0;
  int rises = 0;
  CHECK(plant.watchUntil("DF1/pressure", [&](const Json& j) {
    rises += j["value"].get<double>() > last;
    last = j["value"];
    return rises >= 4;
  }));
  CHECK(plant.zunth("write DF1/speedGoal=35").code == 0);
  // The ramp: the speed passes values on its way.
  bool passed = false;
  CHECK(plant.watchUntil("DF1/speed", [&](const Json& j) {
    passed |= j["value"].get<double>() > 20 && j["value"].get<double>() < 35;
    return j["value"].get<double>() == 35;
  }));
  CHECK(passed);
  const auto called = plant.zunth("call DF1/wash seconds=8 --output json");
  CHECK(called.code == 0);
  CHECK(Json::parse(called.out)["outputs"]["started"] == true);
  CHECK(plant.watchUntil("DF1/pressure", [&](const Json& j) { return j["value"].get<double>() < last - 1; }));
  const auto read = plant.zunth("read DF1/serial --output csv");
  CHECK(read.out.find("DF1/serial,FH-DF-0001,,Good,") != std::string::npos);
}

TEST_CASE("a device may die and come back", "[plant]") {
  Plant plant;
  REQUIRE(plant.watchUntil("DF1/pressure", [](const Json& j) { return j["status"] == "Good"; }));
  Process events({program("zunth"), "events", "--output", "json", "--at", plant.url});
  const auto hears = [&](const std::string& words) {
    for (std::string line = events.line(); !line.empty(); line = events.line())
      if (line.find(words) != std::string::npos) return true;
    return false;
  };
  // The first write may come before the events are asked for.
  for (int i = 0; i < 50 && events.line(500).empty(); ++i) CHECK(plant.zunth("write DF1/speedGoal=11").code == 0);
  plant.simulator->stop(SIGKILL);
  REQUIRE(plant.watchUntil("DF1/pressure", [](const Json& j) {
    return j["status"] == "BadNoCommunication" && j["time"].is_string() && j["value"].is_null();
  }));
  const auto refused = plant.zunth("write DF1/speedGoal=10");
  CHECK(refused.code == 1);
  CHECK(refused.error.find("the device filter does not answer") != std::string::npos);
  CHECK(refused.error.find("zunth device filter (BadNoCommunication)") != std::string::npos);
  CHECK(plant.zunth("call DF1/wash 3").code == 1);
  CHECK(plant.zunth("read DF1/pressure").code == 1);
  CHECK(hears("the device filter is away: "));
  plant.startSimulator(plant.simulatorPort);
  CHECK(plant.watchUntil("DF1/pressure", [](const Json& j) { return j["status"] == "Good"; }));
  CHECK(hears("the device filter answers"));
}

TEST_CASE("wrong use gets one clear line and its exit code", "[plant]") {
  Plant plant;
  REQUIRE(plant.watchUntil("DF1/pressure", [](const Json& j) { return j["status"] == "Good"; }));
  struct Case {
    const char* arguments;
    int code;
    const char* error;
  };
  for (const auto& c : std::vector<Case>{
           {"read DF1/presure", 2, "zunth: there is no 'presure' in DF1 (BadNoMatch)\ntry: DF1/pressure\n"},
           {"read DF1", 2,
            "zunth: DF1 is no variable: it has no value (BadAttributeIdInvalid)\ntry: zunth tree DF1 --values\n"},
           {"read 'ns=2;s=nothing'", 2,
            "zunth: the server has no node ns=2;s=nothing (BadNodeIdUnknown)\ntry: zunth tree\n"},
           {"write DF1/speedGoal=fast", 2, "zunth: DF1/speedGoal takes Float: 'fast' is no Float (BadTypeMismatch)\n"},
           {"write DF1/mode=Off DF1/speedGoal=fast", 2,  // nothing is written when one of them is wrong
            "zunth: DF1/speedGoal takes Float: 'fast' is no Float (BadTypeMismatch)\n"},
           {"write DF1/speedGoal=70", 2, "zunth: 70 is outside 0 to 60, the range of DF1/speedGoal (BadOutOfRange)\n"},
           {"write DF1/speedGoal=55", 2,
            "zunth: the device refuses 55 for speedGoal: illegal data value (BadOutOfRange)\n"},
           {"write DF1/mode=Atuo", 2,
            "zunth: DF1/mode takes Mode: 'Atuo' is no value of Mode (BadTypeMismatch)\ntry: Auto\n"},
           {"write DF1/mode=5", 2, "zunth: 5 is no value of Mode (BadOutOfRange)\n"},
           {"write DF1/pressure=5", 4,
            "zunth: DF1/pressure is not writable (BadNotWritable)\ntry: zunth tree DF1, which marks what is "
            "writable\n"},
           {"write DF1/speedGoal", 2,
            "zunth: 'DF1/speedGoal' says nothing to write\ntry: zunth write DF1/speedGoal=VALUE\n"},
           {"call DF1/wash", 2,
            "zunth: DF1/wash takes 1 argument, not 0 (BadArgumentsMissing)\ntry: zunth call DF1/wash seconds=VALUE\n"},
           {"call DF1/wash soon", 2, "zunth: seconds takes UInt16: 'soon' is no UInt16 (BadTypeMismatch)\n"},
           {"call DF1/pressure", 2,
            "zunth: DF1/pressure is no method (BadMethodInvalid)\ntry: zunth tree: methods end with ()\n"},
           {"raed x", 2, "zunth: there is no verb 'raed'\ntry: zunth read\n"}}) {
    INFO(c.arguments);
    const auto outcome = plant.zunth(c.arguments);
    CHECK(outcome.code == c.code);
    CHECK(outcome.error == c.error);
    CHECK(outcome.out.empty());
  }
  CHECK(plant.zunth("read DF1/mode").out.find("Auto") != std::string::npos);
  const auto nobody = run(program("zunth") + " read x --at opc.tcp://127.0.0.1:1", plant.folder.path);
  CHECK(nobody.code == 3);
  CHECK(nobody.error ==
        "zunth: nothing listens at 127.0.0.1:1 (Connection refused) (BadConnectionRejected)\ntry: start the server, or "
        "name another with --at opc.tcp://HOST:PORT\n");
  CHECK(run(program("zunth") + " read x --at nowhere", plant.folder.path).code == 2);
}

TEST_CASE("output that can't be written is an error", "[plant]") {
  const TemporaryFolder folder;
  folder.write("m.yaml", "namespace: urn:fernhollow.example:m\nobjects:\n  A: Double\n");
  const auto full = run(program("zunth") + " outline m.yaml > /dev/full", folder.path);
  CHECK(full.code == 5);
  CHECK(full.error.find("standard output can't be written: No space left on device") != std::string::npos);
}

TEST_CASE("arrays, enumerations and several values are written and read", "[plant]") {
  Plant plant;
  CHECK(plant.zunth("write 'DF1/list=[4, 3, 2, 1]' DF1/mode=Off").code == 0);
  const auto read = Json::parse(plant.zunth("read 'DF1/list' 'DF1/mode' --output json").out);
  CHECK(read[0]["value"] == Json{4, 3, 2, 1});
  CHECK(read[1]["value"] == 0);
  CHECK(plant.zunth("read 'DF1/m*'").out.find("Off (0)") != std::string::npos);
  // A structure of the site's own, which the client learns of from the server.
  CHECK(plant.zunth("read DF1/feed").out.find("{grams: 400, mode: Auto_1, times: null}") != std::string::npos);
  CHECK(plant.zunth(R"(write 'DF1/feed={"grams": 5, "why": "a test", "times": [1.5]}' --quiet)").code == 0);
  CHECK(Json::parse(plant.zunth("read DF1/feed --output json").out)[0]["value"] ==
        Json::parse(R"({"grams": 5, "why": "a test", "mode": "Off_0", "times": [1.5]})"));
  CHECK(plant.zunth(R"(write 'DF1/feed={"gramms": 5}')").error.find("Feed has no field 'gramms'") != std::string::npos);
  const auto tree = Json::parse(plant.zunth("tree --output json").out);
  CHECK(std::any_of(tree.begin(), tree.end(),
                    [](const Json& n) { return n["path"] == "DF1/wash" && n["class"] == "Method"; }));
  CHECK(Json::parse(plant.zunth("show DF1/pressure --output json").out)["BrowseName"] == "2:pressure");
  CHECK(Json::parse(plant.zunth("endpoints --output json").out)[0]["users"] == "anonymous");
}

TEST_CASE("the command line reaches the rest of the services", "[plant]") {
  Plant plant;
  CHECK(plant.zunth("locate DF1/pressure --output json").out.find("ns=2;s=DF1/pressure") != std::string::npos);
  CHECK(plant.zunth("locate 2:DF1/2:nothing").code == 2);
  CHECK(plant.zunth("add feed --type Double --value 120 --writable").code == 0);
  CHECK(plant.zunth("add feed --type Double --id ns=1\\;s=feed").code == 2);  // there is one already
  CHECK(plant.zunth("write feed=3").code == 0);
  CHECK(Json::parse(plant.zunth("read feed --registered --output json").out)[0]["value"] == 3.0);
  CHECK(plant.zunth("link DF1 --by Organizes --to feed").code == 0);
  CHECK(plant.zunth("link DF1 --by Organizes --to feed --undo").code == 0);
  CHECK(plant.zunth("query AnalogItemType --where 'EURange = 1'").code == 1);
  CHECK(plant.zunth("query AnalogItemType --show EURange").out.find("ns=2;s=DF1/speedGoal") != std::string::npos);
  CHECK(plant.zunth("remove feed").code == 0);
  CHECK(plant.zunth("remove i=2253").code == 4);
  const auto status = Json::parse(plant.zunth("status --output json").out);
  CHECK(status[1]["value"] == "Running");
  CHECK(Json::parse(plant.zunth("status --sessions --output json").out).size() == 1);
  CHECK(plant.zunth("status --limits").out.find("MaxNodesPerRead") != std::string::npos);
  CHECK(plant.zunth("watch DF1/speedGoal --deadband two").code == 2);
}

TEST_CASE("a watch is left with the server and taken up again", "[plant]") {
  Plant plant;
  const auto kept = plant.zunth("watch DF1/speedGoal --interval 50 --count 1 --keep");
  CHECK(kept.code == 0);
  std::smatch number;
  REQUIRE(std::regex_search(kept.error, number, std::regex("--resume ([0-9]+)")));
  CHECK(Json::parse(plant.zunth("status --subscriptions --output json").out)[0]["session"] == "waits for a client");
  CHECK(plant.zunth("write DF1/speedGoal=33").code == 0);
  Process watch({program("zunth"), "watch", "DF1/speedGoal", "--resume", number[1].str(), "--at", plant.url});
  for (std::string line = watch.line(); line.find("33") == std::string::npos; line = watch.line())
    REQUIRE(!line.empty());
  CHECK(watch.stop(SIGINT) == 0);
  CHECK(plant.zunth("watch DF1/speedGoal --resume 4711").code == 2);
}

TEST_CASE("events come to the command line as they happen", "[plant]") {
  Plant plant;
  Process events({program("zunth"), "events", "--type", "AuditWriteUpdateEventType", "--fields", "NewValue", "--output",
                  "json", "--at", plant.url});
  // The first write may come before the events are asked for.
  std::string line;
  for (int i = 0; i < 50 && line.empty(); ++i) {
    CHECK(plant.zunth("write DF1/mode=Off").code == 0);
    line = events.line(500);
  }
  const auto event = Json::parse(line);
  CHECK(event["source"] == "Attribute/Write");
  CHECK(event["NewValue"] == 0);
  CHECK(events.stop(SIGINT) == 0);
  CHECK(plant.zunth("events DF1").code == 2);
  CHECK(plant.zunth("events --type AuditWriteUpdateEvntType").error.find("AuditWriteUpdateEventType") !=
        std::string::npos);
}

TEST_CASE("alarms are listed, followed and acknowledged from the command line", "[plant][alarm]") {
  Plant plant(false);
  CHECK(plant.zunth("alarms").out == "no alarm is active, and none waits for anybody\n");
  CHECK(plant.zunth("write Gate/mode=Off").code == 0);
  const auto listed = [&] { return Json::parse(plant.zunth("alarms --output json").out); };
  auto alarms = listed();
  REQUIRE(alarms.size() == 1);
  CHECK(alarms[0]["alarm"] == "Gate/idle");
  CHECK(alarms[0]["state"] == "active, to acknowledge");
  CHECK(alarms[0]["severity"] == 600);
  CHECK(alarms[0]["message"] == "Gate/mode is Off");
  Process watch({program("zunth"), "alarms", "--watch", "--output", "csv", "--at", plant.url});
  CHECK(watch.line().find("time") == 0);
  CHECK(watch.line().find("to acknowledge") != std::string::npos);
  CHECK(Json::parse(plant.zunth("alarms gate --output json").out).empty());
  CHECK(Json::parse(plant.zunth("alarms Gate --severity 600 --output json").out).size() == 1);
  CHECK(Json::parse(plant.zunth("alarms --severity 601 --output json").out).empty());
  CHECK(plant.zunth("acknowledge '*/idle' --comment 'as it should be'").out == "Gate/idle  acknowledged\n");
  CHECK(watch.line().find("active, acknowledged") != std::string::npos);
  const auto again = plant.zunth("acknowledge Gate/idle");
  CHECK(again.code == 5);
  CHECK(again.error.find("BadConditionBranchAlreadyAcked") != std::string::npos);
  CHECK(plant.zunth("acknowledge DF1").error.find("DF1: it is no alarm") != std::string::npos);
  CHECK(listed()[0]["comment"] == "as it should be");
  CHECK(plant.zunth("write Gate/mode=Auto").code == 0);
  CHECK(watch.line().find("gone") != std::string::npos);
  CHECK(listed().empty());
  // Its fields are there for who asks, and in nobody's way.
  CHECK(Json::parse(plant.zunth("read 'Gate/**' --output json").out).size() == 1);
  CHECK(Json::parse(plant.zunth("read Gate/idle/Severity --output json").out)[0]["value"] == 600);
}

TEST_CASE("a secured connection: both sides are asked, each refusal names the next command",
          "[plant][cu:Security Administration]") {
  Plant plant;
  const std::string read = "read DF1/mode --security encrypt";
  // The client doesn't know the server.
  const auto first = plant.zunth(read);
  CHECK(first.code == 4);
  CHECK(first.error.find("this client does not trust the server's certificate") != std::string::npos);
  std::smatch print;
  REQUIRE(std::regex_search(first.error, print, std::regex("--trust ([0-9A-F:]+)")));
  // The server doesn't know the client.
  const auto second = plant.zunth(read + " --trust " + print[1].str());
  CHECK(second.code == 4);
  REQUIRE(std::regex_search(second.error, print, std::regex("zunth trust allow ([0-9A-F:]+)")));
  CHECK(second.error.find("the server does not trust this client's certificate") != std::string::npos);
  CHECK(plant.zunthAlone("trust --site site").out.find("refused") != std::string::npos);
  CHECK(plant.zunthAlone("trust allow " + print[1].str() + " --site site").code == 0);
  for (const char* how : {"encrypt", "sign"})
    for (const char* policy : {"Basic256Sha256", "Aes128_Sha256_RsaOaep", "Aes256_Sha256_RsaPss"})
      CHECK(plant.zunth(std::string("read DF1/mode --security ") + how + " --policy " + policy).code == 0);
  CHECK(plant.zunth("read DF1/mode --security encrypt --policy Nonsense").code == 4);
  CHECK(Json::parse(plant.zunth("endpoints --output json").out).size() == 11);

  // Trust that is withdrawn ends the connections that lived on it.
  Process watch({"/usr/bin/env", "HOME=" + plant.folder.path.string(), "XDG_CONFIG_HOME=", program("zunth"), "watch",
                 "DF1/pressure", "--interval", "50", "--security", "encrypt", "--at", plant.url});
  REQUIRE(!watch.line().empty());
  CHECK(plant.zunthAlone("trust remove 'Zunth on' --site site").code == 0);
  bool isRefused = false;
  for (int i = 0; i < 100 && !isRefused; ++i) isRefused = plant.zunth(read).code == 4;
  CHECK(isRefused);
  watch.stop(SIGINT);
}

TEST_CASE("users log in by name, on secured and on unsecured channels", "[plant][cu:Security User Name Password 2]") {
  Plant plant;
  ::setenv("ZUNTH_PASSWORD", "trout and salmon", 1);
  CHECK(plant.zunthAlone("user add hanna --site site").code == 0);
  CHECK(plant.zunthAlone("user add hanna --site site").code == 2);
  const auto first = plant.zunth("read DF1/mode --user hanna");
  std::smatch print;
  REQUIRE(std::regex_search(first.error, print, std::regex("--trust ([0-9A-F:]+)")));
  CHECK(plant.zunth("read DF1/mode --user hanna --trust " + print[1].str()).code == 0);
  CHECK(Json::parse(plant.zunth("endpoints --output json").out)[0]["users"] == "anonymous, password");
  const auto refused = plant.zunth("read DF1/mode --user hanna --security encrypt");
  REQUIRE(std::regex_search(refused.error, print, std::regex("zunth trust allow ([0-9A-F:]+)")));
  CHECK(plant.zunthAlone("trust allow " + print[1].str() + " --site site").code == 0);
  CHECK(plant.zunth("read DF1/mode --user hanna --security encrypt").code == 0);
  CHECK(plant.zunth("read DF1/mode --user hanna --security sign").code == 0);

  CHECK(plant.zunthAlone("user disable hanna --site site").code == 0);
  const auto disabled = plant.zunth("read DF1/mode --user hanna");
  CHECK(disabled.code == 4);
  CHECK(disabled.error.find("the user name or the password is wrong") != std::string::npos);
  CHECK(plant.zunthAlone("user enable hanna --site site").code == 0);
  CHECK(plant.zunth("read DF1/mode --user hanna").code == 0);
  // A name that isn't there, and guessing.
  // Each makes the next wait longer: a machine that takes its time for one gets there, too.
  bool isHeldOff = false;
  for (int i = 0; i < 14 && !isHeldOff; ++i)
    isHeldOff =
        plant.zunth("read DF1/mode --user otto").error.find("too many logins have failed: wait") != std::string::npos;
  CHECK(isHeldOff);
  ::unsetenv("ZUNTH_PASSWORD");
  CHECK(plant.zunth("read DF1/mode --user hanna </dev/null").error.find("ZUNTH_PASSWORD") != std::string::npos);
  CHECK(plant.zunthAlone("user --site site --output json").out.find("hanna") != std::string::npos);
}

TEST_CASE("what an administrator changes counts at once, and others go on", "[plant][cu:Session Change User]") {
  Plant plant;
  ::setenv("ZUNTH_PASSWORD", "trout and salmon", 1);
  REQUIRE(plant.zunthAlone("user add mia --role Observer --site site").code == 0);
  CHECK(plant.zunthAlone("user add otto --role Fisherman --site site").error.find("there is no role 'Fisherman'") !=
        std::string::npos);
  std::smatch print;
  const auto stranger = plant.zunth("read DF1/mode --user mia");
  REQUIRE(std::regex_search(stranger.error, print, std::regex("--trust ([0-9A-F:]+)")));
  REQUIRE(plant.zunth("read DF1/mode --user mia --trust " + print[1].str()).code == 0);

  // Two who watch: a user, and one whom nothing of this concerns. Each line is another moment.
  const auto watch = [&](std::vector<std::string> more) {
    std::vector<std::string> command{"/usr/bin/env",
                                     "HOME=" + plant.folder.path.string(),
                                     "XDG_CONFIG_HOME=",
                                     program("zunth"),
                                     "watch",
                                     "Server/ServerStatus/CurrentTime",
                                     "--interval",
                                     "50",
                                     "--output",
                                     "json",
                                     "--at",
                                     plant.url};
    command.insert(command.end(), more.begin(), more.end());
    return std::make_unique<Process>(command);
  };
  auto others = watch({});
  auto mias = watch({"--user", "mia"});
  REQUIRE(!others->line().empty());
  REQUIRE(!mias->line().empty());
  const auto goesOn = [](Process& process) {
    for (int i = 0; i < 3; ++i)
      if (process.line().empty()) return false;
    return true;
  };

  // Roles
  const auto refused = plant.zunth("write DF1/mode=Off --user mia");
  CHECK(refused.code == 4);
  CHECK(refused.error.find("this user may not write DF1/mode (BadUserAccessDenied)") != std::string::npos);
  REQUIRE(plant.zunthAlone("user role mia Operator --site site").code == 0);
  CHECK(plant.zunth("write DF1/mode=Off --user mia").code == 0);
  CHECK(goesOn(*mias));

  // A new certificate: open connections stay, new ones meet it.
  const auto unknown = plant.zunth("read DF1/mode --security encrypt");
  REQUIRE(std::regex_search(unknown.error, print, std::regex("zunth trust allow ([0-9A-F:]+)")));
  REQUIRE(plant.zunthAlone("trust allow " + print[1].str() + " --site site").code == 0);
  const auto before = plant.zunthAlone("certificate --site site --output json").out;
  REQUIRE(plant.zunthAlone("certificate new --organization Fernhollow --site site").code == 0);
  CHECK(plant.zunthAlone("certificate --site site --output json").out != before);
  // One that connects in the very moment of the change may be told something else.
  Outcome met{0, {}, {}};
  const auto isNew = [&] {
    return met.error.find("a certificate that this client does not know") != std::string::npos;
  };
  for (int i = 0; i < 100 && !isNew(); ++i) met = plant.zunth("read DF1/mode --security encrypt");
  CHECK(isNew());
  CHECK(met.error.find("O = Fernhollow") != std::string::npos);
  CHECK(goesOn(*mias));
  CHECK(goesOn(*others));

  // A user who is disabled is out; the other isn't.
  REQUIRE(plant.zunthAlone("user disable mia --site site").code == 0);
  std::string last;
  while (!(last = mias->line(5000)).empty()) {
  }
  CHECK(goesOn(*others));
  others->stop(SIGINT);

  // All of it is on record.
  const auto records = Json::parse(plant.zunthAlone("audit --site site --last 0 --output json").out);
  const auto has = [&](const char* what, const char* who, const char* outcome) {
    return std::ranges::any_of(records, [&](const Json& record) {
      return record["what"] == what && record["who"] == who && record["outcome"] == outcome;
    });
  };
  CHECK(has("start", "-", "Good"));
  CHECK(has("login", "mia", "Good"));
  CHECK(has("write", "mia", "BadUserAccessDenied"));
  CHECK(has("write", "mia", "Good"));
  CHECK(has("certificate renewed", "-", "Good"));
  CHECK(plant.zunthAlone("audit --site site --failed --who mia").out.find("DF1/mode = 0") != std::string::npos);
  ::unsetenv("ZUNTH_PASSWORD");
}

TEST_CASE("a client that is awaited gets in at first contact, once", "[plant]") {
  Plant plant;
  const auto connect = [&](const std::string& home) {
    std::filesystem::create_directories(plant.folder.path / home);
    const std::string command = "env XDG_CONFIG_HOME=" + (plant.folder.path / home).string() + " " + program("zunth") +
                                " read DF1/mode --security encrypt --at " + plant.url;
    auto outcome = run(command, plant.folder.path);
    std::smatch print;
    if (std::regex_search(outcome.error, print, std::regex("--trust ([0-9A-F:]+)")))
      outcome = run(command + " --trust " + print[1].str(), plant.folder.path);
    return outcome.code;
  };
  CHECK(plant.zunthAlone("trust open --application urn:somebody:else --site site").code == 0);
  CHECK(connect("a") == 4);
  CHECK(plant.zunthAlone("trust open --for 5 --site site").out.find("whoever comes first") != std::string::npos);
  CHECK(connect("a") == 0);
  CHECK(connect("a") == 0);  // trusted from now on
  CHECK(connect("b") == 4);  // the window closed behind the first
  CHECK(plant.zunthAlone("audit --what 'first contact' --site site --output json").code == 0);
}

TEST_CASE("a connection is tried step by step, and the step that fails is named", "[plant]") {
  Plant plant;
  const auto fine = plant.zunth("try");
  CHECK(fine.code == 0);
  for (const char* step : {"name", "port", "hello", "endpoints", "clocks", "channel", "session", "user", "read"})
    CHECK(fine.out.find(std::string("ok  ") + step) != std::string::npos);
  const auto failing = [&](const std::string& command, const char* step) {
    const auto outcome = run(program("zunth") + " " + command + " --output json", plant.folder.path);
    INFO(outcome.out);
    const auto steps = Json::parse(outcome.out);
    CHECK(outcome.code != 0);
    CHECK(steps.back()["step"] == step);
    CHECK(steps.back()["good"] == false);
    return steps.back().value("next", std::string());
  };
  failing("try --at opc.tcp://no-such-host.invalid:4840", "name");
  failing("try --at opc.tcp://127.0.0.1:1", "port");
  const auto trusting = failing("try --security encrypt --at " + plant.url, "our trust");
  std::smatch print;
  REQUIRE(std::regex_search(trusting, print, std::regex("--trust ([0-9A-F:]+)")));
  CHECK(failing("try --security encrypt --trust " + print[1].str() + " --at " + plant.url, "their trust")
            .find("on the server's machine") == 0);
  ::setenv("ZUNTH_PASSWORD", "anything at all", 1);
  REQUIRE(plant.zunthAlone("user add mia --site site").code == 0);
  ::setenv("ZUNTH_PASSWORD", "something else", 1);
  CHECK(failing("try --user mia --at " + plant.url, "user").find("zunth user password") != std::string::npos);
  ::unsetenv("ZUNTH_PASSWORD");
}

TEST_CASE("Ctrl-C ends a watch in order, and the service ends in order", "[plant]") {
  Plant plant;
  Process watch({program("zunth"), "watch", "DF1/pressure", "--interval", "50", "--at", plant.url});
  REQUIRE(!watch.line().empty());
  CHECK(watch.stop(SIGINT) == 0);
  CHECK(plant.service->stop(SIGTERM) == 0);
}

TEST_CASE("an edited model shows after a restart, a mistake is found before", "[plant]") {
  Plant plant;
  plant.service->stop(SIGTERM);
  const std::string head = "namespace: http://fernhollow.example/test\nobjects:\n  DF1:\n    depth: ";
  std::filesystem::remove(plant.folder.path / "site/bindings/all.yaml");
  plant.folder.write("site/model/plant.yaml", head + "Duoble = 1.5\n");
  const auto checked = run(program("zunth") + " check site", plant.folder.path);
  CHECK(checked.code == 1);
  CHECK(checked.out.starts_with("model/plant.yaml:4:12: error: there is no type 'Duoble'\n"));
  CHECK(checked.out.find("did you mean 'Double'?") != std::string::npos);
  CHECK(run(program("zunthd") + " site", plant.folder.path).code == 1);
  plant.folder.write("site/model/plant.yaml", head + "Double = 1.5\n");
  Process service({program("zunthd"), (plant.folder.path / "site").string(), "--log", "off"});
  const std::string line = service.line();
  plant.url = line.substr(line.find("opc.tcp"));
  CHECK(plant.zunth("read DF1/depth").out.starts_with("DF1/depth  1.5"));
}

TEST_CASE("a tank is added to a running server, and nobody who watches another one notices", "[plant]") {
  Plant plant;
  Process watch(
      {program("zunth"), "watch", "DF1/pressure", "--interval", "100", "--output", "json", "--at", plant.url});
  Process events(
      {program("zunth"), "events", "--type", "GeneralModelChangeEventType", "--output", "json", "--at", plant.url});
  REQUIRE(!watch.line().empty());
  std::ifstream in(plant.folder.path / "site/model/plant.yaml");
  std::string text{std::istreambuf_iterator<char>(in), {}};
  const auto edited = [&](const std::string& from, const std::string& to) {
    std::string changed = text;
    const auto at = changed.find(from);
    REQUIRE(at != std::string::npos);
    return changed.replace(at, from.size(), to);
  };
  // A mistake: nothing changes, and it is named.
  plant.folder.write("site/model/plant.yaml", edited("speed: Float Hz 0..60", "speed: Flaot Hz 0..60"));
  const auto refused = plant.zunthAlone("apply --site site");
  CHECK(refused.code == 1);
  CHECK(refused.error.find("there is no type 'Flaot'") != std::string::npos);
  CHECK(plant.zunth("read DF1/speed").code == 0);

  plant.folder.write("site/model/plant.yaml", edited("  DF1:\n", "  Tank:\n    level: Double m 0..2 = 1.5\n  DF1:\n"));
  CHECK(plant.zunth("read Tank/level").code == 2);
  const auto dry = plant.zunthAlone("apply --site site --dry-run --output json");
  CHECK(dry.code == 1);
  CHECK(Json::parse(dry.out)["changes"][0]["node"] == "Tank");
  CHECK(plant.zunth("read Tank/level").code == 2);  // it was only shown
  const auto applied = plant.zunthAlone("apply --site site");
  CHECK(applied.code == 0);
  CHECK(applied.out.starts_with("added  Tank "));
  CHECK(applied.out.find("\napplied: 4 nodes added, 0 removed") != std::string::npos);
  CHECK(plant.zunth("read Tank/level --output csv").out.find("Tank/level,1.5") != std::string::npos);
  CHECK(plant.zunthAlone("apply --site site --dry-run").code == 0);

  // The watcher got every value in its turn: still Good, no gap, no reconnection.
  for (int i = 0; i < 5; ++i) {
    const std::string line = watch.line();
    REQUIRE(!line.empty());
    CHECK(Json::parse(line)["status"] == "Good");
  }
  const auto told = Json::parse(events.line());
  CHECK(told["type"] == "GeneralModelChangeEventType");
  CHECK(plant.zunth("call DF1/wash 3").code == 0);
  // Gone again: who watches it is told.
  Process level({program("zunth"), "watch", "Tank/level", "--output", "json", "--at", plant.url});
  REQUIRE(!level.line().empty());
  plant.folder.write("site/model/plant.yaml", text);
  CHECK(plant.zunthAlone("apply --site site").out.find("4 removed") != std::string::npos);
  CHECK(Json::parse(level.line())["status"] == "BadNodeIdUnknown");
}

TEST_CASE("a running server is written down, compared and drawn like a file", "[plant]") {
  const Plant plant;
  CHECK(plant.zunthAlone("diff site " + plant.url).out.find("are the same") != std::string::npos);
  CHECK(plant.zunthAlone("convert " + plant.url + " back.yaml").out.starts_with("wrote "));
  CHECK(plant.zunthAlone("convert " + plant.url + " back.xml").code == 0);
  // What came from the server is a model like any other: only values that it doesn't hold as its own are left open.
  for (const char* file : {"back.yaml", "back.xml"}) {
    const auto differs = plant.zunthAlone(std::string("diff site ") + file + " --output json");
    for (const auto& change : Json::parse(differs.out)) CHECK(change["what"] == "initial value");
  }
  CHECK(plant.zunthAlone("outline back.yaml DF1 --filter kPa").out.find("pressure") != std::string::npos);
  CHECK(plant.zunthAlone("draw " + plant.url + " plant.svg").code == 0);
  // A type, by its name or id.
  for (const char* type : {"Mode", "ConditionType", "i=2782"}) {
    INFO(type);
    CHECK(plant.zunthAlone("draw site type.svg " + std::string(type)).code == 0);
  }
  CHECK(plant.zunthAlone("draw site type.svg Moed").code == 1);
  CHECK(std::filesystem::exists(plant.folder.path / "plant-types.svg"));
  CHECK(plant.zunthAlone("document site plant.html").code == 0);
  CHECK(plant.zunthAlone("convert site plant.csv").code == 0);
  CHECK(plant.zunthAlone("convert site plant.txt").code == 2);
  CHECK(plant.zunthAlone("outline nowhere").code == 2);
  CHECK(plant.zunthAlone("outline site DF1/presure").error.find("did you mean 'pressure'?") != std::string::npos);
}

TEST_CASE("values are saved and written back, but for what changed its type", "[plant]") {
  const Plant plant;
  CHECK(plant.zunth("write 'DF1/list=[5, 6, 7, 8]' --quiet").code == 0);
  CHECK(plant.zunth("snapshot before.json").out.starts_with("saved "));
  CHECK(plant.zunth("write 'DF1/list=[1, 1, 1, 1]' DF1/mode=Off --quiet").code == 0);
  const auto shown = plant.zunth("restore before.json --dry-run --output json");
  std::map<std::string, std::string> outcomes;
  for (const auto& line : Json::parse(shown.out)) outcomes[line["node"]] = line["outcome"];
  CHECK(outcomes["DF1/list"] == "would be written");
  CHECK(outcomes["DF1/mode"] == "would be written");
  CHECK(outcomes["DF1/pressure"] != "would be written");
  // Another type under the same name: the value stays away from it.
  std::ifstream in(plant.folder.path / "site/model/plant.yaml");
  std::string text{std::istreambuf_iterator<char>(in), {}};
  text.replace(text.find("mode: Mode = Auto"), 17, "mode: String = on");
  plant.folder.write("site/model/plant.yaml", text);
  REQUIRE(plant.zunthAlone("apply --site site").code == 0);
  const auto restored = plant.zunth("restore before.json");
  INFO(restored.out << restored.error);
  CHECK(restored.out.find("DF1/mode  changed its type") != std::string::npos);
  CHECK(Json::parse(plant.zunth("read DF1/list --output json").out)[0]["value"] == Json({5, 6, 7, 8}));
  CHECK(plant.zunth("restore site/site.yaml").error.find("is no snapshot") != std::string::npos);
}

TEST_CASE("places are saved, chosen and forgotten", "[plant]") {
  Plant plant;
  const std::string zunth = program("zunth");
  CHECK(run(zunth + " at add plant " + plant.url, plant.folder.path).code == 0);
  CHECK(run(zunth + " read DF1/mode --at plant", plant.folder.path).code == 0);
  CHECK(run(zunth + " at use plant", plant.folder.path).code == 0);
  CHECK(run(zunth + " read DF1/mode", plant.folder.path).code == 0);
  CHECK(run(zunth + " at --output csv", plant.folder.path).out == "name,url,chosen\nplant," + plant.url + ",true\n");
  CHECK(run(zunth + " read DF1/mode --at plnat", plant.folder.path).error ==
        "zunth: there is no place 'plnat' (BadSyntaxError)\ntry: --at plant\n");
  CHECK(run(zunth + " at add x http://y", plant.folder.path).code == 2);
  CHECK(run(zunth + " at remove plant", plant.folder.path).code == 0);
  CHECK(run(zunth + " at remove plant", plant.folder.path).code == 2);
}

TEST_CASE("the shell completes verbs, options and their values", "[plant]") {
  TemporaryFolder folder;
  run(program("zunth") + " completion > complete.sh", folder.path);
  auto complete = [&](const std::string& words, int at) {
    folder.write("try.sh", "source ./complete.sh; COMP_WORDS=(" + words + "); COMP_CWORD=" + std::to_string(at) +
                               "; _zunth; echo ${COMPREPLY[*]}");
    return run("bash try.sh", folder.path).out;
  };
  CHECK(complete("zunth wa", 1) == "watch\n");
  CHECK(complete("zunth watch --int", 2) == "--interval\n");
  CHECK(complete("zunth read x --output js", 4) == "json\n");
  CHECK(complete("zunth at us", 2) == "use\n");
  CHECK(run(program("zunth") + " completion fish", folder.path).out.find("-a explain -d 'The whole way") !=
        std::string::npos);
  CHECK(run(program("zunth") + " completion zsh", folder.path).out.starts_with("autoload -Uz compinit"));
  CHECK(run(program("zunth") + " completion ksh", folder.path).code == 2);
}

TEST_CASE("nodes are completed as the server has them", "[plant]") {
  const Plant plant;
  CHECK(plant.zunth("completion --nodes DF").out == "DF1/\n");
  CHECK(plant.zunth("completion --nodes DF1/spe").out == "DF1/speed\nDF1/speedGoal\n");
  CHECK(plant.zunth("completion --nodes nothing").code == 1);
  const auto nobody = run(program("zunth") + " completion --nodes DF --at opc.tcp://127.0.0.1:1", plant.folder.path);
  CHECK(nobody.out.empty());
}

TEST_CASE("a new site is sound and is not made over an old one", "[plant]") {
  TemporaryFolder folder;
  CHECK(run(program("zunth") + " new fish-farm", folder.path).code == 0);
  CHECK(run(program("zunth") + " check fish-farm", folder.path).out.starts_with("fish-farm is sound"));
  CHECK(run(program("zunth") + " new fish-farm", folder.path).code == 2);
  CHECK(run(program("zunth") + " check nowhere", folder.path).code == 1);
  // Nobody gets in until somebody is let in, unless it is made open.
  CHECK_FALSE(zunth::admin::loadSite(folder.path / "fish-farm").settings.allowAnonymous);
  CHECK(run(program("zunth") + " new pond --open", folder.path).code == 0);
  const auto open = zunth::admin::loadSite(folder.path / "pond");
  CHECK(open.isSound());
  CHECK(open.settings.allowAnonymous);
}

TEST_CASE("node sets that are written are valid by the standard's schema", "[plant][nodeset]") {
  const Plant plant;
  const std::string source = ZUNTH_SOURCE_DIR, schema = source + "/tests/nodesets/UANodeSet.xsd";
  const auto judged = [&](const std::string& file) {
    return run("xmllint --noout --schema " + schema + " " + file, plant.folder.path);
  };
  for (const std::string& from :
       {source + "/demo/hatchery", source + "/tests/nodesets/devices.xml", std::string("site"), plant.url}) {
    INFO(from);
    CHECK(plant.zunthAlone("convert " + from + " written.xml").code == 0);
    const auto outcome = judged("written.xml");
    INFO(outcome.error);
    CHECK(outcome.code == 0);
  }
  // The schema finds what is wrong.
  std::ifstream in(plant.folder.path / "written.xml");
  const std::string sound{std::istreambuf_iterator<char>(in), {}};
  for (const auto& [what, with] : {std::pair{"BrowseName=", "BrowsName="},
                                   {"NodeId=\"ns", "NodeId=\"nx"},
                                   {"<References>", "<Value/><References>"},
                                   {"IsForward=\"", "IsForward=\"no"}}) {
    INFO(what);
    std::string broken = sound;
    REQUIRE(broken.find(what) != std::string::npos);
    plant.folder.write("broken.xml", broken.replace(broken.find(what), std::strlen(what), with));
    CHECK(judged("broken.xml").code != 0);
  }
}

TEST_CASE("a table that is watched stays in its place, on a terminal that is too low for it and then is not",
          "[plant]") {
  const test::Plant plant;
  test::Terminal screen({test::program("zunth"), "watch", "DF1/*", "Gate/*", "--interval", "50", "--at", plant.url}, 6,
                        100);
  screen.until("Ctrl-C ends");
  // Each drawing goes up by as many lines as the one before had, and none of them has left the screen.
  const std::string frame = screen.until("Ctrl-C ends");
  CHECK(frame.find("\x1b[5A\x1b[J") != std::string::npos);
  CHECK(frame.find("3 of ") != std::string::npos);
  CHECK(frame.find("Gate/mode") == std::string::npos);
  screen.resize(40, 100);
  CHECK(screen.until("\x1b[2J").find("\x1b[H") != std::string::npos);
  CHECK(screen.until("Ctrl-C ends").find("Gate/mode") != std::string::npos);
  screen.resize(6, 100);
  CHECK(!screen.until("\x1b[2J").empty());
  // The last is whole.
  screen.type("\x03");
  CHECK(screen.until("Gate/mode").find("Gate/mode") != std::string::npos);
}

}  // namespace zunth::plant_test
