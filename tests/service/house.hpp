#pragma once

#include "service/console/console.hpp"

#include <future>
#include <thread>

#include "tests/keys.hpp"
#include "tests/service/process.hpp"
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/use_future.hpp>
#include <catch2/catch.hpp>
#include <spdlog/spdlog.h>

namespace zunth::test {

inline constexpr const char* kHouseModel = R"(namespace: http://fernhollow.example/test
objects:
  Tank:
    oxygen: Double mg/L 0..20 = 8.5 writable
    mode: Mode = Auto writable
    air: Boolean = false writable
    alarms: {stuffy: limit oxygen low 6 severity 700 shelvable for 8h}
  "odd <img src=x onerror=alert&1>":
    count: Int32 = 3
types:
  Mode: enum Off | Auto
)";

/// A site at work in this process, with its console, and a browser's memory.
class House {
 public:
  explicit House(const std::string& settings = "  unsecured: on\n  anonymous: on\n") {
    spdlog::set_level(spdlog::level::off);
    placeKey(folder.path / "state/trust", "site");
    folder.write("site.yaml",
                 "name: Test\nuri: urn:fernhollow.example:test\nendpoint: opc.tcp://127.0.0.1:0\n"
                 "console: http://127.0.0.1:0\nsecurity:\n" +
                     settings);
    folder.write("model/plant.yaml", kHouseModel);
    auto loaded = admin::loadSite(folder.path);
    for (const auto& line : loaded.report()) UNSCOPED_INFO(line);
    REQUIRE(loaded.isSound());
    site = std::make_unique<admin::RunningSite>(loops, std::move(loaded));
    site->showLog(std::make_shared<admin::RunningSite::KeptLog>(10));
    thread = std::jthread([this] { io.run(); });
    on([&] { REQUIRE(site->start()); });
    on([&] {
      page = std::make_unique<console::Console>(loops, *site);
      const auto opened = page->open();
      REQUIRE(opened);
      url = *opened;
    });
  }
  ~House() {
    on([&] {
      page.reset();
      site->stop();
    });
    guard.reset();
    io.stop();
    thread.join();
    site.reset();
  }
  /// Does it where the services are.
  void on(std::function<void()> work) {
    std::promise<void> done;
    boost::asio::post(loops.services(), [&] {
      work();
      done.set_value();
    });
    done.get_future().wait();
  }
  console::Answer serve(console::Request request) {
    return boost::asio::co_spawn(loops.services(), page->serve(std::move(request)), boost::asio::use_future).get();
  }

  console::Request request(const std::string& method, const std::string& target) const {
    console::Request out;
    out.method = method;
    REQUIRE(console::readTarget(target, out));
    out.address = address;
    out.cookie = cookie;
    out.proof = proof;
    return out;
  }
  console::Answer get(const std::string& target) { return serve(request("GET", target)); }
  console::Answer post(const std::string& target, const console::Json& body) {
    auto asked = request("POST", target);
    asked.body = body.dump();
    return serve(std::move(asked));
  }
  console::Json got(const std::string& target) {
    const auto answer = get(target);
    INFO(target << ": " << answer.body);
    REQUIRE(answer.status == 200);
    return console::Json::parse(answer.body);
  }
  /// Keeps what a browser keeps.
  console::Json keep(const console::Answer& answer) {
    for (const auto& [name, value] : answer.headers)
      if (name == "Set-Cookie") cookie = value.substr(6, value.find(';') - 6);
    auto me = console::Json::parse(answer.body);
    proof = me.value("proof", "");
    return me;
  }
  console::Json lookAround() { return keep(get("/api/me")); }
  console::Json makeAdministrator() {
    return keep(post("/api/first-user", {{"code", page->firstCode()}, {"user", "ada"}, {"password", "brook trout 7"}}));
  }

  TemporaryFolder folder;
  boost::asio::io_context io;
  boost::asio::executor_work_guard<boost::asio::io_context::executor_type> guard{io.get_executor()};
  net::Loops loops{io};
  std::unique_ptr<admin::RunningSite> site;
  std::unique_ptr<console::Console> page;
  std::jthread thread;
  std::string url, cookie, proof, address = "127.0.0.1:50000";
};

/// The StatusCode of a refusal.
inline std::string codeOf(const console::Answer& answer) { return console::Json::parse(answer.body)["error"]["code"]; }

}  // namespace zunth::test
