// Paths in the files of a site, with placeholders.
#include "service/device/path_pattern.hpp"

#include "tests/core/model_space.hpp"
#include <catch2/catch.hpp>
#include <fmt/format.h>

namespace zunth::path_pattern_test {

using namespace ua;
using device::PathFinder;

TEST_CASE("what a path stands for is the same, however often one looks there", "[device]") {
  const auto space = test::spaceOf(R"(namespace: http://fernhollow.example/paths
objects:
  Hall:
    Tank 1: {oxygen: Double, air: Boolean}
    Tank 2: {oxygen: Double, air: Boolean}
    Feeder: {grams: Double, oxygen(): {}}
)");
  PathFinder finder(*space);
  const auto tell = [&](const char* path) {
    model::Findings findings;
    std::string out;
    for (const auto& match : finder.matchesOf({path, {}}, NodeClass::Variable, findings)) {
      out += space->path(match.node);
      for (const auto& [name, value] : match.captures) out += fmt::format(" {}={}", name, value);
      out += "; ";
    }
    for (const auto& finding : findings.list()) out += finding.message + " " + finding.hint;
    return out;
  };
  const struct {
    const char *path, *stands;
  } rows[] = {{"Hall/Tank 2/oxygen", "Hall/Tank 2/oxygen; "},
              {"Hall/Tank {t}/oxygen", "Hall/Tank 1/oxygen t=1; Hall/Tank 2/oxygen t=2; "},
              {"Hall/{x}/{what}",
               "Hall/Tank 1/oxygen what=oxygen x=Tank 1; Hall/Tank 1/air what=air x=Tank 1; "
               "Hall/Tank 2/oxygen what=oxygen x=Tank 2; Hall/Tank 2/air what=air x=Tank 2; "
               "Hall/Feeder/grams what=grams x=Feeder; "},
              {"Hall/Feeder/oxygen", "Hall/Feeder/oxygen; "},
              {"Hall/Tnak 1/oxygen", "the model has no 'Tnak 1' at Hall/Tnak 1/oxygen did you mean 'Tank 1'?"},
              {"", "the model has no '' at  "}};
  for (int round = 0; round < 5; ++round)
    for (const auto& row : rows) {
      CAPTURE(round, row.path);
      CHECK(tell(row.path) == row.stands);
    }
}

}  // namespace zunth::path_pattern_test
