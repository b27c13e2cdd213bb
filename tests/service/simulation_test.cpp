// Signals that aren't there, and values out of tables.
#include "service/device/simulation.hpp"

#include <fstream>

#include "tests/service/process.hpp"
#include <catch2/catch.hpp>

namespace zunth::simulation_test {

using namespace zunth::ua;
using namespace zunth::device;
using namespace zunth::device::simulation;

namespace {

struct Made {
  std::optional<Signal> signal;
  std::string mistake;
};
Made make(const std::string& words, const char* name = "x") {
  model::Findings findings;
  Conversion conversion;
  Made out{parseSignal({{name, {}}, {words, {"d.yaml", 1, 1, words.size()}}}, conversion, findings), {}};
  if (!findings.list().empty()) out.mistake = findings.list()[0].message;
  return out;
}

double number(const DataValue& value) {
  double out = std::nan("");
  (void)value.value.toDouble(out);
  return out;
}

}  // namespace

TEST_CASE("signals go as their words say", "[device][simulation]") {
  struct Row {
    const char* words;
    std::vector<std::pair<double, double>> points;  // s and value
  };
  for (const Row& row : std::vector<Row>{
           {"constant 5", {{0, 5}, {1e6, 5}}},
           {"ramp 0..100 every 10 s", {{0, 0}, {2.5, 25}, {9, 90}, {12.5, 25}}},
           {"ramp 10..0 every 10 s", {{0, 10}, {5, 5}}},
           {"sine 2..8 every 60 s", {{0, 5}, {15, 8}, {45, 2}, {75, 8}}},
           {"square 0..1 every 4 s", {{0, 0}, {1.9, 0}, {2.1, 1}, {4.1, 0}}},
           {"steps 0 for 10 s, 5 for 20 s", {{0, 0}, {9, 0}, {11, 5}, {29, 5}, {31, 0}}},
       }) {
    INFO(row.words);
    const auto made = make(row.words);
    REQUIRE(made.signal);
    SimulatedStation station({*made.signal}, 1);
    for (const auto& [seconds, value] : row.points) CHECK(number(station.at(0, seconds)) == Approx(value).margin(1e-9));
  }
}

TEST_CASE("a walk stays within its bounds and is the same for the same seed", "[device][simulation]") {
  const auto walk = *make("walk 0..10 step 3").signal;
  SimulatedStation one({walk}, 7), same({walk}, 7), other({walk}, 8);
  bool differs = false;
  double last = number(one.at(0, 0));
  CHECK(last == 5);
  CHECK(number(same.at(0, 0)) == last);
  (void)other.at(0, 0);
  for (int i = 1; i < 1'000; ++i) {
    const double value = number(one.at(0, i));
    CHECK(value == number(same.at(0, i)));
    differs |= value != number(other.at(0, i));
    REQUIRE((value >= 0 && value <= 10 && std::abs(value - last) <= 3));
    last = value;
  }
  CHECK(differs);
}

TEST_CASE("what lags comes after, and two that lag behind each other stand still", "[device][simulation]") {
  SimulatedStation station({*make("steps 0 for 10 s, 8 for 1 h", "goal").signal, *make("lag goal 5 s", "level").signal},
                           1);
  CHECK(number(station.at(1, 0)) == 0);
  for (int i = 1; i < 100; ++i) (void)station.at(1, 10.0 * i / 100);
  CHECK(number(station.at(1, 10)) == Approx(0).margin(1));
  for (int i = 0; i <= 500; ++i) (void)station.at(1, 10 + 0.01 * i);
  CHECK(number(station.at(1, 15)) == Approx(8 * (1 - std::exp(-1))).epsilon(0.02));
  SimulatedStation circle({*make("lag b 5 s", "a").signal, *make("lag a 5 s", "b").signal}, 1);
  CHECK(number(circle.at(0, 1)) == 0);
}

TEST_CASE("what is written to a signal stays", "[device][simulation]") {
  SimulatedStation station({*make("sine 2..8 every 60 s writable").signal, *make("sine 2..8 every 60 s").signal}, 1);
  CHECK(station.write({0, Variant(3.25)})->error.code.isGood());
  CHECK(number(station.at(0, 15)) == 3.25);
  CHECK(station.write({1, Variant(3.25)})->error.code == status::BadNotWritable);
}

TEST_CASE("a table is played with its times and statuses", "[device][simulation]") {
  const test::TemporaryFolder folder;
  folder.write("day.csv",
               "time,oxygen,status\n2026-05-04T06:00:00Z,9.1,\n2026-05-04T06:00:10Z,\"8.5\",\n2026-05-04T06:00:20Z,,"
               "BadSensorFailure\n2026-05-04T06:00:30Z,9.0,Good\n");
  const auto recording = readRecording(folder.path / "day.csv", "oxygen");
  REQUIRE(recording);
  CHECK(recording->rows.size() == 4);
  CHECK(recording->length() == 30);
  auto looped = *make("table day.csv oxygen").signal;
  looped.table = folder.path / looped.table;
  auto once = looped, fast = looped;
  once.isLooped = false;
  fast.speed = 10;
  SimulatedStation station({looped, once, fast}, 1);
  REQUIRE(station.connect());
  CHECK(number(station.at(0, 12)) == 8.5);
  CHECK(station.at(0, 25).status == status::BadSensorFailure);
  CHECK(number(station.at(0, 32)) == 9.1);
  CHECK(number(station.at(1, 32)) == 9.0);
  CHECK(number(station.at(2, 1.2)) == 8.5);

  struct Row {
    const char *text, *column, *cause;
  };
  for (const Row& row :
       {Row{"time,oxygen\n1,2\n", "ph", "has no column 'ph'"}, Row{"oxygen\n1\n", "oxygen", "has no column 'time'"},
        Row{"time,oxygen\nsoon,2\n", "oxygen", "line 2: 'soon' is no time"},
        Row{"time,oxygen\n2,2\n1,2\n", "oxygen", "line 3: times go on"},
        Row{"time,oxygen,status\n2,2,Bda\n", "oxygen", "line 2: there is no status 'Bda'"},
        Row{"time,oxygen\n", "oxygen", "has no rows"}}) {
    INFO(row.text);
    folder.write("bad.csv", row.text);
    const auto read = readRecording(folder.path / "bad.csv", row.column);
    REQUIRE_FALSE(read);
    CHECK(read.error().cause.find(row.cause) != std::string::npos);
  }
  CHECK(readRecording(folder.path / "none.csv", "oxygen").code() == status::BadNotFound);
}

TEST_CASE("mistakes in signals are named", "[device][simulation]") {
  struct Row {
    const char *words, *mistake;
  };
  for (const Row& row :
       {Row{"sin 0..1", "there is no signal 'sin'"}, Row{"sine 0-1", "'0-1' is no range"},
        Row{"sine 0..1 every 5 parsecs", "'5 parsecs' is no time"}, Row{"sine 0..1 loud", "'loud' means nothing here"},
        Row{"steps 1 2", "steps are values and times"}, Row{"table day.csv", "a table is a file and a column"},
        Row{"sine 0..1 noise x", "'noise' needs a number from 0"}}) {
    INFO(row.words);
    CHECK(make(row.words).mistake == row.mistake);
  }
}

}  // namespace zunth::simulation_test
