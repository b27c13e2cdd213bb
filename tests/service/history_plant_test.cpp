// History through the programs: zunthd keeps it, zunth reads, draws and corrects it.

#include <algorithm>
#include <csignal>
#include <fstream>
#include <map>
#include <thread>

#include "tests/service/plant.hpp"
#include <catch2/catch.hpp>

namespace zunth::history_plant_test {

using namespace zunth::test;
namespace fs = std::filesystem;

/// A plant whose set-point is given a history while it runs.
struct Kept : Plant {
  Kept() {
    const fs::path model = folder.path / "site/model/plant.yaml";
    std::ifstream in(model);
    std::string text((std::istreambuf_iterator<char>(in)), {});
    const std::string word = "speedGoal: Float Hz 0..60 writable";
    text.replace(text.find(word), word.size(), word + " history");
    folder.write("site/model/plant.yaml", text);
  }
  std::vector<double> values(const std::string& options = {}) const {
    const auto told = zunth("history DF1/speedGoal --output json " + options);
    std::vector<double> out;
    if (told.code != 0) return out;
    for (const auto& each : Json::parse(told.out))
      if (each["value"].is_number()) out.push_back(each["value"].get<double>());
    return out;
  }
  void set(double value) const {
    REQUIRE(zunth("write DF1/speedGoal=" + std::to_string(value)).code == 0);
    // The device has read it back: it is in the history when it is in the variable.
    REQUIRE(watchUntil("DF1/speedGoal", [&](const Json& j) { return j["value"].is_number() && j["value"] == value; }));
  }
  static bool has(const std::vector<double>& all, std::vector<double> wanted) {
    return !std::ranges::search(all, wanted).empty();
  }
};

TEST_CASE("history is kept from when the model says so, read, drawn and corrected", "[plant][history]") {
  const Kept plant;
  const auto none = plant.zunth("history DF1/speedGoal");
  CHECK(none.code != 0);
  CHECK(none.error.find("has no history") != std::string::npos);
  REQUIRE(plant.zunthAlone("apply --site site").code == 0);
  plant.set(11);
  plant.set(12);
  plant.set(13);
  CHECK(Kept::has(plant.values(), {11, 12, 13}));
  CHECK(plant.values("--last 2") == std::vector<double>{12, 13});
  CHECK(plant.values("--every 1h --aggregate minimum --from -30min") == std::vector<double>{11});
  // What is calculated has the variable's unit, or one of its own.
  for (const auto& [aggregate, unit] : std::map<std::string, std::string>{
           {"minimum", "Hz"}, {"count", ""}, {"percentgood", "%"}, {"durationgood", "ms"}, {"total", "Hz·s"}}) {
    INFO(aggregate);
    const auto told =
        plant.zunth("history DF1/speedGoal --every 1h --from -30min --output json --aggregate " + aggregate);
    REQUIRE(!Json::parse(told.out).empty());
    CHECK(Json::parse(told.out)[0]["unit"] == unit);
  }
  CHECK(plant.zunth("history DF1/speedGoal --aggregate maximun --every 1h").error.find("Maximum") != std::string::npos);
  CHECK(plant.zunth("history DF1/speedGoal --from someday").code == 2);
  CHECK(plant.zunth("history DF1/speedGoal --chart").out.find("DF1/speedGoal  (Hz)") != std::string::npos);
  CHECK(plant.zunth("plot DF1/speedGoal --into goal.svg").code == 0);
  std::ifstream picture(plant.folder.path / "goal.svg");
  CHECK(std::string((std::istreambuf_iterator<char>(picture)), {}).find("<path d=\"M") != std::string::npos);

  // Out, away, and in again.
  const auto before = plant.values();
  const auto table = plant.zunth("history DF1/speedGoal --output csv");
  plant.folder.write("goal.csv", table.out);
  CHECK(plant.zunth("history DF1/speedGoal --delete").code == 2);
  CHECK(plant.zunth("history DF1/speedGoal --delete --from -30min --dry-run").code == 0);
  CHECK(plant.values() == before);
  CHECK(plant.zunth("history DF1/speedGoal --delete --from -30min").code == 0);
  CHECK(plant.values().empty());
  CHECK(plant.zunth("history DF1/speedGoal --import goal.csv").code == 0);
  CHECK(plant.values() == before);
  const auto modified = plant.zunth("history DF1/speedGoal --modified --output csv").out;
  CHECK(modified.find("deleted") != std::string::npos);
  CHECK(modified.find("inserted") != std::string::npos);

  // Why it was so, in somebody's words.
  CHECK(plant.zunth("annotate DF1/speedGoal 'pump was cleaned' --moment '-10min'").code == 0);
  CHECK(plant.zunth("annotate DF1/speedGoal 'by hand'").code == 0);
  const auto remarks = Json::parse(plant.zunth("annotate DF1/speedGoal --output json").out);
  REQUIRE(remarks.size() == 2);
  CHECK(remarks[0]["annotation"] == "pump was cleaned");
  CHECK(plant.zunth("annotate DF1/speedGoal --remove").code == 2);
  CHECK(plant.zunth("annotate DF1/speedGoal --remove --moment " + remarks[0]["moment"].get<std::string>()).code == 0);
  CHECK(plant.zunth("annotate DF1/speedGoal --remove --moment " + remarks[0]["moment"].get<std::string>()).code != 0);
  CHECK(Json::parse(plant.zunth("annotate DF1/speedGoal --output json").out).size() == 1);
  CHECK(plant.zunth("annotate DF1/speedGoal --from -3d --to -2d").code == 1);
  CHECK(plant.zunth("annotate DF1/serial x").error.find("takes no annotations") != std::string::npos);
  CHECK(plant.zunth("history DF1/speedGoal --aggregate annotationcount --every 1h --from -1h").out.find(" 1 ") !=
        std::string::npos);

  // What was announced, too.
  CHECK(plant.zunth("write Gate/mode=Off").code == 0);
  CHECK(plant.zunth("events --from -10min --severity 500").out.find("Gate/mode") != std::string::npos);
  CHECK(plant.zunth("events --from -10min --to -9min").code == 1);
}

TEST_CASE("history stands through kill -9, and what nobody saw is marked as lost", "[plant][history]") {
  Kept plant;
  REQUIRE(plant.zunthAlone("apply --site site").code == 0);
  plant.set(21);
  // Once a second it is made safe, by several writes. A first time may have begun before the value came, and its writes
  // may be apart: of three that are half a second apart, the last begins after the first is done.
  auto since = fs::file_time_type::clock::now();
  for (int time = 0; time < 3; ++time) {
    const auto writtenSince = [&] {
      for (const auto& entry : fs::directory_iterator(plant.folder.path / "site/state/history"))
        if (const auto written = entry.last_write_time(); written > since) return std::optional(written);
      return std::optional<fs::file_time_type>();
    };
    for (int i = 0; i < 500 && !writtenSince(); ++i) std::this_thread::sleep_for(std::chrono::milliseconds(10));
    REQUIRE(writtenSince());
    since = *writtenSince() + std::chrono::milliseconds(500);
  }
  plant.service->stop(SIGKILL);
  plant.service = std::make_unique<Process>(
      std::vector<std::string>{program("zunthd"), (plant.folder.path / "site").string(), "--log", "off"});
  const std::string line = plant.service->line();
  plant.url = line.substr(line.find("opc.tcp"));
  plant.set(22);
  CHECK(Kept::has(plant.values(), {21}));
  CHECK(Kept::has(plant.values(), {22}));
  const auto all = Json::parse(plant.zunth("history DF1/speedGoal --output json").out);
  CHECK(std::ranges::count_if(all, [](const auto& each) { return each["status"] == "BadDataLost"; }) == 1);
}

}  // namespace zunth::history_plant_test
