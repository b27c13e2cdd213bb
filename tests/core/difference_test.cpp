// What differs between two models, with its effect on clients.
#include "core/model/difference.hpp"

#include "tests/core/model_space.hpp"
#include <catch2/catch.hpp>

namespace zunth::difference_test {

using namespace zunth::ua;
using model::Change;
using test::spaceOf;

namespace {

const std::string kModel = R"(namespace: http://fernhollow.example/plant
types:
  Filter:
    pressure: Float kPa 0..50
    mode: Mode = Auto writable
  Mode: enum Off | Auto
objects:
  F1: Filter
  Tank:
    about: On the north side
    level: Double m 0..2 = 1.5 writable
)";

std::vector<std::string> told(const std::string& from, const std::string& to) {
  std::string changed = kModel;
  const auto at = changed.find(from);
  REQUIRE(at != std::string::npos);
  changed.replace(at, from.size(), to);
  std::vector<std::string> out;
  const char* const kinds[] = {"+ ", "- ", "~ "};
  const char* const effects[] = {"", " (seen)", " (breaks)"};
  for (const auto& c : model::compare(*spaceOf(kModel), *spaceOf(changed, "http://fernhollow.example/first")))
    out.push_back(kinds[static_cast<int>(c.kind)] + c.path + " " + c.what +
                  (c.kind == Change::Kind::Changed ? " '" + c.before + "' '" + c.after + "'" : "") +
                  effects[static_cast<int>(c.effect)]);
  return out;
}

}  // namespace

TEST_CASE("models are compared node by node", "[model][difference]") {
  using Told = std::vector<std::string>;
  CHECK(told("F1", "F1") == Told{});
  CHECK(told("= 1.5 writable", "= 1.25 writable") == Told{"~ Tank/level initial value '1.5' '1.25'"});
  CHECK(told("= 1.5 writable", "= 1.5") == Told{"~ Tank/level access level 'readable, writable' 'readable' (breaks)"});
  CHECK(told("0..2", "0..3") == Told{"~ Tank/level/EURange value '{Low: 0, High: 2}' '{Low: 0, High: 3}' (seen)"});
  CHECK(told("level: Double", "level: Float") == Told{"~ Tank/level data type 'Double' 'Float' (breaks)"});
  CHECK(told("On the north side", "On the south side") ==
        Told{"~ Tank description 'On the north side' 'On the south side'"});
  const auto added = told("  Tank:\n", "  F2: Filter\n  Tank:\n");
  CHECK(std::ranges::find(added, "+ F2 object (seen)") != added.end());
  CHECK(std::ranges::find(added, "+ F2/pressure/EURange variable (seen)") != added.end());
  const auto removed = told("  F1: Filter\n", "");
  CHECK(std::ranges::find(removed, "- F1/mode variable (breaks)") != removed.end());
  const auto granted = told("    about:", "    access: {Observer: read}\n    about:");
  CHECK(std::ranges::any_of(granted,
                            [](const auto& line) { return line.starts_with("~ Tank/level access 'Observer="); }));
  const auto wider = told("Off | Auto", "Off | Auto | Wash");
  CHECK(std::ranges::any_of(wider, [](const auto& line) { return line.find("definition") != std::string::npos; }));
}

}  // namespace zunth::difference_test
