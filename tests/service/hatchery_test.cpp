// The demo's plant with all of its devices, on ports of its own.
#include "tests/service/hatchery.hpp"

#include <algorithm>
#include <map>
#include <sstream>

#include <catch2/catch.hpp>

namespace zunth::hatchery_test {

using test::Hatchery;
using test::program;
using ua::Json;

namespace {

const auto isGood = [](const Json& value) { return value["status"].get<std::string>().starts_with("Good"); };

}  // namespace

TEST_CASE("every driver brings values, takes what is written, and carries methods out", "[hatchery]") {
  const Hatchery hatchery;
  const std::vector<std::string> nodes{"Hatchery/Intake/DF1/pressure",
                                       "Hatchery/Hall1/Tank A1/oxygen",
                                       "Hatchery/Hall2/Tank B4/temperature",
                                       "Hatchery/Hall1/Feeder/hopper",
                                       "Hatchery/Hall1/Feeder/portions",
                                       "Hatchery/Brook/level",
                                       "Hatchery/Feed/weight",
                                       "Hatchery/Outflow/ph",
                                       "Hatchery/Outflow/flow",
                                       "Hatchery/Weather/air"};
  for (const auto& node : nodes) {
    INFO(node);
    CHECK(hatchery.becomes(node, isGood));
  }
  struct Row {
    const char *node, *written;
    Json shown;
  };
  for (const Row& row :
       {Row{"Hatchery/Hall1/Feeder/locked", "true", true}, Row{"Hatchery/Hall1/Feeder/portion", "250", 250},
        Row{"Hatchery/Hall1/Tank A2/air", "true", true}, Row{"Hatchery/Brook/pump", "false", false},
        Row{"Hatchery/Brook/opening", "45", 45.0}}) {
    INFO(row.node);
    CHECK(hatchery.write(row.node, row.written));
    CHECK(hatchery.becomes(row.node, [&](const Json& value) { return value["value"] == row.shown; }));
  }
  // The bit beside the one that was written is as it was.
  CHECK(hatchery.read("Hatchery/Hall1/Feeder/byTheClock")["value"] == true);
  CHECK(hatchery.zunth("call Hatchery/Brook/shut").code == 0);
  CHECK(hatchery.becomes("Hatchery/Brook/gate", [](const Json& value) { return value["value"] == 1; }));
  CHECK(hatchery.zunth("call Hatchery/Feed/tare").code == 0);
  CHECK(hatchery.becomes("Hatchery/Feed/weight", [](const Json& value) { return value["value"] < 1; }));
  const auto refused = hatchery.zunth("write Hatchery/Outflow/flow=3");
  CHECK(refused.code != 0);
  const auto way = hatchery.zunthAlone("explain Hatchery/Outflow/flow --site site");
  CHECK(way.out.find("Hatchery/Intake/DF1/inflow") != std::string::npos);
}

TEST_CASE("what goes over a line is shown while somebody looks", "[hatchery]") {
  const Hatchery hatchery;
  struct Row {
    const char *device, *node;
    std::vector<std::string> said;
  };
  for (const Row& row :
       {Row{"filter-DF1",
            "Hatchery/Intake/DF1/pressure",
            {"→  unit 1: read input registers 0 to 17", "←  unit 1: read input registers: done", "04 00 00 00 12"}},
        Row{"feeder-line", "Hatchery/Hall1/Feeder/hopper", {"unit 3: read input registers 0 to 3"}},
        Row{"scale", "Hatchery/Feed/weight", {"→  W\\r\\n", "kg\\r\\n", "57 0D 0A"}},
        Row{"intake-station", "Hatchery/Brook/level", {"05 64"}},
        Row{"probes", "Hatchery/Hall1/Tank A1/oxygen", {"←  probes/A1/reading: {"}}}) {
    INFO(row.device);
    REQUIRE(hatchery.becomes(row.node, isGood));
    const auto seconds = std::string(row.device) == "intake-station" ? "6" : "2";
    const auto log = hatchery.zunthAlone(std::string("device log ") + row.device + " --site site --for " + seconds);
    for (const auto& words : row.said) {
      INFO(words);
      CHECK(log.out.find(words) != std::string::npos);
    }
  }
  CHECK(hatchery.zunthAlone("device log fliter --site site").error.find("there is no device 'fliter'") !=
        std::string::npos);
}

TEST_CASE("what people did about the plant's alarms stands after kill -9", "[hatchery][alarm]") {
  Hatchery hatchery;
  REQUIRE(hatchery.becomes("Hatchery/Intake/DF1/pressure", isGood));
  struct Row {
    const char *deed, *alarm, *state;
  };
  // None that comes by itself meanwhile: it would be another occurrence, without a comment.
  const Row rows[] = {{"shelve --for 1h", "Hatchery/Hall2/Tank B1/stuffy", "shelved for"},
                      {"shelve --for 30min", "Hatchery/Hall1/Tank A1/stuffy", "shelved for"},
                      {"suppress", "Hatchery/Brook/screen", "suppressed"},
                      {"remove", "Hatchery/Intake/DF2/stopped", "out of service"}};
  for (const Row& row : rows) {
    INFO(row.alarm);
    const std::string deed = row.deed, word = deed.substr(0, deed.find(' '));
    const auto done = hatchery.zunth("alarm " + word + " '" + row.alarm + "'" + deed.substr(word.size()) +
                                     " --comment 'until " + word + "'");
    INFO(done.error);
    CHECK(done.code == 0);
  }
  // The question is asked as long as its device says so.
  CHECK(hatchery.write("Hatchery/Hall1/Feeder/locked", "true"));
  CHECK(hatchery.becomes("Hatchery/Hall1/Feeder/occupied/DialogState/Id",
                         [](const Json& value) { return value["value"] == true; }));
  hatchery.service->stop(SIGKILL);
  hatchery.startService();
  const auto all = Json::parse(hatchery.zunth("alarms --all --output json").out);
  const auto find = [&](const std::string& alarm) {
    for (const auto& each : all)
      if (each["alarm"] == alarm) return each;
    return Json();
  };
  INFO(all.dump(1));
  for (const Row& row : rows) {
    INFO(row.alarm);
    const Json stands = find(row.alarm);
    REQUIRE(!stands.is_null());
    CHECK(stands["state"].get<std::string>().find(row.state) != std::string::npos);
    CHECK(stands["comment"].get<std::string>().starts_with("until "));
  }
  CHECK(find("Hatchery/Hall1/Feeder/occupied")["state"].get<std::string>().starts_with("asks: "));
}

TEST_CASE("a plant is tried before it exists", "[hatchery]") {
  const Hatchery hatchery(false);
  for (const auto& [node, low, high] :
       std::vector<std::tuple<std::string, double, double>>{{"Hatchery/Intake/DF1/pressure", 0, 50},
                                                            {"Hatchery/Hall1/Tank A1/oxygen", 0, 20},
                                                            {"Hatchery/Hall1/Feeder/hopper", 0, 10},
                                                            {"Hatchery/Outflow/ph", 6, 9},
                                                            {"Hatchery/Feed/weight", -600, 600}}) {
    INFO(node);
    CHECK(hatchery.becomes(node, isGood));
    const double value = hatchery.read(node)["value"];
    CHECK((value > low && value < high));
  }
  CHECK(hatchery.write("Hatchery/Hall1/Feeder/portion", "321"));
  CHECK(hatchery.becomes("Hatchery/Hall1/Feeder/portion", [](const Json& value) { return value["value"] == 321; }));
}

TEST_CASE("devices go and come back each for itself", "[hatchery]") {
  Hatchery hatchery;
  struct Row {
    const char *device, *node;
  };
  const std::vector<Row> rows{{"feeder-line", "Hatchery/Hall1/Feeder/hopper"},
                              {"scale", "Hatchery/Feed/weight"},
                              {"intake-station", "Hatchery/Brook/level"},
                              {"probes", "Hatchery/Hall1/Tank A1/oxygen"}};
  for (const auto& row : rows) REQUIRE(hatchery.becomes(row.node, isGood));
  for (const auto& row : rows) {
    INFO(row.device);
    hatchery.devices[row.device]->stop(SIGKILL);
    CHECK(hatchery.becomes(row.node, [](const Json& value) { return value["status"] == "BadNoCommunication"; }));
  }
  CHECK(isGood(hatchery.read("Hatchery/Intake/DF1/pressure")));
  CHECK(isGood(hatchery.read("Hatchery/Outflow/ph")));
  hatchery.start("feeder-line", {"feeder", "--line", (hatchery.site() / "feeder-line").string(), "--unit", "3"});
  hatchery.start("scale", {"scale", "--port", hatchery.ports["4001"]});
  hatchery.start("intake-station", {"outstation", "--port", hatchery.ports["20000"]});
  hatchery.startProbes();
  for (const auto& row : rows) {
    INFO(row.device);
    CHECK(hatchery.becomes(row.node, isGood));
  }
}

TEST_CASE("a device that nobody knows is looked through, kept in part and watched without stating a type",
          "[hatchery]") {
  const Hatchery hatchery;
  const std::string filter = "modbus-tcp port=" + hatchery.ports.at("5502");
  const auto scanned = hatchery.zunthAlone("device scan " + filter + " --output json");
  REQUIRE(scanned.code == 0);
  std::map<std::string, std::string> found;
  for (const auto& each : Json::parse(scanned.out)) found[each["name"]] = each["point"];
  CHECK(found["input0"] == "input 0 Float");
  CHECK(found["holding10"].starts_with("holding 10 String"));
  const auto kept =
      hatchery.zunthAlone("device scan " + filter +
                          " --keep input0,input2,discrete0,holding0,holding2,holding10,coil1 --into found "
                          "--site site");
  CHECK(kept.code == 0);
  CHECK(hatchery.zunthAlone("device scan " + filter + " --into found --site site").code == 2);  // it is there
  CHECK(hatchery.zunthAlone("check site").code == 0);
  CHECK(hatchery.zunthAlone("apply --site site").code == 0);
  CHECK(hatchery.becomes("found/input0", isGood));
  const auto shown = hatchery.zunth("show found/input0");
  CAPTURE(shown.out, shown.error, shown.code);
  CHECK(shown.out.find("Float") != std::string::npos);

  const auto tried = hatchery.zunthAlone("device try " + filter + " --point 'input 0' --output json");
  CHECK(Json::parse(tried.out).size() > 20);
  CHECK(hatchery.zunthAlone("device try scale --site site").out.find("kg") != std::string::npos);
  const auto scale = Json::parse(hatchery.zunthAlone("device try scale --site site --output json").out);
  CHECK(std::ranges::any_of(scale, [](const Json& row) { return row["node"] == "Hatchery/Feed/weight"; }));
  CHECK(hatchery.zunthAlone("device try modbus-tcp port=1").code == 3);
  CHECK(hatchery.zunthAlone("device try modbus-tpc").code == 2);
  CHECK(hatchery.zunthAlone("device scan line port=1").code != 0);
  // One with a master already would be torn between two.
  test::Process another({program("zunth-sim"), "outstation", "--port", "0"});
  const std::string where = another.line();
  const auto outstation =
      hatchery.zunthAlone("device scan dnp3 port=" + where.substr(where.rfind(':') + 1) + " --output json");
  CHECK(Json::parse(outstation.out).size() == 9);
  const auto heard = hatchery.zunthAlone("device scan mqtt broker=" + hatchery.broker.address() + " --for 2");
  CHECK(heard.out.find("$.oxygen time $.at") != std::string::npos);
}

}  // namespace zunth::hatchery_test
