// The console's page in a real browser, on the demo's plant.
#include "tests/service/hatchery.hpp"

namespace zunth::console_browser_test {

TEST_CASE("people do at the console what they came for, in a browser", "[console][browser]") {
  const test::Hatchery hatchery;
  const std::string source = ZUNTH_SOURCE_DIR;
  const auto outcome =
      test::run("timeout 200 node '" + source + "/tests/console/drive.mjs' " + hatchery.console + " " + hatchery.code +
                    " '" + hatchery.site().string() + "' '" + source + "/apps/console/node_modules' 2>&1",
                hatchery.folder.path);
  INFO(outcome.out);
  CHECK(outcome.code == 0);
}

}  // namespace zunth::console_browser_test
