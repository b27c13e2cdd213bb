// What operators do to alarms, through the programs.
#include <csignal>
#include <fstream>

#include "tests/service/plant.hpp"
#include <catch2/catch.hpp>

namespace zunth::alarm_plant_test {

using namespace zunth::test;

namespace {

/// A plant whose gate has an alarm with all that can be done to one.
struct Watched : Plant {
  Watched() : Plant(false) {
    model(" shelvable for 8h latched suppressible removable audible confirm branches 2 group Gates");
  }
  void model(const std::string& care) {
    const auto file = folder.path / "site/model/plant.yaml";
    if (text.empty()) {
      std::ifstream in(file);
      text.assign(std::istreambuf_iterator<char>(in), {});
    }
    std::string changed = text;
    const std::string word = "discrete mode when Off severity 600";
    changed.replace(changed.find(word), word.size(), word + care);
    folder.write("site/model/plant.yaml", changed);
    REQUIRE(zunthAlone("apply --site site").code == 0);
  }
  Json listed(const std::string& options = {}) const {
    return Json::parse(zunth("alarms --output json " + options).out);
  }
  void again(int signal) {
    service->stop(signal);
    service = std::make_unique<Process>(
        std::vector<std::string>{program("zunthd"), (folder.path / "site").string(), "--log", "off"});
    const std::string line = service->line();
    url = line.substr(line.find("opc.tcp"));
  }
  std::string text;
};

}  // namespace

TEST_CASE("alarms are put aside, silenced and reset from the command line, each outcome in a line", "[plant][alarm]") {
  const Watched plant;
  CHECK(plant.zunth("write Gate/mode=Off").code == 0);
  struct Row {
    const char *deed, *out;
    int code;
    const char* state;  // of the alarm after it, with --all
  };
  for (const Row& row : {
           Row{"shelve Gate/idle --for 2h --comment 'new motor'", "Gate/idle  shelved\n", 0,
               "shelved for 120 min, active, to acknowledge"},
           Row{"shelve Gate/idle --for 2h", "", 5, nullptr},
           Row{"shelve Gate/idle --once", "Gate/idle  shelved\n", 0, "shelved until it goes, active, to acknowledge"},
           Row{"unshelve '*/idle'", "Gate/idle  taken from the shelf\n", 0, "active, to acknowledge"},
           Row{"shelve Gate/idle --for 9h", "", 5, nullptr},
           Row{"shelve Gate/idle", "", 2, nullptr},
           Row{"shelve Gate/idle --for soon", "", 2, nullptr},
           Row{"silence Gate/idle --for 2h", "", 2, nullptr},
           Row{"suppress Gate/idle", "Gate/idle  suppressed\n", 0, "suppressed, active, to acknowledge"},
           Row{"unsuppress Gate/idle", "Gate/idle  unsuppressed\n", 0, "active, to acknowledge"},
           Row{"remove Gate/idle --comment winter", "Gate/idle  removed from service\n", 0,
               "out of service, active, to acknowledge"},
           Row{"place Gate/idle", "Gate/idle  placed in service\n", 0, "active, to acknowledge"},
           Row{"silence Gate/idle", "Gate/idle  silenced\n", 0, nullptr},
           Row{"confirm Gate/idle", "", 5, nullptr},
           Row{"reset Gate/idle", "", 5, nullptr},
           Row{"acknowledge Gate/idle", "Gate/idle  acknowledged\n", 0, "active, to confirm"},
           Row{"confirm Gate/idle", "Gate/idle  confirmed\n", 0, "active, acknowledged"},
           Row{"comment Gate/idle --comment 'it is known'", "Gate/idle  commented\n", 0, "active, acknowledged"},
           Row{"comment Gate/idle", "", 2, nullptr},
           Row{"disable Gate/idle", "Gate/idle  disabled\n", 0, nullptr},
           Row{"enable Gate/idle", "Gate/idle  enabled\n", 0, "active, acknowledged"},
           Row{"silence DF1", "", 2, nullptr},
           Row{"dance Gate/idle", "", 2, nullptr},
       }) {
    INFO(row.deed);
    const auto done = plant.zunth(std::string("alarm ") + row.deed);
    CHECK(done.out == row.out);
    CHECK(done.code == row.code);
    CHECK(done.error.empty() == (row.code == 0));
    if (row.state) CHECK(plant.listed("--all")[0]["state"] == row.state);
  }
  CHECK(plant.listed()[0]["comment"] == "it is known");
  CHECK(plant.zunth("write Gate/mode=Auto").code == 0);
  CHECK(plant.listed()[0]["state"] == "gone, to reset");
  CHECK(plant.listed("--state latched").size() == 1);
  CHECK(plant.listed("--state shelved").empty());
  CHECK(plant.listed("--area Gate").size() == 1);
  CHECK(plant.listed("--area DF1").empty());
  CHECK(plant.listed("--class Process").size() == 1);
  CHECK(plant.listed("--class Safety").empty());
  CHECK(plant.zunth("alarm reset Gate/idle").code == 0);
  CHECK(plant.listed("--all").empty());
  // What is put aside is in nobody's way, and counted.
  CHECK(plant.zunth("alarm shelve Gate/idle --for 1h").code == 0);
  CHECK(plant.listed().empty());
  CHECK(plant.listed("--state shelved")[0]["state"] == "shelved for 60 min");
  CHECK(plant.zunth("write Gate/mode=Off").code == 0);
  CHECK(plant.listed().empty());
  CHECK(plant.listed("--all").size() == 1);
  const auto counts = Json::parse(plant.zunth("alarms --count --output json").out);
  CHECK(counts.back()["put aside"] == 1);
  CHECK(counts.back()["to acknowledge"] == 1);
}

TEST_CASE("a dialog is answered from the command line, and what alarms do is counted", "[plant][alarm]") {
  Watched plant;
  plant.model(
      ", shut: {is: dialog mode when Off severity 300, message: \"Is the gate shut?\", options: [It is, Not yet]}, "
      "figures: metrics");
  const auto asked = plant.listed("--state asked");
  CHECK(asked.empty());
  CHECK(plant.zunth("write Gate/mode=Off").code == 0);
  REQUIRE(plant.listed("--state asked").size() == 1);
  CHECK(plant.listed("--state asked")[0]["message"] == "Is the gate shut?");
  CHECK(plant.listed("--state asked")[0]["state"] == "asks: It is | Not yet");
  struct Row {
    const char *deed, *out, *error;
    int code;
  };
  for (const Row& row : {
           Row{"respond Gate/shut", "", "--answer Yes", 2},
           Row{"silence Gate/shut --answer Yes", "", "--answer goes with respond", 2},
           Row{"respond Gate/shut --answer Maybe", "", "one of It is | Not yet", 5},
           Row{"respond Gate/idle --answer Yes", "", "'dialog'", 2},
           Row{"respond Gate/shut --answer 'not yet' --comment 'ice'", "Gate/shut  answered\n", "", 0},
           Row{"respond Gate/shut --answer 0", "", "BadDialogNotActive", 5},
       }) {
    INFO(row.deed);
    const auto done = plant.zunth(std::string("alarm ") + row.deed);
    CHECK(done.out == row.out);
    CHECK(done.error.find(row.error) != std::string::npos);
    CHECK(done.code == row.code);
  }
  CHECK(plant.listed("--state asked").empty());
  CHECK(plant.zunth("read Gate/shut/LastResponse").out.find('1') != std::string::npos);
  CHECK(Json::parse(plant.zunth("read Gate/figures/AlarmCount --output json").out)[0]["value"] == 1);
  CHECK(plant.zunth("call Gate/figures/Reset").code == 0);
  CHECK(Json::parse(plant.zunth("read Gate/figures/AlarmCount --output json").out)[0]["value"] == 0);
  // The model is unchanged by what happened.
  CHECK(plant.zunthAlone("apply --site site --dry-run").out.find("changed") == std::string::npos);
}

TEST_CASE("alarms stand as they stood after an apply, a stop and kill -9", "[plant][alarm][state]") {
  Watched plant;
  CHECK(plant.zunth("write Gate/mode=Off").code == 0);
  CHECK(plant.zunth("write Gate/mode=Auto").code == 0);
  CHECK(plant.zunth("write Gate/mode=Off").code == 0);
  CHECK(plant.zunth("alarm shelve Gate/idle --for 2h --comment 'new motor'").code == 0);
  // The earlier occurrence first, as it came first.
  const auto stands = plant.listed("--all");
  REQUIRE(stands.size() == 2);
  CHECK(stands[0]["state"] == "gone, to acknowledge, earlier");
  CHECK(stands[1]["comment"] == "new motor");
  const auto check = [&] {
    const auto now = plant.listed("--all");
    REQUIRE(now.size() == 2);
    CHECK(now[0] == stands[0]);
    CHECK(now[1]["comment"] == "new motor");
    // The variable has no device: after a start it has its first value, and so the alarm has gone.
    const std::string state = now[1]["state"];
    CHECK(state.find("to acknowledge") != std::string::npos);
    CHECK(state.find("shelved for 1") != std::string::npos);
  };
  plant.model(" shelvable for 9h latched suppressible removable audible confirm branches 2 group Gates class safety");
  check();
  CHECK(plant.listed("--all --class Safety").size() == 2);
  plant.again(SIGKILL);
  check();
  plant.again(SIGTERM);
  check();
  CHECK(plant.zunth("acknowledge Gate/idle").code == 0);
  CHECK(plant.listed("--all").size() == 2);  // both are to be confirmed
  CHECK(plant.zunth("acknowledge Gate/idle --confirm").code == 0);
  CHECK(plant.listed("--all").size() == 1);  // latched
  // A file that is none is put aside, and told.
  plant.service->stop(SIGTERM);
  plant.folder.write("site/state/alarms.sqlite", "no database");
  plant.again(SIGTERM);
  CHECK(plant.listed("--all").empty());
  CHECK(std::filesystem::exists(plant.folder.path / "site/state/alarms.sqlite.damaged"));
}

}  // namespace zunth::alarm_plant_test
