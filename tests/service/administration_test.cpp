// Bringing a running site to what its folder says, and the door by which that is asked for.
#include "core/secure/policy.hpp"
#include "service/admin/control.hpp"
#include "service/admin/site_lock.hpp"
#include "service/admin/state_file.hpp"

#include <algorithm>
#include <fstream>
#include <regex>
#include <set>

#include "tests/service/broker.hpp"
#include "tests/service/plant.hpp"
#include <catch2/catch.hpp>
#include <sys/resource.h>

namespace zunth::administration_test {

using namespace zunth::ua;
using namespace zunth::test;
using admin::Control;

namespace {

struct Running : Plant {
  Running() {
    REQUIRE(watchUntil("DF1/pressure", [](const Json& j) { return j["status"] == "Good"; }));
  }
  std::string text(const std::string& name) const {
    std::ifstream in(folder.path / "site" / name);
    return {std::istreambuf_iterator<char>(in), {}};
  }
  void edit(const std::string& name, const std::string& from, const std::string& to) const {
    std::string changed = text(name);
    REQUIRE(changed.find(from) != std::string::npos);
    folder.write("site/" + name, changed.replace(changed.find(from), from.size(), to));
  }
  Outcome apply(const std::string& options = {}) const { return zunthAlone("apply --site site " + options); }
  Json device(const std::string& name) const {
    return Json::parse(zunthAlone("device " + name + " --site site --output json").out)[0];
  }
  std::string status(const std::string& node) const {
    return Json::parse(zunth("read " + node + " --output json").out)[0]["status"];
  }
};

}  // namespace

TEST_CASE("a device that did not change doesn't notice what is applied", "[plant][apply]") {
  const Running plant;
  const auto before = plant.device("filter");
  CHECK(before["state"] == "connected");
  CHECK(plant.apply("--dry-run").code == 0);  // not even for a property that the device gives
  struct Row {
    const char *file, *from, *to;
  };
  for (const Row& row :
       {Row{"devices/filter.yaml", "driver: modbus-tcp\n", "about: In the cellar\ndriver: modbus-tcp\n"},
        Row{"devices/filter.yaml", "every: 100 ms", "every: 50 ms"},
        Row{"devices/filter.yaml", "    - washSeconds = input seconds\n", ""},
        Row{"devices/dead.yaml", "port: 1\n", "port: 2\n"},
        Row{"bindings/all.yaml", "  DF1/serial: filter/serial\n", ""},
        Row{"model/plant.yaml", "    serial: String property\n", "    serial: String property\n    depth: Double\n"},
        Row{"model/plant.yaml", "pressure: Float kPa 0..50", "pressure: Float kPa 0..60"},
        Row{"site.yaml", "node-management: on\n", "node-management: off\n"}}) {
    INFO(row.to);
    plant.edit(row.file, row.from, row.to);
    CHECK(plant.apply().code == 0);
    CHECK(plant.device("filter")["since"] == before["since"]);
    CHECK(plant.device("filter")["failures"] == before["failures"]);
    CHECK(plant.apply("--dry-run").code == 0);
  }
  // One that is spoken to in another way connects anew.
  plant.edit("devices/filter.yaml", "timeout: 500 ms", "timeout: 600 ms");
  CHECK(plant.apply("--dry-run").out.find("connects again") != std::string::npos);
  CHECK(plant.apply().code == 0);
  REQUIRE(plant.watchUntil("DF1/pressure", [](const Json& j) { return j["status"] == "Good"; }));
  CHECK(plant.device("filter")["since"] != before["since"]);
}

TEST_CASE("a variable whose binding was taken away says so", "[plant][apply]") {
  const Running plant;
  plant.edit("bindings/all.yaml", "  DF1/pressure: filter/pressure\n", "");
  CHECK(plant.apply("--dry-run").out.find("filter/pressure") != std::string::npos);
  CHECK(plant.apply().code == 0);
  CHECK(plant.status("DF1/pressure") == "UncertainLastUsableValue");
  CHECK(plant.status("DF1/speed") == "Good");
}

TEST_CASE("nothing goes as a whole by mistake", "[plant][apply]") {
  const Running plant;
  const auto site = plant.folder.path / "site";
  std::filesystem::rename(site / "model", site / "model.gone");
  const auto missing = plant.apply();
  CHECK(missing.code == 1);
  CHECK(missing.error.find("the folder model/ can't be read") != std::string::npos);
  std::filesystem::create_directory(site / "model");
  std::filesystem::remove(site / "bindings/all.yaml");
  const auto emptied = plant.apply();
  CHECK(emptied.code != 0);
  CHECK(emptied.error.find("zunth apply --yes") != std::string::npos);
  CHECK(plant.status("DF1/pressure") == "Good");  // it is still bound
  CHECK(plant.apply("--yes").code == 0);
  CHECK(plant.zunth("read DF1/pressure").code == 2);
}

TEST_CASE("who may come in is applied, and who may not any more goes", "[plant][apply]") {
  const Running plant;
  Process watch({program("zunth"), "watch", "DF1/serial", "--output", "json", "--at", plant.url});
  REQUIRE(!watch.line().empty());
  plant.edit("site.yaml", "anonymous: on", "anonymous: off");
  CHECK(plant.apply().code == 0);
  CHECK(watch.wait() != 0);
  CHECK(plant.zunth("read DF1/pressure").code == 4);
  plant.edit("site.yaml", "name: Test", "loops: 1\nname: Test");
  CHECK(plant.apply().out.find("'loops' of site.yaml counts from the next start") != std::string::npos);
}

TEST_CASE("which policies and modes are offered is applied", "[plant][apply]") {
  const Running plant;
  const auto offered = [&] {
    std::set<std::pair<std::string, std::string>> out;
    for (const Json& each : Json::parse(plant.zunth("endpoints --output json").out))
      if (each.at("policy") != "None") out.emplace(each.at("policy"), each.at("mode"));
    return out;
  };
  CHECK(offered().size() == 2 * secure::policies().size());
  plant.edit("site.yaml", "security:", "security:\n  policies: [Basic256Sha256, ECC_nistP256]\n  modes: [encrypt]");
  CHECK(plant.apply().code == 0);
  using Offers = std::set<std::pair<std::string, std::string>>;
  CHECK(offered() == Offers{{"Basic256Sha256", "SignAndEncrypt"}, {"ECC_nistP256", "SignAndEncrypt"}});
}

TEST_CASE("where the service listens is applied, and who is there stays", "[plant][apply]") {
  Running plant;
  const std::string before = plant.url, port = std::to_string(freePort());
  const std::string first = "opc.tcp://127.0.0.1:0", second = "opc.tcp://127.0.0.1:" + port;
  Process watch({program("zunth"), "watch", "DF1/pressure", "--interval", "50", "--output", "json", "--for", "60",
                 "--at", before});
  REQUIRE(!watch.line().empty());
  plant.edit("site.yaml", "endpoint: " + first, "endpoint: [\"" + first + "\", \"" + second + "\"]");
  CHECK(plant.apply().code == 0);
  CHECK(plant.zunth("read DF1/mode").code == 0);
  plant.url = second;
  CHECK(plant.zunth("read DF1/mode").code == 0);
  CHECK(plant.zunth("endpoints").out.find(second) != std::string::npos);
  // The first goes: nobody new comes by it, and who watches goes on watching.
  plant.edit("site.yaml", "\"" + first + "\", ", "");
  CHECK(plant.apply().code == 0);
  CHECK(plant.zunth("read DF1/mode").code == 0);
  plant.url = before;
  CHECK(plant.zunth("read DF1/mode --timeout 2").code != 0);
  while (!watch.line(1).empty()) continue;
  CHECK(!watch.line().empty());
  // A port that is taken is named, and what there was stays.
  plant.url = second;
  plant.edit("site.yaml", second, "opc.tcp://127.0.0.1:" + plant.simulatorPort);
  const auto taken = plant.apply();
  CHECK(taken.code == 1);
  CHECK(taken.error.find("can't listen on opc.tcp://127.0.0.1:" + plant.simulatorPort) != std::string::npos);
  CHECK(plant.zunth("read DF1/mode").code == 0);
}

TEST_CASE("how a device is doing shows as nodes, and goes with the device", "[plant][device]") {
  Running plant;
  const auto value = [&](const std::string& of) {
    return Json::parse(plant.zunth("read Devices/" + of + " --output json").out)[0]["value"];
  };
  CHECK(value("filter/Connected") == true);
  CHECK(value("dead/Connected") == false);
  CHECK(value("dead/LastError").get<std::string>().find("127.0.0.1:1 failed") != std::string::npos);
  plant.simulator->stop(SIGKILL);
  REQUIRE(plant.watchUntil("Devices/filter/Connected", [](const Json& j) { return j["value"] == false; }));
  CHECK(value("filter/LastError") != "");
  std::filesystem::remove(plant.folder.path / "site/devices/dead.yaml");
  CHECK(plant.apply().code == 0);
  CHECK(plant.zunth("read Devices/dead/Connected").code == 2);
  CHECK(value("filter/Connected") == false);
}

TEST_CASE("the way of a value is shown from the octets to the node", "[plant]") {
  const Running plant;
  const auto told = plant.zunthAlone("explain DF1/pressure --site site --output json");
  REQUIRE(told.code == 0);
  std::vector<std::string> stages;
  for (const auto& stage : Json::parse(told.out)) stages.push_back(stage["stage"]);
  constexpr std::size_t kToTheNode = 9;  // who watched it a moment ago may follow
  REQUIRE(stages.size() >= kToTheNode);
  stages.resize(kToTheNode);
  CHECK(stages == std::vector<std::string>{"device", "point", "beat", "request", "answer", "registers", "as Float",
                                           "node, a Float", "status"});
  CHECK(Json::parse(told.out)[3]["shows"] == "04 00 00 00 02");
  CHECK(Json::parse(told.out)[6]["shows"] == Json::parse(told.out)[7]["shows"]);  // the node has what was read
  {
    Process watch({program("zunth"), "watch", "DF1/speed", "--output", "json", "--at", plant.url});
    watch.line();
    const auto watched = Json::parse(plant.zunthAlone("explain DF1/speed --site site --output json").out);
    REQUIRE(watched.size() == kToTheNode + 1);
    CHECK(watched.back()["stage"].get<std::string>().starts_with("sent to "));
    CHECK(watched.back()["shows"].get<std::string>().find("(Good), each change, subscription ") != std::string::npos);
    watch.stop(SIGINT);
  }
  CHECK(plant.zunthAlone("explain DF1/mode --site site").error.find("bound to no device") != std::string::npos);
  CHECK(plant.zunthAlone("explain DF1/presure --site site").code == 2);
  CHECK(plant.zunthAlone("explain DF1 --site site").error.find("has no value") != std::string::npos);
}

TEST_CASE("one process serves a site", "[plant]") {
  const Running plant;
  const auto second = run(program("zunthd") + " site", plant.folder.path);
  CHECK(second.code == 3);
  CHECK(second.error.find("site is served already, by process " + std::to_string(plant.service->id())) !=
        std::string::npos);
  // Whoever served it may have ended in any way.
  plant.service->stop(SIGKILL);
  CHECK(admin::SiteLock::take(plant.folder.path / "site"));
  const auto nobody = plant.apply();
  CHECK(nobody.code == 3);
  CHECK(nobody.error.find("nobody serves site") != std::string::npos);
}

TEST_CASE("an octet that is no text ends in a finding", "[plant][apply]") {
  const Running plant;
  plant.folder.write("site/model/plant.yaml", "# caf\xe9\n" + plant.text("model/plant.yaml"));
  const auto refused = plant.apply("--output json");
  CHECK(refused.code == 1);
  CHECK(Json::parse(refused.out)["applied"] == false);
  CHECK(plant.status("DF1/pressure") == "Good");
}

TEST_CASE("the control door takes nonsense from nobody", "[plant]") {
  const Running plant;
  const auto site = plant.folder.path / "site";
  const auto ask = [&](const admin::Json& request) { return Control::ask(site, request, std::chrono::seconds(10)); };
  CHECK(ask({{"verb", "dance"}}).code() == status::BadNotImplemented);
  CHECK(ask({{"verb", 5}}).code() == status::BadNotImplemented);
  CHECK(ask(admin::Json::array()).code() == status::BadSyntaxError);
  CHECK(ask({{"verb", std::string(100'000, 'x')}}).error().code.isBad());
  for (int i = 0; i < 20; ++i) CHECK(ask({{"verb", "apply"}, {"show", "yes"}}).code() == status::BadSyntaxError);
  CHECK(ask({{"verb", "devices"}}));
  CHECK((std::filesystem::status(site / "state/control.sock").permissions() & std::filesystem::perms::group_all) ==
        std::filesystem::perms::none);
}

TEST_CASE("a state file is the old or the new, whatever fails", "[state]") {
  const TemporaryFolder folder;
  const auto file = folder.path / "state/users.yaml";
  REQUIRE(admin::replaceFile(file, "old"));
  const auto held = [&] {
    std::ifstream in(file);
    return std::string(std::istreambuf_iterator<char>(in), {});
  };
  int failures = 0;
  for (int call = 1; call < 20; ++call) {
    admin::failReplacingAt(call);
    const auto written = admin::replaceFile(file, "new");
    admin::failReplacingAt(0);
    failures += !written;
    CHECK(held() == (written ? "new" : "old"));
    if (!written) CHECK(written.code() == status::BadOutOfMemory);
    // Nothing is left beside it.
    CHECK(std::distance(std::filesystem::directory_iterator(file.parent_path()), {}) == 1);
    if (written) break;
  }
  CHECK(failures == 4);  // making it, writing it, syncing it, putting it in its place
  CHECK((std::filesystem::status(file).permissions() & std::filesystem::perms::group_all) ==
        std::filesystem::perms::none);
}

TEST_CASE("state that can't be read closes the door instead of opening it", "[plant][state]") {
  Running plant;
  plant.service->stop(SIGTERM);
  struct Case {
    const char *file, *text, *said;
  };
  for (const auto& c : {Case{"roles.json", "[{\"role\": ", "roles.json can't be read"},
                        {"roles.json", "[]", "roles.json can't be read"},
                        {"roles.json", R"({"version": 1, "roles": [{"role": 5}]})", "roles.json can't be read"},
                        {"roles.json", R"({"version": 0, "roles": []})", "roles.json can't be read"},
                        {"roles.json", R"({"version": 2, "roles": []})", "roles.json was written by a newer version"},
                        {"users.yaml", "", "users.yaml can't be read"},
                        {"users.yaml", "version: 1\nusers: {ada: {pass", "users.yaml can't be read"},
                        {"users.yaml", "ada: {password: x}", "users.yaml can't be read"},
                        {"users.yaml", "version: 2\nusers: {}", "users.yaml was written by a newer version"}}) {
    INFO(c.file << ": " << c.text);
    const std::string file = std::string("site/state/") + c.file;
    plant.folder.write(file, c.text);
    const auto started = run(program("zunthd") + " site", plant.folder.path);
    CHECK(started.code == 3);
    CHECK(started.error.find(c.said) != std::string::npos);
    CHECK(plant.text("state/" + std::string(c.file)) == c.text);
    std::filesystem::remove(plant.folder.path / file);
  }
}

TEST_CASE("who administers by command line is on record, whether or not the service runs", "[plant][audit]") {
  Running plant;
  ::setenv("ZUNTH_PASSWORD", "trout and salmon", 1);
  const auto recorded = [&](const std::string& what) {
    const auto all = plant.zunthAlone("audit --site site --output json").out;
    std::vector<Json> out;
    for (const auto& record : Json::parse(all))
      if (record["what"] == what) out.push_back(record);
    return out;
  };
  for (const bool isServed : {true, false}) {
    INFO((isServed ? "with a service" : "without"));
    if (!isServed) plant.service->stop(SIGTERM);
    const std::string name = isServed ? "hanna" : "leo";
    CHECK(plant.zunthAlone("user add " + name + " --role Observer --site site").code == 0);
    CHECK(plant.zunthAlone("user add " + name + " --site site").code == 2);  // there already
    CHECK(plant.zunthAlone("user role " + name + " Engineer --site site").code == 0);
    CHECK(plant.zunthAlone("user disable " + name + " --site site").code == 0);
    CHECK(plant.zunthAlone("trust open --site site --for 5").code == 0);
    CHECK(plant.zunthAlone("certificate new --site site --organization Fernhollow").code == 0);
    const auto changed = recorded("user changed");
    REQUIRE(changed.size() == (isServed ? 4u : 8u));
    const auto last = changed.end() - 4;
    CHECK(last[0]["about"] == "add " + name + ": Observer");
    CHECK(last[0]["who"].get<std::string>().ends_with("at the command line"));
    CHECK(last[0]["outcome"] == "Good");
    CHECK(last[1]["outcome"] == "BadEntryExists");
    CHECK(last[2]["about"] == "role " + name + ": Engineer");
    CHECK(last[3]["about"] == "disable " + name);
    CHECK(recorded("first contact opened").size() == (isServed ? 1u : 2u));
    CHECK(recorded("own certificate made").size() == (isServed ? 1u : 2u));
  }
  ::unsetenv("ZUNTH_PASSWORD");
}

TEST_CASE("who is connected is shown, and one is sent away", "[plant][audit]") {
  const Plant plant(false);
  Process watch({program("zunth"), "watch", "DF1/serial", "--output", "json", "--at", plant.url});
  REQUIRE(!watch.line().empty());
  const auto clients = [&](const std::string& options = {}) {
    return Json::parse(plant.zunthAlone("clients --site site --output json " + options).out);
  };
  const auto before = clients();
  REQUIRE(before.size() == 1);
  CHECK(before[0]["user"] == "Anonymous");
  CHECK(before[0]["security"] == "unsecured");
  CHECK(before[0]["items"] == 1);
  CHECK(clients("--like unsecured").size() == 1);
  CHECK(clients("--like encrypted").empty());
  const auto unknown = plant.zunthAlone("clients --site site --end nobody");
  CHECK(unknown.code != 0);
  CHECK(unknown.error.find("no client has the id or name nobody") != std::string::npos);
  const auto ended = plant.zunthAlone("clients --site site --end '" + before[0]["id"].get<std::string>() + "'");
  CHECK(ended.code == 0);
  CHECK(ended.out.find("has ended") != std::string::npos);
  // The client comes again, as another session.
  Json after = clients();
  for (int i = 0; i < 200 && (after.empty() || after[0]["items"] == 0); ++i) after = clients();
  REQUIRE(after.size() == 1);
  CHECK(after[0]["id"] != before[0]["id"]);
  const auto audit = Json::parse(plant.zunthAlone("audit --site site --what 'session ended' --output json").out);
  REQUIRE(audit.size() == 1);
  CHECK(audit[0]["who"].get<std::string>().ends_with("at the command line"));
}

TEST_CASE("the fields that programs read are those of the documentation", "[plant][docs]") {
  Running plant;
  ::setenv("ZUNTH_PASSWORD", "trout and salmon", 1);
  REQUIRE(plant.zunthAlone("user add hanna --site site").code == 0);
  ::unsetenv("ZUNTH_PASSWORD");
  REQUIRE(plant.zunth("write Gate/mode=Off").code == 0);                                            // for an alarm
  Process watch({program("zunth"), "watch", "DF1/serial", "--output", "json", "--at", plant.url});  // for a client
  REQUIRE(!watch.line().empty());
  std::ifstream page(std::string(ZUNTH_SOURCE_DIR) + "/docs/commands.md");
  std::string line;
  while (std::getline(page, line) && line != "| command | fields |") continue;
  std::getline(page, line);
  int rows = 0;
  while (std::getline(page, line) && line.starts_with("| `")) {
    const auto end = line.find('`', 3), bar = line.find(" | ", end);
    const std::string command = line.substr(3, end - 3);
    const std::string fields = line.substr(bar + 3, line.rfind(" |") - bar - 3);
    INFO(command);
    const std::string verb = command.substr(0, command.find(' '));
    const bool isLocal =
        std::ranges::count(std::vector<std::string>{"device", "explain", "apply", "audit", "log", "user", "trust",
                                                    "certificate", "clients", "interfaces"},
                           verb);
    const auto told =
        isLocal ? plant.zunthAlone(command + " --site site --output json") : plant.zunth(command + " --output json");
    CHECK(told.code <= 1);
    ++rows;
    const auto json = Json::parse(told.out);
    if (json.empty()) {
      CHECK((verb == "trust" || verb == "log"));  // nobody is known yet, and nothing was told
      continue;
    }
    std::string found;
    for (const auto& [key, value] : (json.is_array() ? json.front() : json).items())
      found += (found.empty() ? "" : ", ") + key;
    CHECK(found == fields);
    // The same in YAML, as far as a line tells.
    const auto yaml =
        isLocal ? plant.zunthAlone(command + " --site site --output yaml") : plant.zunth(command + " --output yaml");
    CHECK(yaml.out.find(fields.substr(0, fields.find(',')) + ": ") != std::string::npos);
  }
  CHECK(rows == 22);
}

TEST_CASE("how much the service tells is applied, and what it was comes back", "[plant][apply]") {
  Running plant;
  plant.service->stop(SIGTERM);
  plant.edit("site.yaml", "name: Test", "log: error\nname: Test");
  plant.service = std::make_unique<Process>(
      std::vector<std::string>{"/bin/sh", "-c",
                               "exec " + program("zunthd") + " " + (plant.folder.path / "site").string() +
                                   " --log off 2>" + (plant.folder.path / "site/log.txt").string()});
  const std::string line = plant.service->line();
  plant.url = line.substr(line.find("opc.tcp"));
  const auto told = [&] {
    const auto before = plant.text("log.txt").size();
    CHECK(plant.zunth("read DF1/mode").code == 0);
    return plant.text("log.txt").substr(before).find("session") != std::string::npos;
  };
  CHECK(!told());
  plant.edit("site.yaml", "log: error", "log: loud");
  CHECK(plant.apply().error.find("'loud' is no level of the log") != std::string::npos);
  plant.edit("site.yaml", "log: loud", "log: info");
  CHECK(plant.apply().code == 0);
  CHECK(told());
  plant.edit("site.yaml", "log: info\n", "");
  CHECK(plant.apply().code == 0);
  CHECK(!told());
}

TEST_CASE("a full disk stops nobody, is said, and takes nothing that was there", "[plant][state][hostile]") {
  const Running plant;
  const pid_t service = plant.service->id();
  ::setenv("ZUNTH_PASSWORD", "trout and salmon", 1);
  REQUIRE(plant.zunthAlone("user add hanna --site site").code == 0);
  const std::string users = plant.text("state/users.yaml"), audit = plant.text("state/audit/administration.jsonl");
  Process watch({program("zunth"), "watch", "DF1/pressure", "--output", "json", "--at", plant.url});
  REQUIRE(!watch.line().empty());

  rlimit room{0, RLIM_INFINITY};
  REQUIRE(::prlimit(service, RLIMIT_FSIZE, &room, nullptr) == 0);
  const auto refused = plant.zunthAlone("user add berta --site site");
  CHECK(refused.code != 0);
  CHECK(refused.error.find("users.yaml can't be written") != std::string::npos);
  CHECK(plant.text("state/users.yaml") == users);
  CHECK(plant.text("state/audit/administration.jsonl") == audit);
  for (int i = 0; i < 20; ++i) CHECK(plant.zunth("write DF1/list='[1, 2, 3, 4]'").code == 0);
  for (int i = 0; i < 3; ++i) CHECK(!watch.line().empty());

  room = {RLIM_INFINITY, RLIM_INFINITY};
  REQUIRE(::prlimit(service, RLIMIT_FSIZE, &room, nullptr) == 0);
  CHECK(plant.zunthAlone("user add berta --site site").code == 0);
  CHECK(plant.zunthAlone("audit --site site").out.find("berta") != std::string::npos);
  ::unsetenv("ZUNTH_PASSWORD");
}

TEST_CASE("a shutdown is asked for by an administrator alone, and announced to everybody", "[plant]") {
  Running plant;
  ::setenv("ZUNTH_PASSWORD", "trout and salmon", 1);
  REQUIRE(plant.zunthAlone("user add ada --role ConfigureAdmin --site site").code == 0);
  REQUIRE(plant.zunthAlone("user add otto --role Operator --site site").code == 0);
  // Both sides come to trust each other.
  std::smatch print;
  const auto stranger = plant.zunth("read DF1/mode --user ada");
  REQUIRE(std::regex_search(stranger.error, print, std::regex("--trust ([0-9A-F:]+)")));
  REQUIRE(plant.zunth("read DF1/mode --user ada --trust " + print[1].str()).code == 0);
  const auto unknown = plant.zunth("read DF1/mode --user ada --security encrypt");
  REQUIRE(std::regex_search(unknown.error, print, std::regex("zunth trust allow ([0-9A-F:]+)")));
  REQUIRE(plant.zunthAlone("trust allow " + print[1].str() + " --site site").code == 0);
  const std::string shutdown =
      "call Server/RequestServerStateChange State=4 EstimatedReturnTime=2026-01-01T00:00:00Z SecondsTillShutdown=3 "
      "Reason='The pump is repaired' Restart=false ";
  CHECK(plant.zunth(shutdown).error.find("BadSecurityModeInsufficient") != std::string::npos);
  CHECK(plant.zunth(shutdown + "--user otto --security encrypt").error.find("BadUserAccessDenied") !=
        std::string::npos);

  // By which rule a role is held shows to administrators: those of users, and those that are always there.
  const auto roles = [&](const std::string& role) {
    return plant.zunth("read Server/ServerCapabilities/RoleSet/" + role + "/Identities --user ada --security encrypt")
        .out;
  };
  CHECK(roles("Operator").find("otto") != std::string::npos);
  CHECK(roles("ConfigureAdmin").find("ada") != std::string::npos);
  CHECK(roles("AuthenticatedUser").find("AuthenticatedUser") != std::string::npos);

  Process watch({program("zunth"), "watch", "Server/ServerStatus/SecondsTillShutdown", "Server/ServerStatus/State",
                 "Server/ServerStatus/ShutdownReason", "--interval", "100", "--output", "json", "--at", plant.url});
  for (int i = 0; i < 3; ++i) REQUIRE(!watch.line().empty());
  const auto asked = plant.zunth(shutdown + "--user ada --security encrypt");
  INFO(asked.error);
  CHECK(asked.code == 0);
  std::string heard;
  for (std::string line = watch.line(); line.find("\"value\":1,") == std::string::npos && !line.empty();
       line = watch.line())
    heard += line + "\n";
  CHECK(heard.find("The pump is repaired") != std::string::npos);
  CHECK(heard.find("\"value\":2,") != std::string::npos);
  watch.stop();
  CHECK(plant.service->wait() == 0);
  CHECK(plant.zunthAlone("audit --site site").out.find("shutdown asked for") != std::string::npos);
  ::unsetenv("ZUNTH_PASSWORD");
}

}  // namespace zunth::administration_test
