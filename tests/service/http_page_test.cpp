// Every command of docs/http.md, done as it is written there, against the demo's plant.
#include <string>

#include "tests/service/documented.hpp"
#include "tests/service/hatchery.hpp"

namespace zunth::http_page_test {

TEST_CASE("the page about HTTP does what it shows", "[console][docs]") {
  const test::Hatchery hatchery;
  const auto blocks = test::blocksOf(std::string(ZUNTH_SOURCE_DIR) + "/docs/http.md");
  std::string said;
  // One shell, as for whoever goes through the page.
  std::string before;
  int commands = 0;
  for (const auto& block : blocks) {
    if (block.info != "sh") {
      INFO("line " << block.line << " of docs/http.md; it says:\n" << said);
      CHECK(test::isShown(said, block.text));
      continue;
    }
    std::string script = block.text;
    const std::string usual = "http://127.0.0.1:8046";
    for (auto at = script.find(usual); at != std::string::npos; at = script.find(usual, at + 1))
      script.replace(at, usual.size(), hatchery.console);
    hatchery.folder.write("step.sh", before + script);
    const auto outcome = test::run("sh step.sh", hatchery.folder.path);
    said = outcome.out;
    std::erase(said, '\r');
    // What was learnt stays known.
    if (script.starts_with("proof=")) before = script.substr(0, script.find('\n') + 1);
    INFO("line " << block.line << " of docs/http.md: " << outcome.error << said);
    CHECK_FALSE(said.empty());
    ++commands;
  }
  CHECK(commands == 11);
}

}  // namespace zunth::http_page_test
