// What the service tells in its log: each part as much as it is asked to, and why something was refused.
#include "service/admin/bounded_log.hpp"

#include "tests/service/fake_peer.hpp"
#include "tests/service/house.hpp"
#include <spdlog/sinks/ringbuffer_sink.h>

namespace zunth::log_test {

using namespace ua;
using console::Json;
using logs::Part;
using test::codeOf;
using test::House;

namespace {

/// Hears a part at a level, as long as it is there.
class Ear {
 public:
  Ear(Part part, spdlog::level::level_enum level) : log_(logs::of(part)), before_(log_.level()) {
    log_.sinks().push_back(kept_);
    log_.set_level(level);
  }
  ~Ear() {
    std::erase(log_.sinks(), kept_);
    log_.set_level(before_);
  }
  std::vector<std::string> lines() const {
    std::vector<std::string> out;
    for (const auto& message : kept_->last_raw()) out.emplace_back(message.payload.data(), message.payload.size());
    return out;
  }

 private:
  spdlog::logger& log_;
  spdlog::level::level_enum before_;
  std::shared_ptr<spdlog::sinks::ringbuffer_sink_mt> kept_ = std::make_shared<spdlog::sinks::ringbuffer_sink_mt>(100);
};

}  // namespace

TEST_CASE("who asks why something was refused finds it in the log", "[log]") {
  test::Bench bench;
  bench.addVariable("level", id::Double, Variant(2.0));
  bench.open();
  ReadRequest read;
  for (const char* name : {"level", "nothing", "level"})
    read.nodesToRead.push_back({NodeId(1, String(name)), static_cast<std::uint32_t>(AttributeId::Value), {}, {}});
  const auto ask = [&] {
    CHECK(bench.call(read));
    CHECK(!bench.call(ReadRequest{}));
  };
  {
    const Ear ear(Part::Clients, spdlog::level::info);
    ask();
    CHECK(ear.lines().empty());
  }
  const Ear ear(Part::Clients, spdlog::level::debug);
  ask();
  const auto lines = ear.lines();
  REQUIRE(lines.size() == 2);
  CHECK(lines[0] == "127.0.0.1:51234 asked ReadRequest: 1 of 3 are refused, the first is number 2: BadNodeIdUnknown");
  CHECK(lines[1].starts_with("127.0.0.1:51234 asked ReadRequest: BadNothingToDo"));
}

TEST_CASE("one part tells more for a while, and then as much as before", "[log][console]") {
  House house;
  house.makeAdministrator();
  const auto parts = [&] { return house.got("/api/log")["parts"]; };
  const auto raise = [&](Json body) { return house.post("/api/log/level", body); };
  const std::string usual = parts()["devices"];
  REQUIRE(raise({{"level", "debug"}, {"part", "devices"}, {"minutes", 60}}).status == 200);
  CHECK(parts()["devices"] == "debug");
  CHECK(parts()["clients"] == usual);
  CHECK(house.got("/api/log")["level"] == usual);
  // Another part goes its own way, and all of them leave alone what somebody asked for by itself.
  REQUIRE(raise({{"level", "warn"}, {"minutes", 60}}).status == 200);
  CHECK(parts()["devices"] == "debug");
  CHECK(parts()["clients"] == "warning");
  REQUIRE(raise({{"level", "error"}, {"minutes", 0.001}}).status == 200);
  REQUIRE(raise({{"level", "info"}, {"part", "devices"}, {"minutes", 0.001}}).status == 200);
  const auto deadline = std::chrono::steady_clock::now() + std::chrono::seconds(20);
  while ((parts()["devices"] != usual || parts()["clients"] != usual) && std::chrono::steady_clock::now() < deadline)
    std::this_thread::yield();
  CHECK(parts()["devices"] == usual);
  CHECK(parts()["clients"] == usual);
  const struct {
    Json body;
  } wrong[] = {{{{"level", "loud"}}},
               {{{"level", "debug"}, {"part", "kitchen"}}},
               {{{"level", "debug"}, {"minutes", -1}}},
               {{{"level", "debug"}, {"minutes", 1e9}}}};
  for (const auto& row : wrong) CHECK(codeOf(raise(row.body)) == "BadInvalidArgument");
  const auto noted = house.got("/api/audit?what=log%20level%20changed")["lines"];
  CHECK(noted.size() == 4);
  CHECK(noted.dump().find("devices: debug for 60 min") != std::string::npos);
}

TEST_CASE("a part that tells much leaves warnings their room", "[log][attack]") {
  const auto kept = std::make_shared<spdlog::sinks::ringbuffer_sink_mt>(1'000);
  spdlog::logger log("flood", std::make_shared<admin::BoundedLog>(kept, 10));
  for (int i = 0; i < 1'000; ++i) log.info("line {}", i);
  log.warn("the device is gone");
  std::size_t usual = 0, warnings = 0;
  for (const auto& message : kept->last_raw()) (message.level == spdlog::level::warn ? warnings : usual) += 1;
  CHECK(usual >= 10);
  CHECK(usual < 100);  // a second or two may have passed
  CHECK(warnings == 1);
}

}  // namespace zunth::log_test
