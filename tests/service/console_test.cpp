// The console's API as a browser or a script meets it, without sockets; and the door with them.
#include "service/console/console.hpp"

#include "core/ua/base64.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "service/console/node_pages.hpp"
#include "service/console/token_feed.hpp"
#include "service/history/embedded_store.hpp"

#include <thread>

#include "tests/identity.hpp"
#include "tests/service/house.hpp"
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/read.hpp>
#include <boost/asio/use_future.hpp>
#include <boost/asio/write.hpp>
#include <catch2/catch.hpp>
#include <spdlog/spdlog.h>

namespace zunth::console_test {

using namespace ua;
using console::Answer;
using console::Console;
using console::Json;
using console::Request;
using test::codeOf;
using test::House;

namespace {

/// A browser's end of a live connection.
class Listening final : public console::LiveSocket {
 public:
  void start(Callbacks callbacks) override { callbacks_ = std::move(callbacks); }
  void send(std::string text) override {
    const std::lock_guard lock(guard_);
    heard_.push_back(Json::parse(text));
    arrived_.notify_all();
  }
  std::size_t unsent() const override { return isSlow ? 1u << 20 : 0; }
  void close() override { isClosed = true; }

  void say(const Json& json) { callbacks_.said(json.dump()); }
  void saySomething(std::string text) { callbacks_.said(std::move(text)); }
  void drain() { callbacks_.drained(); }
  /// The next message that has this; null when none comes.
  Json next(const std::string& key) {
    std::unique_lock lock(guard_);
    while (true) {
      while (!heard_.empty()) {
        Json first = std::move(heard_.front());
        heard_.pop_front();
        if (first.contains(key)) return first[key];
      }
      if (arrived_.wait_for(lock, std::chrono::seconds(10)) == std::cv_status::timeout) return {};
    }
  }
  std::atomic<bool> isClosed = false, isSlow = false;

 private:
  std::mutex guard_;
  std::condition_variable arrived_;
  std::deque<Json> heard_;
  Callbacks callbacks_;
};

}  // namespace

TEST_CASE("addresses are taken apart, and odd ones are refused", "[console]") {
  Request request;
  REQUIRE(console::readTarget("/api/node?node=Tank%2Foxygen&words=a+b&words=c", request));
  CHECK(request.path == "/api/node");
  CHECK(request.value("node") == "Tank/oxygen");
  CHECK(request.values("words").size() == 2);
  CHECK(request.value("words") == "a b");
  CHECK(request.number("most", 7, 9) == 7);
  for (const char* target : {"", "api", "/a%", "/a%2", "/a%zz", "/a%00b", "/a?x=%0"}) {
    INFO(target);
    Request other;
    CHECK_FALSE(console::readTarget(target, other));
  }
  std::string many = "/a?";
  for (int i = 0; i < 3'000; ++i) many += "x=1&";
  Request other;
  CHECK(console::readTarget(many, other).code() == status::BadRequestTooLarge);
  CHECK(console::cookieNamed("a=1; zunth=secret; b=2", "zunth") == "secret");
  CHECK(console::cookieNamed("xzunth=1; zunthx=2", "zunth").empty());
}

TEST_CASE("a guest looks around where guests may, and does no more than that", "[console]") {
  House house;
  CHECK(house.get("/api/status").status == 401);
  const auto me = house.lookAround();
  CHECK(me["isAnonymous"] == true);
  CHECK(me["awaitsFirstUser"] == true);
  CHECK(house.got("/api/status")["counts"]["clients"] == 1);
  for (const char* target : {"/api/users", "/api/certificates", "/api/audit"}) {
    INFO(target);
    const auto answer = house.get(target);
    CHECK(answer.status == 403);
    CHECK(codeOf(answer) == "BadUserAccessDenied");
  }
  CHECK(house.get("/api/nothing").status == 404);
  CHECK(codeOf(house.serve(house.request("DELETE", "/api/node"))) == "BadRequestNotAllowed");
}

TEST_CASE("where no guest may look around, nobody does without a name", "[console]") {
  House house("  anonymous: off\n");
  const auto me = house.lookAround();
  CHECK_FALSE(me.contains("proof"));
  CHECK(house.cookie.empty());
  const auto wrong = house.post("/api/login", {{"user", "ada"}, {"password", "guessed"}});
  CHECK(wrong.status == 401);
  CHECK(house.makeAdministrator()["roles"].size() >= 3);
  CHECK(house.got("/api/node?node=Tank/oxygen")["facts"]["isWritable"] == true);
}

TEST_CASE("other sites' pages, and who carries a cookie off, change nothing", "[console][attack]") {
  House house;
  house.lookAround();
  const Json write{{"values", {{{"node", "Tank/oxygen"}, {"value", 7}}}}};
  const std::string proof = std::exchange(house.proof, "");
  CHECK(house.post("/api/write", write).status == 403);
  house.proof = proof + "x";
  CHECK(house.post("/api/write", write).status == 403);
  house.proof = proof;
  house.address = "127.0.0.2:50000";
  CHECK(house.post("/api/write", write).status == 401);
  CHECK(house.get("/api/status").status == 401);
  house.address = "127.0.0.1:50001";
  CHECK(house.post("/api/write", write).status == 200);
  CHECK(house.got("/api/values?node=Tank/oxygen")["values"][0]["value"] == 7.0);
}

TEST_CASE("the first administrator is made by who sees the code, once", "[console][attack]") {
  House house;
  house.lookAround();
  const auto make = [&](const std::string& code) {
    return house.post("/api/first-user", {{"code", code}, {"user", "ada"}, {"password", "brook trout 7"}});
  };
  CHECK(make("AAAAAAAAAA").status == 403);
  SECTION("with the code") {
    CHECK(codeOf(
              house.post("/api/first-user", {{"code", house.page->firstCode()}, {"user", "ada"}, {"password", "x"}})) ==
          "BadInvalidArgument");
    CHECK(house.makeAdministrator()["user"] == "ada");
    CHECK(house.got("/api/users")["users"][0]["name"] == "ada");
    CHECK(codeOf(make(house.page->firstCode())) == "BadInvalidState");
    const auto audit = house.got("/api/audit?what=user changed")["lines"];
    REQUIRE(audit.size() == 1);
    CHECK(audit[0]["who"] == "127.0.0.1 at the console's first start");
  }
  SECTION("guessed too often, not even with the code") {
    for (int i = 0; i < 10; ++i) make("AAAAAAAAAA");
    CHECK(make(house.page->firstCode()).status == 403);
  }
}

TEST_CASE("nodes are found, listed and described as far as one may see them", "[console]") {
  House house;
  house.lookAround();
  const auto below = house.got("/api/children?node=Tank")["nodes"];
  REQUIRE(below.size() == 4);
  CHECK(below[0]["name"] == "oxygen");
  CHECK(below[0]["facts"]["unit"] == "mg/L");
  CHECK(below[0]["facts"]["range"]["high"] == 20.0);
  CHECK(below[1]["facts"]["members"][1]["name"] == "Auto");
  CHECK(below[3]["isAlarm"] == true);
  const auto first = house.got("/api/children?node=Tank&most=1");
  CHECK(first["nodes"].size() == 1);
  CHECK(house.got("/api/children?node=Tank&from=" + first["next"].dump())["nodes"][0]["name"] == "mode");

  const auto page = house.got("/api/node?node=Tank/oxygen");
  CHECK(page["ancestors"].back()["name"] == "Tank");
  CHECK(page["addresses"]["nodeIdWithUri"] == "nsu=http://fernhollow.example/test;s=Tank/oxygen");
  CHECK(house.got("/api/node?node=nsu%3Dhttp://fernhollow.example/test;s%3DTank/oxygen")["id"] == page["id"]);
  const auto wrong = house.get("/api/node?node=Tank/oxigen");
  CHECK(wrong.status == 404);
  CHECK(Json::parse(wrong.body)["error"]["next"] == "Tank/oxygen");

  CHECK(house.got("/api/search?words=oxygen")["nodes"][0]["path"] == "Tank/oxygen");
  CHECK(house.got("/api/search?words=tank mod")["nodes"][0]["path"] == "Tank/mode");
  CHECK(house.got("/api/search?words=zzz")["nodes"].empty());
  CHECK(house.get("/api/search").status == 400);

  const auto drawing = house.get("/api/drawing?node=i=85");
  CHECK(drawing.status == 200);
  CHECK(drawing.type == "image/svg+xml");
  CHECK(drawing.body.find(">oxygen</text>") != std::string::npos);
  CHECK(drawing.body.find("<img") == std::string::npos);
  CHECK(house.get("/api/drawing?node=nowhere").status == 404);

  // What is written in a name is text, whatever it looks like.
  const auto odd = house.got("/api/search?words=onerror")["nodes"];
  REQUIRE(odd.size() >= 1);
  CHECK(odd[0]["name"] == "odd <img src=x onerror=alert&1>");
}

TEST_CASE("values are read by pattern and written with a reason where they can't be", "[console]") {
  House house;
  house.lookAround();
  CHECK(house.got("/api/values?node=Tank/*")["values"].size() == 3);
  const auto csv = house.get("/api/values?node=Tank/oxygen&format=csv");
  CHECK(csv.type == "text/csv; charset=utf-8");
  CHECK(csv.body.starts_with("node,value,unit,status,time\r\nTank/oxygen,8.5,mg/L,Good,"));
  struct Case {
    const char* node;
    Json value;
    const char* status;
  };
  for (const auto& [node, value, status] : std::vector<Case>{{"Tank/oxygen", 9.25, "Good"},
                                                             {"Tank/oxygen", "9.5", "Good"},
                                                             {"Tank/mode", "Off", "Good"},
                                                             {"Tank/air", true, "Good"},
                                                             {"Tank/oxygen", 300, "BadOutOfRange"},
                                                             {"Tank/oxygen", "much", "BadTypeMismatch"},
                                                             {"Tank/mode", "Sideways", "BadTypeMismatch"},
                                                             {"Tank/nothing", 1, "BadNodeIdUnknown"}}) {
    INFO(node << " " << value);
    const auto answer = house.post("/api/write", {{"values", {{{"node", node}, {"value", value}}}}});
    REQUIRE(answer.status == 200);
    const auto outcome = Json::parse(answer.body)["outcomes"][0];
    if (std::string(status) == "Good")
      CHECK(outcome["status"] == "Good");
    else
      CHECK(outcome["error"]["code"] == status);
  }
  CHECK(house.got("/api/values?node=Tank/mode")["values"][0]["text"] == "Off (0)");
  for (const char* body : {"[1]", "{\"values\": 3}", "{\"values\": [{}]}", "{\"values\": [{\"node\": 4}]}", "{", ""}) {
    INFO(body);
    auto asked = house.request("POST", "/api/write");
    asked.body = body;
    CHECK(house.serve(asked).status == 400);
  }
}

TEST_CASE("alarms are listed, shelved and acknowledged, each with its outcome", "[console]") {
  House house;
  house.lookAround();
  CHECK(house.got("/api/alarms")["alarms"].empty());
  const auto socket = std::make_shared<Listening>();
  house.on([&] { REQUIRE(house.page->join(house.request("GET", "/api/live"), socket)); });
  house.on([&] { socket->say({{"alarms", true}}); });
  CHECK(socket->next("alarms").empty());
  house.post("/api/write", {{"values", {{{"node", "Tank/oxygen"}, {"value", 4}}}}});
  CHECK(socket->next("alarm")["isActive"] == true);
  const auto alarms = house.got("/api/alarms")["alarms"];
  REQUIRE(alarms.size() == 1);
  CHECK(alarms[0]["alarm"] == "Tank/stuffy");
  CHECK(alarms[0]["isActive"] == true);
  const auto act = [&](Json body) {
    body["alarms"] = Json::array({"Tank/stuffy"});
    return house.post("/api/alarms", body);
  };
  CHECK(act({{"what", "polish"}}).status == 400);
  CHECK(act({{"what", "shelve"}}).status == 400);
  CHECK(Json::parse(act({{"what", "shelve"}, {"minutes", 5}, {"comment", "waiting"}}).body)["outcomes"][0]["now"] ==
        "shelved");
  CHECK(Json::parse(act({{"what", "acknowledge"}}).body)["outcomes"][0]["status"] == "Good");
  CHECK(Json::parse(act({{"what", "silence"}}).body)["outcomes"][0]["error"]["code"] == "BadMethodInvalid");
  while (socket->next("alarm")["isAcknowledged"] == false) {
  }
  CHECK(house.got("/api/alarms?state=unacknowledged")["alarms"].empty());
  CHECK(house.get("/api/alarms?state=polished").status == 400);
}

TEST_CASE("what happened is searched, the newest first", "[console][history]") {
  House house;
  house.lookAround();
  CHECK(codeOf(house.get("/api/events?from=0&to=1")) == "BadHistoryOperationUnsupported");  // nothing is kept yet
  house.folder.write("model/more.yaml",
                     "namespace: http://fernhollow.example/test\nobjects:\n  Pond: {depth: Double m history}\n");
  CHECK(Json::parse(house.post("/api/apply", Json::object()).body)["applied"] == true);
  for (const double oxygen : {4.0, 8.0, 3.0})
    CHECK(house.post("/api/write", {{"values", {{{"node", "Tank/oxygen"}, {"value", oxygen}}}}}).status == 200);
  // Events are stored each second.
  Json events;
  for (int i = 0; i < 100 && events.size() < 3; ++i) {
    events = house.got("/api/events?from=2026-01-01T00:00:00Z&to=2100-01-01T00:00:00Z&like=OXYGEN")["events"];
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  REQUIRE(events.size() == 3);
  CHECK(events[0]["time"] >= events[1]["time"]);
  CHECK(events[0]["severity"] == 700);
  CHECK(events[0]["type"] == "ExclusiveLevelAlarmType");
  // Beside a picture of the variable, when its alarm came and went.
  const std::string ever = "from=0&to=4000000000000";
  const auto marks = house.got("/api/marks?node=Tank/oxygen&" + ever)["marks"];
  REQUIRE(marks.size() == 3);
  CHECK(marks[0]["what"] == "came");
  CHECK(marks[1]["what"] == "went");
  CHECK(marks[2]["what"] == "came");
  CHECK(marks[0]["time"] <= marks[1]["time"]);
  CHECK(house.got("/api/marks?node=Pond/depth&" + ever)["marks"].empty());
  const auto remark = [&](const char* node, const char* moment, const char* text) {
    return house.post("/api/marks", {{"node", node}, {"moment", moment}, {"text", text}}).status;
  };
  CHECK(remark("Pond/depth", "2026-03-01T00:00:00Z", "frozen over") == 200);
  CHECK(remark("Pond/depth", "soon", "frozen over") == 400);
  CHECK(remark("Nowhere", "2026-03-01T00:00:00Z", "frozen over") == 404);
  CHECK(remark("Tank/oxygen", "2026-03-01T00:00:00Z", "no history") >= 400);
  const auto remarks = house.got("/api/marks?node=Pond/depth&" + ever)["marks"];
  REQUIRE(remarks.size() == 1);
  CHECK(remarks[0]["what"] == "remark");
  CHECK(remarks[0]["text"] == "frozen over");
  CHECK(remark("Pond/depth", "2026-03-01T00:00:00Z", "") == 200);
  CHECK(house.got("/api/marks?node=Pond/depth&" + ever)["marks"].empty());
  CHECK(house.get("/api/marks?node=Nowhere&" + ever).status == 404);
  CHECK(house.get("/api/marks?node=Tank/oxygen&from=5&to=4").status == 400);
  const std::string all = "/api/events?from=0&to=4000000000000";
  CHECK(house.got(all + "&severity=701&like=oxygen")["events"].empty());
  CHECK(house.got(all + "&like=nothing%20of%20the%20kind")["events"].empty());
  CHECK(house.got(all + "&node=Tank")["isWhole"] == true);
  CHECK(house.get("/api/events?from=5&to=4").status == 400);
  CHECK(house.get("/api/events?from=soon&to=4").status == 400);
  CHECK(house.get(all + "&node=Nowhere").status == 404);
}

TEST_CASE("a gap stays a gap where a picture has no room for each sample", "[console][history]") {
  House house;
  house.lookAround();
  const DateTime begin = *DateTime::parse("2026-03-01T00:00:00Z");
  const auto at = [&](int second) { return DateTime{begin.ticks + std::int64_t{10'000'000} * second}; };
  {
    auto store = history::EmbeddedStore::open(house.folder.path / "state/history", [](const std::string&) {});
    REQUIRE(store);
    const auto id = (*store)->variable("nsu=http://fernhollow.example/test;s=Pond/depth");
    std::vector<history::Record> records;
    for (int i = 0; i < 10'000; ++i) {
      if (i == 4'000) records.push_back({id, DataValue(Variant(), at(i), status::BadNoCommunication)});
      if (i < 4'000 || i >= 6'000) records.push_back({id, DataValue(Variant(i % 7 * 1.0), at(i))});
    }
    (*store)->append(records);
    REQUIRE((*store)->flush(at(10'000)));
  }
  house.folder.write("model/more.yaml",
                     "namespace: http://fernhollow.example/test\nobjects:\n  Pond: {depth: Double m history}\n");
  REQUIRE(Json::parse(house.post("/api/apply", Json::object()).body)["applied"] == true);
  const auto told =
      house.got("/api/history?node=Pond/depth&from=2026-03-01T00:00:00Z&to=2026-03-01T02:46:40Z&points=100");
  CHECK(told["isWhole"] == false);
  CHECK(told["values"].size() < 500);
  int gaps = 0;
  for (const auto& row : told["values"]) {
    const double second = (row[0].get<double>() - console::timeJson(begin).get<double>()) / 1'000;
    INFO(second);
    const bool isInGap = second >= 4'000 && second < 5'990;
    CHECK(row[1].is_null() == isInGap);
    gaps += row[1].is_null();
  }
  CHECK(gaps >= 10);
}

TEST_CASE("a way in is shut and opened again over the console, by who may", "[console]") {
  House house;
  house.lookAround();
  const auto named = [&](const std::string& kind) {
    const Json all = house.got("/api/interfaces");
    for (const auto& one : all["interfaces"])
      if (one["kind"] == kind) return one;
    return Json();
  };
  const auto endpoint = named("opc.tcp");
  CHECK(endpoint["state"] == "open");
  CHECK(named("http")["name"] == "console");
  // How that way is secured.
  const Json policies = house.got("/api/policies")["policies"];
  REQUIRE(policies.size() >= 2);
  for (const auto& policy : policies) {
    INFO(policy.dump());
    CHECK(policy["transport"] == "opc.tcp");
    CHECK(policy["isSecure"] == (policy["mode"] == "SignAndEncrypt"));
    CHECK(std::ranges::find(policy["users"], Json("anonymous")) != policy["users"].end());
    CHECK(policy["clients"] == 0);
  }
  CHECK(house.post("/api/interfaces", {{"change", "inhibit"}, {"name", endpoint["name"]}}).status == 403);
  house.makeAdministrator();
  CHECK(codeOf(house.post("/api/interfaces", {{"change", "close"}, {"name", endpoint["name"]}})) ==
        "BadInvalidArgument");
  CHECK(codeOf(house.post("/api/interfaces", {{"change", "inhibit"}, {"name", "opc.udp://nowhere"}})) == "BadNotFound");
  CHECK(house.post("/api/interfaces", {{"change", "inhibit"}, {"name", endpoint["name"]}}).status == 200);
  CHECK(named("opc.tcp")["state"] == "inhibited");
  CHECK(house.post("/api/interfaces", {{"change", "admit"}, {"name", endpoint["name"]}}).status == 200);
  CHECK(named("opc.tcp")["state"] == "open");
}

TEST_CASE("sessions are ended over the console, and who ends their own logs out", "[console]") {
  House house;
  house.lookAround();
  const auto clients = [&] { return house.got("/api/status")["clients"]; };
  const Json guest{{"id", clients().at(0)["id"]}};
  CHECK(house.post("/api/clients/end", guest).status == 403);
  house.makeAdministrator();
  CHECK(house.post("/api/clients/end", guest).status == 200);
  CHECK(codeOf(house.post("/api/clients/end", guest)) == "BadSessionIdInvalid");
  const auto own = clients();
  REQUIRE(own.size() == 1);
  CHECK(own[0]["user"] == "ada");
  CHECK(house.post("/api/clients/end", {{"id", own[0]["id"]}}).status == 200);
  CHECK(house.get("/api/status").status == 401);
  CHECK(house.lookAround()["isAnonymous"] == true);
  CHECK(house.get("/api/status").status == 200);
}

TEST_CASE("certificates come and go over the console, the server's own among them", "[console]") {
  House house;
  house.lookAround();
  const auto client = test::identity("urn:fernhollow.example:client")->certificate;
  const Json upload{{"certificate", toBase64(client.der().bytes())}};
  CHECK(house.post("/api/certificates/upload", upload).status == 403);
  CHECK(house.post("/api/certificates/own/renew", Json::object()).status == 403);
  house.makeAdministrator();
  CHECK(house.post("/api/certificates/upload", {{"certificate", "bm90aGluZw=="}}).status == 400);
  CHECK(house.post("/api/certificates/upload", upload).status == 200);
  const auto known = house.got("/api/certificates")["certificates"];
  REQUIRE(known.size() == 1);
  CHECK(known[0]["fingerprint"] == client.fingerprint());
  CHECK(known[0]["state"] == "trusted");
  const auto own = [&] { return house.got("/api/status")["certificate"]["fingerprint"]; };
  const auto before = own();
  CHECK(house.post("/api/certificates/own/renew", {{"days", 0}}).status == 400);
  CHECK(house.post("/api/certificates/own/renew", {{"kind", "rot13"}}).status == 400);
  CHECK(own() == before);
  CHECK(house.post("/api/certificates/own/renew", {{"days", 90}}).status == 200);
  CHECK(own() != before);
  const auto asked = Json::parse(house.post("/api/certificates/own/request", Json::object()).body);
  CHECK(fromBase64(asked["request"].get<std::string>())->size() > 200);
  CHECK(house.post("/api/certificates/own/import", upload).status == 400);  // another's key
  CHECK(house.got("/api/status")["load"]["memory"] > 1'000'000);
  CHECK(house.got("/api/audit?what=own%20certificate%20made")["lines"].size() == 1);
}

TEST_CASE("lists and pages are files of the site, and of its console alone", "[console]") {
  House house;
  house.lookAround();
  const auto save = [&](const std::string& kind, const std::string& name, const Json& content) {
    return house.post("/api/sheets", {{"kind", kind}, {"name", name}, {"content", content}});
  };
  CHECK(save("lists", "Morning round", {{"nodes", {"Tank/oxygen"}}}).status == 200);
  CHECK(std::filesystem::exists(house.folder.path / "console/lists/Morning round.json"));
  CHECK(house.got("/api/sheets?kind=lists")["sheets"][0]["name"] == "Morning round");
  for (const char* name : {"", "../site", "a/b", ".hidden", "a\\b", "x\ny", " x", "con:"}) {
    INFO(name);
    CHECK(save("lists", name, Json::object()).status == 400);
  }
  CHECK(save("state", "users", Json::object()).status == 400);
  CHECK(save("pages", "large", {{"x", std::string(600'000, 'x')}}).status == 413);
  // Whose page it is.
  CHECK(save("pages", "Feeding", {{"shownTo", {"Operator"}}, {"operatedBy", {"Supervisor", "Nobody", 5}}}).status ==
        200);
  CHECK(save("pages", "Office", {{"shownTo", {"Supervisor"}}}).status == 200);
  CHECK(save("pages", "All", {{"shownTo", Json::array()}, {"operatedBy", "Operator"}}).status == 200);
  const auto pages = [&] {
    std::string out;
    const Json told = house.got("/api/sheets?kind=pages");
    for (const auto& sheet : told["sheets"])
      out += sheet["name"].get<std::string>() + (sheet["isOperable"] == true ? "! " : " ");
    return out;
  };
  CHECK(pages() == "All! Feeding Office! ");
  CHECK(house.post("/api/sheets/delete", {{"kind", "lists"}, {"name", "../../site"}}).status == 400);
  CHECK(house.post("/api/sheets/delete", {{"kind", "lists"}, {"name", "Morning round"}}).status == 200);
  CHECK(house.got("/api/sheets?kind=lists")["sheets"].empty());
}

TEST_CASE("what the folder says is looked at and applied", "[console]") {
  House house;
  house.lookAround();
  CHECK(house.got("/api/changes")["changes"].empty());
  house.folder.write("model/more.yaml",
                     "namespace: http://fernhollow.example/test\nobjects:\n  Pond: {depth: Double m}\n");
  CHECK(house.got("/api/changes")["changes"].size() >= 1);
  CHECK(house.get("/api/node?node=Pond").status == 404);
  CHECK(Json::parse(house.post("/api/apply", Json::object()).body)["applied"] == true);
  CHECK(house.get("/api/node?node=Pond/depth").status == 200);
  house.folder.write("model/more.yaml", "objects:\n  Pond: {depth: Doubel}\n");
  const auto refused = Json::parse(house.post("/api/apply", Json::object()).body);
  CHECK(refused["applied"] == false);
  CHECK(refused["findings"].size() >= 1);
}

TEST_CASE("a device is tried, looked through and made into drafts", "[console][device]") {
  test::Process filter(std::vector<std::string>{test::program("zunth-sim"), "drum-filter", "--port", "0"});
  const std::string line = filter.line();
  const std::string port = line.substr(line.rfind(':') + 1);
  House house;
  house.makeAdministrator();
  const Json settings{{"host", "127.0.0.1"}, {"port", port}};
  const auto ask = [&](const char* what, Json body) {
    body["driver"] = body.value("driver", "modbus-tcp");
    if (!body.contains("settings")) body["settings"] = settings;
    return house.post(std::string("/api/device/") + what, body);
  };
  CHECK(house.got("/api/device/kinds")["kinds"].size() == 6);
  // Whether it answers, one place in each way, and all of it.
  auto tried = Json::parse(ask("try", Json::object()).body);
  CHECK(tried["address"] == "127.0.0.1:" + port + " unit 1");
  CHECK(tried["points"].size() == 4);
  tried = Json::parse(ask("try", {{"points", {"input 0"}}}).body);
  CHECK(tried["areWays"] == true);
  CHECK(tried["points"].size() > 10);
  CHECK(tried["points"][0]["way"].size() > 1);
  const auto found = Json::parse(ask("scan", {{"first", 0}, {"last", 20}}).body)["found"];
  REQUIRE(found.size() > 3);
  // What is kept are drafts: nothing is on disk before they are applied.
  Json kept = Json::array();
  for (std::size_t i = 0; i < 3; ++i)
    kept.push_back({{"name", found[i]["name"]}, {"words", found[i]["words"]}, {"type", found[i]["type"]}});
  const auto files = Json::parse(ask("propose", {{"name", "screen"}, {"points", kept}}).body)["files"];
  CHECK(files == Json({"devices/screen.yaml", "model/screen.yaml", "bindings/screen.yaml"}));
  CHECK_FALSE(std::filesystem::exists(house.folder.path / "devices/screen.yaml"));
  CHECK(Json::parse(house.post("/api/drafts/check", Json::object()).body)["isSound"] == true);
  CHECK(codeOf(ask("propose", {{"name", "screen"}, {"points", kept}})) == "BadEntryExists");
  CHECK(Json::parse(house.post("/api/drafts/apply", Json::object()).body)["applied"] == true);
  CHECK(house.get("/api/node?node=screen/" + found[0]["name"].get<std::string>()).status == 200);
  // What can't be, says so.
  struct Row {
    const char* what;
    Json body;
    const char* code;
  };
  for (const Row& row : std::vector<Row>{
           {"try", {{"driver", "files"}}, "BadUserAccessDenied"},
           {"scan", {{"driver", "files"}}, "BadUserAccessDenied"},
           {"propose", {{"driver", "files"}, {"name", "x"}, {"points", kept}}, "BadUserAccessDenied"},
           {"try", {{"driver", "modbsu"}}, "BadSyntaxError"},
           {"try", {{"settings", {{"host", "127.0.0.1"}, {"port", "1"}}}}, "BadNoCommunication"},
           {"try", {{"settings", {{"hots", "127.0.0.1"}}}}, "BadSyntaxError"},
           {"try", {{"settings", {{"host", "a\npoints: {x: y}"}}}}, "BadSyntaxError"},
           {"try", {{"settings", "host"}}, "BadSyntaxError"},
           {"try", {{"points", {"input 0\n  p2: coil 0"}}}, "BadSyntaxError"},
           {"try", {{"points", std::vector<std::string>(51, "input 0")}}, "BadSyntaxError"},
           {"scan", {{"first", 5}, {"last", 4}}, "BadSyntaxError"},
           {"scan", {{"first", 0}, {"last", 1'000}}, "BadSyntaxError"},
           {"scan", {{"driver", "line"}, {"settings", {{"port", "1"}}}}, "BadNotSupported"},
           {"propose", {{"name", "../x"}, {"points", kept}}, "BadSyntaxError"},
           {"propose", {{"name", "x"}, {"points", Json::array()}}, "BadSyntaxError"},
           {"propose", {{"name", "x"}, {"points", {{{"name", "a: b"}, {"words", "input 0"}}}}}, "BadSyntaxError"},
           {"propose", {{"name", "x"}, {"points", {{{"name", "a"}, {"words", "in\nput"}}}}}, "BadSyntaxError"},
           {"propose",
            {{"name", "x"}, {"points", {{{"name", "a"}, {"words", "input 0"}, {"type", "Duoble"}}}}},
            "BadSyntaxError"}}) {
    INFO(row.what << " " << row.body);
    CHECK(codeOf(ask(row.what, row.body)) == row.code);
  }
  // It is on record who looked where; who is no engineer looks nowhere.
  CHECK(house.got("/api/audit?like=device")["lines"].size() >= 4);
  House guarded("  unsecured: on\n");
  CHECK(guarded.post("/api/device/try", {{"driver", "simulation"}}).status == 401);
}

TEST_CASE("a token lets some nodes be read, in the name of who made it, as long as they may", "[console][attack]") {
  House house;
  house.lookAround();
  const Json wish{{"name", "Monday's sheet"}, {"nodes", {"Tank/*", "Tank/nothing"}}};
  CHECK(house.post("/api/tokens", wish).status == 403);
  house.makeAdministrator();
  const auto made = Json::parse(house.post("/api/tokens", wish).body);
  const std::string path = made["path"], word = made["token"];
  CHECK(codeOf(house.post("/api/tokens", wish)) == "BadEntryExists");
  CHECK(house.got("/api/tokens")["tokens"][0]["user"] == "ada");
  std::ifstream file(house.folder.path / "state/console-tokens.json");
  const std::string kept(std::istreambuf_iterator<char>(file), {});
  CHECK(kept.find(word) == std::string::npos);

  // Whoever has it needs no login, and reads nothing else.
  const std::string cookie = std::exchange(house.cookie, "");
  house.address = "10.1.2.3:1";
  const auto table = house.get(path);
  CHECK(table.body.starts_with("node,value,unit,status,time\r\nTank/oxygen,8.5,mg/L,Good,"));
  CHECK(house.got(path + "&format=json")["values"].size() == 3);
  CHECK(house.get("/api/table?token=guessed").status == 403);
  CHECK(house.get("/api/table").status == 403);
  CHECK(house.serve(house.request("HEAD", path)).status == 200);  // as a spreadsheet asks first
  CHECK(house.get("/api/values?node=Tank/oxygen&token=" + word).status == 401);

  house.address = "127.0.0.1:1";
  house.cookie = cookie;
  CHECK(house.post("/api/users", {{"change", "disable"}, {"name", "ada"}}).status == 200);
  CHECK(house.get(path).status == 403);
}

namespace {

/// Who listens by a token, without a connection.
class Script final : public console::LiveSocket {
 public:
  void start(Callbacks) override {}
  void send(std::string text) override {
    const std::lock_guard lock(mutex_);
    heard_.push_back(Json::parse(text));
    came_.notify_all();
  }
  std::size_t unsent() const override { return unsentNow; }
  void close() override {
    isClosed = true;
    came_.notify_all();
  }
  /// The texts so far, once there are so many.
  std::vector<Json> heard(std::size_t count) {
    std::unique_lock lock(mutex_);
    came_.wait_for(lock, std::chrono::seconds(20), [&] { return heard_.size() >= count; });
    return heard_;
  }
  std::atomic<std::size_t> unsentNow{0};
  std::atomic<bool> isClosed{false};

 private:
  std::mutex mutex_;
  std::condition_variable came_;
  std::vector<Json> heard_;
};

}  // namespace

TEST_CASE("a script hears by a token what changes, until the token or its maker has gone", "[console][attack]") {
  House house;
  house.makeAdministrator();
  const auto makeToken = [&](const char* name) {
    const auto made = house.post("/api/tokens", {{"name", name}, {"nodes", {"Tank/*"}}});
    return Json::parse(made.body)["token"].get<std::string>();
  };
  const auto listen = [&](const std::string& word) {
    const auto request = house.request("GET", "/api/stream?every=1&token=" + word);
    const auto token = console::Tokens(console::tokenFile(house.folder.path)).find(word);
    REQUIRE(token);
    auto script = std::make_shared<Script>();
    house.on([&] { REQUIRE(house.page->join(*token, request, script)); });
    return script;
  };
  const auto change = [&](double value) {
    house.on([&] {
      auto& space = house.page->space();
      space.setValue(console::nodeNamed(space, space::Rights::all(), "Tank/oxygen"), DataValue(Variant(value)));
    });
  };
  const auto script = listen(makeToken("one"));
  const auto first = script->heard(1);
  REQUIRE(first.size() == 1);
  CHECK(first[0]["values"].size() == 3);
  change(3.25);
  const auto second = script->heard(2);
  REQUIRE(second.size() == 2);
  REQUIRE(second[1]["values"].size() == 1);  // what is as before isn't told again
  CHECK(second[1]["values"][0]["node"] == "Tank/oxygen");
  CHECK(second[1]["values"][0]["text"] == "3.25");
  // Who takes nothing is told nothing, and then the newest.
  script->unsentNow = 1 << 20;
  change(4);
  change(5);
  script->unsentNow = 0;
  CHECK(script->heard(3)[2]["values"][0]["value"] == 5.0);
  REQUIRE(house.post("/api/tokens/remove", {{"name", "one"}}).status == 200);
  CHECK(script->heard(4).back()["error"]["cause"] == "the token was removed");
  CHECK(script->isClosed);
  // Large values come one message after the other, and a table of too many is refused.
  const std::vector<double> many(1'000'001, 1.5);
  house.on([&] {
    auto& space = house.page->space();
    space.setValue(console::nodeNamed(space, space::Rights::all(), "Tank/oxygen"), DataValue(Variant::array(many)));
  });
  const std::string large = makeToken("large");
  const auto hears = listen(large)->heard(2);
  REQUIRE(hears.size() == 2);
  CHECK(hears[0]["values"].size() + hears[1]["values"].size() == 3);
  CHECK(codeOf(house.get("/api/table?token=" + large)) == "BadResponseTooLarge");
  change(5);
  CHECK(house.get("/api/table?token=" + large).status == 200);
  REQUIRE(house.post("/api/tokens/remove", {{"name", "large"}}).status == 200);
  const std::string word = makeToken("two");
  const auto other = listen(word);
  // One token takes no more than its part of the places.
  for (int i = 0; i < 9; ++i) listen(word);
  house.on([&] {
    const auto request = house.request("GET", "/api/stream");
    const auto token = console::Tokens(console::tokenFile(house.folder.path)).find(word);
    CHECK(house.page->join(*token, request, std::make_shared<Script>()).code() == status::BadTooManySessions);
  });
  REQUIRE(other->heard(1).size() == 1);
  CHECK(house.post("/api/users", {{"change", "disable"}, {"name", "ada"}}).status == 200);
  CHECK(other->heard(2).back()["error"]["cause"] == "who made the token may log in no longer");
}

TEST_CASE("the API is described as it is", "[console]") {
  House house;
  const auto described = house.got("/api/openapi.json");
  house.lookAround();
  house.makeAdministrator();
  for (const auto& route : console::routes()) {
    INFO(route.method << " " << route.path);
    std::string method = route.method;
    std::ranges::transform(method, method.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    REQUIRE(described["paths"][route.path].contains(method));
    const bool needsNothing = std::ranges::none_of(route.parameters, &console::Parameter::isRequired);
    const std::string path = route.path;
    const bool isOfItsOwn = path == "/api/live" || path == "/api/stream" || path == "/api/table";
    if (method == "get" && needsNothing && !isOfItsOwn) CHECK(house.get(route.path).status == 200);
    // Each refusal is of the form that is described.
    if (!needsNothing) {
      const auto refused = method == "get" ? house.get(route.path) : house.post(route.path, Json::object());
      CHECK(refused.status >= 400);
      for (const char* part : {"code", "cause", "next"}) CHECK(Json::parse(refused.body)["error"].contains(part));
    }
  }
}

TEST_CASE("a page hears of values and alarms as they happen", "[console]") {
  House house;
  house.lookAround();
  const auto socket = std::make_shared<Listening>();
  const auto say = [&](const Json& json) { house.on([&] { socket->say(json); }); };
  house.on([&] { REQUIRE(house.page->join(house.request("GET", "/api/live"), socket)); });
  const auto write = [&](double value) {
    house.post("/api/write", {{"values", {{{"node", "Tank/oxygen"}, {"value", value}}}}});
  };
  say({{"watch",
        {{{"key", 1}, {"node", "Tank/oxygen"}, {"every", 0}},
         {{"key", 2}, {"node", "Tank/nothing"}},
         {{"key", 3}, {"node", "Tank"}},
         {{"key", "x"}},
         5}}});
  const auto told = socket->next("watching");
  REQUIRE(told.size() == 3);
  CHECK(told[0]["facts"]["unit"] == "mg/L");
  CHECK(told[1]["error"]["code"] == "BadNodeIdUnknown");
  CHECK(told[2]["error"]["code"] == "BadAttributeIdInvalid");
  const auto first = socket->next("values");
  CHECK(first[0][0] == 1);
  CHECK(first[0][1] == 8.5);
  CHECK(first[0][3].is_null());
  write(9);
  CHECK(socket->next("values")[0][1] == 9.0);

  // Who is slow gets the newest, once there is room.
  socket->isSlow = true;
  for (double value : {10.0, 11.0, 12.0}) write(value);
  say({{"alarms", true}});
  CHECK(socket->next("alarms").empty());
  write(4);
  CHECK(socket->next("alarm")["alarm"] == "Tank/stuffy");
  socket->isSlow = false;
  house.on([&] { socket->drain(); });
  // The alarm may have been faster than the value that raised it; what was in between is skipped.
  Json newest = socket->next("values");
  if (newest[0][1] == 12.0) newest = socket->next("values");
  CHECK(newest[0][1] == 4.0);

  say({{"drop", {1, 99, "x"}}});
  CHECK_FALSE(socket->isClosed);
  house.on([&] { socket->saySomething("no JSON"); });
  CHECK(socket->isClosed);
}

namespace {

/// What comes back for these octets, until this is in it.
std::string hear(const std::string& url, const std::string& octets, const std::string& until) {
  boost::asio::io_context io;
  net::Tcp::socket socket(io);
  socket.connect({boost::asio::ip::make_address("127.0.0.1"),
                  static_cast<std::uint16_t>(std::stoi(url.substr(url.rfind(':') + 1)))});
  boost::asio::write(socket, boost::asio::buffer(octets));
  std::string answer;
  boost::system::error_code ignored;
  while (answer.find(until) == std::string::npos && !ignored)
    boost::asio::read(socket, boost::asio::dynamic_buffer(answer), boost::asio::transfer_at_least(1), ignored);
  return answer;
}

/// What comes back for these octets, until the other side ends.
std::string sayTo(const std::string& url, const std::string& octets) {
  boost::asio::io_context io;
  net::Tcp::socket socket(io);
  socket.connect({boost::asio::ip::make_address("127.0.0.1"),
                  static_cast<std::uint16_t>(std::stoi(url.substr(url.rfind(':') + 1)))});
  boost::asio::write(socket, boost::asio::buffer(octets));
  std::string answer;
  boost::system::error_code ignored;
  boost::asio::read(socket, boost::asio::dynamic_buffer(answer), ignored);
  return answer;
}

}  // namespace

TEST_CASE("a hundred pages hear each change, each once, and one that falls silent holds nobody up", "[console]") {
  House house;
  house.lookAround();
  std::vector<std::shared_ptr<Listening>> sockets;
  for (int i = 0; i < 100; ++i) {
    auto& socket = sockets.emplace_back(std::make_shared<Listening>());
    house.on([&] { REQUIRE(house.page->join(house.request("GET", "/api/live"), socket)); });
    house.on([&] { socket->say({{"watch", {{{"key", 1}, {"node", "Tank/oxygen"}, {"every", 0}}}}}); });
  }
  for (auto& socket : sockets) CHECK(socket->next("values")[0][1] == 8.5);
  sockets[50]->isSlow = true;
  for (const double value : {9.0, 10.0}) {
    CHECK(house.post("/api/write", {{"values", {{{"node", "Tank/oxygen"}, {"value", value}}}}}).status == 200);
    for (std::size_t i = 0; i < sockets.size(); ++i)
      if (i != 50) CHECK(sockets[i]->next("values")[0][1] == value);
  }
  CHECK(house.page->feedCount() == 100);
}

TEST_CASE("who was logged out in the middle of an edit is told so, and nothing of it is written", "[console]") {
  House house("  anonymous: off\n");
  house.makeAdministrator();
  const auto other = std::pair(house.cookie, house.proof);
  const Json edit{{"values", {{{"node", "Tank/oxygen"}, {"value", 3}}}}};
  CHECK(house.post("/api/logout", Json::object()).status == 200);
  std::tie(house.cookie, house.proof) = other;
  const auto refused = house.post("/api/write", edit);
  CHECK(refused.status == 401);
  CHECK(codeOf(refused) == "BadSessionIdInvalid");
  CHECK(house.post("/api/sheets", {{"kind", "lists"}, {"name", "x"}, {"content", Json::object()}}).status == 401);
  house.keep(house.post("/api/login", {{"user", "ada"}, {"password", "brook trout 7"}}));
  CHECK(house.got("/api/values?node=Tank/oxygen").dump().find("8.5") != std::string::npos);
}

TEST_CASE("the door keeps out who comes by another name or from another page", "[console][attack]") {
  House house;
  const std::string host = "Host: " + house.url.substr(7) + "\r\n", end = "Connection: close\r\n\r\n";
  const auto status = [&](const std::string& octets) { return sayTo(house.url, octets).substr(0, 12); };
  const std::string get = "GET /api/me HTTP/1.1\r\n";
  const std::string answer = sayTo(house.url, get + host + end);
  CHECK(answer.starts_with("HTTP/1.1 200"));
  CHECK(answer.find("HttpOnly; SameSite=Strict") != std::string::npos);
  CHECK(answer.find("Content-Security-Policy: default-src 'self'") != std::string::npos);
  // A name that leads here by somebody else's name service.
  CHECK(status(get + "Host: evil.example:8046\r\n" + end) == "HTTP/1.1 403");
  CHECK(status(get + host + "Origin: http://evil.example\r\n" + end) == "HTTP/1.1 403");
  CHECK(status(get + host + "Origin: " + house.url + "\r\n" + end) == "HTTP/1.1 200");
  const std::string upgrade =
      "Upgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: 13\r\n"
      "Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n";
  // Who only listens gets events, as text.
  const std::string asked = sayTo(house.url, get + host + end);
  const auto cookie = asked.substr(asked.find("zunth="), asked.find(';', asked.find("zunth=")) - asked.find("zunth="));
  const std::string stream =
      hear(house.url, "GET /api/stream?node=Tank/oxygen HTTP/1.1\r\n" + host + "Cookie: " + cookie + "\r\n\r\n",
           "\"values\"");
  CHECK(stream.find("text/event-stream") != std::string::npos);
  CHECK(stream.find("data: {\"values\":[[1,8.5,") != std::string::npos);
  CHECK(status("GET /api/stream?node=Tank/oxygen HTTP/1.1\r\n" + host + end) == "HTTP/1.1 401");
  // A live connection takes a login, and the page's own word where it comes from.
  CHECK(status("GET /api/live HTTP/1.1\r\n" + host + "Origin: " + house.url + "\r\n" + upgrade + "X: close\r\n\r\n" +
               get + host + end) == "HTTP/1.1 401");
  CHECK(status("GET /../site.yaml HTTP/1.1\r\n" + host + end) == "HTTP/1.1 404");
  CHECK(status("GET / HTTP/1.1\r\n" + host + "X: " + std::string(40'000, 'x') + "\r\n" + end).empty());
  CHECK(status("POST /api/login HTTP/1.1\r\n" + host + "Content-Length: 99999999\r\n" + end).empty());
  CHECK(status("nonsense\r\n\r\n").empty());
  CHECK(status(get + host + end) == "HTTP/1.1 200");
}

}  // namespace zunth::console_test
