// Every step of docs/tutorial.md, done as it is written there.
#include <sstream>

#include "tests/service/documented.hpp"
#include "tests/service/process.hpp"
#include <catch2/catch.hpp>

namespace zunth::tutorial_test {

using namespace zunth::test;

namespace {

/// Someone who does what the page says, in an empty folder.
class Reader {
 public:
  void write(const std::string& name, const std::string& text) const { folder_.write(name, text); }

  void serve(const std::string& site) {
    // A port that is free takes the place of the usual one.
    const auto file = folder_.path / site / "site.yaml";
    std::ifstream in(file);
    std::string text(std::istreambuf_iterator<char>(in), {});
    in.close();
    const auto at = text.find(":4840");
    REQUIRE(at != std::string::npos);
    text.replace(at, 5, ":0");
    if (const auto console = text.find(":8046"); console != std::string::npos) text.replace(console, 5, ":0");
    std::ofstream(file) << text;
    service_ = std::make_unique<Process>(
        std::vector<std::string>{program("zunthd"), (folder_.path / site).string(), "--log", "off"});
    const std::string line = service_->line();
    REQUIRE(line.find("opc.tcp") != std::string::npos);
    const std::string url = line.substr(line.find("opc.tcp"));
    REQUIRE(run(program("zunth") + " at add here " + url, folder_.path).code == 0);
    REQUIRE(run(program("zunth") + " at use here", folder_.path).code == 0);
  }

  Outcome type(const std::string& command) const {
    REQUIRE(command.starts_with("zunth "));
    return run(program("zunth") + command.substr(5), folder_.path);
  }

 private:
  TemporaryFolder folder_;
  std::unique_ptr<Process> service_;
};

}  // namespace

TEST_CASE("the tutorial does what it says", "[plant]") {
  Reader reader;
  std::string shown;
  int steps = 0;
  for (const Block& block : blocksOf(std::string(ZUNTH_SOURCE_DIR) + "/docs/tutorial.md")) {
    INFO("docs/tutorial.md:" << block.line << "\n" << block.text);
    if (block.info.starts_with("yaml ") || block.info.starts_with("csv ")) {
      reader.write(block.info.substr(block.info.find(' ') + 1), block.text);
    } else if (block.info == "sh serves") {
      reader.serve(block.text.substr(7, block.text.find('\n') - 7));
    } else if (block.info.starts_with("sh")) {
      shown.clear();
      int code = 0;
      for (const auto& command : linesOf(block.text)) {
        const Outcome outcome = reader.type(command);
        shown += outcome.out + outcome.error;
        code = outcome.code;
        ++steps;
      }
      INFO(shown);
      CHECK((code != 0) == (block.info == "sh fails"));
    } else if (block.info == "text") {
      INFO(shown);
      CHECK(isShown(shown, block.text));
    }
  }
  CHECK(steps >= 12);
}

}  // namespace zunth::tutorial_test
