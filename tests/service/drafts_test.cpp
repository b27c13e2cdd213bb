// The site's files, edited at the console: drafts, conflicts, and versions.
#include "service/admin/drafts.hpp"

#include "core/ua/text.hpp"
#include "service/admin/site_preview.hpp"
#include "service/admin/site_versions.hpp"
#include "service/admin/state_file.hpp"

#include <fstream>

#include "tests/service/house.hpp"
#include <fmt/format.h>

namespace zunth::drafts_test {

using namespace ua;
using admin::Drafts;
using console::Json;
using test::codeOf;
using test::House;
using test::TemporaryFolder;

namespace {

std::string textOf(const std::filesystem::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

struct Folder : TemporaryFolder {
  Folder() {
    write("site.yaml", "name: Test\nuri: urn:fernhollow.example:test\nendpoint: opc.tcp://127.0.0.1:0\n");
    write("model/plant.yaml", "namespace: http://fernhollow.example/test\nobjects:\n  Tank: {level: Double m}\n");
    write("devices/notes.txt", "no file of the site");
  }
  Drafts drafts() const { return Drafts(path); }
  std::string version(const std::string& name) const { return drafts().read(name)->version; }
};

}  // namespace

TEST_CASE("a site is made of files of its own folder alone", "[drafts][attack]") {
  const struct {
    const char* name;
    bool is;
  } names[] = {{"site.yaml", true},
               {"model/plant.yaml", true},
               {"model/parts/pump 2.yaml", true},
               {"devices/filter-DF1.yaml", true},
               {"bindings/all.csv", true},
               {"model/other.xml", true},
               {"model/../site.yaml", false},
               {"model/.hidden.yaml", false},
               {"model//plant.yaml", false},
               {"model/a/../../state/users.yaml", false},
               {"/etc/passwd", false},
               {"state/users.yaml", false},
               {"model/plant.yaml\n", false},
               {"model/pl\xc3\xa4nt.yaml", false},
               {"model/", false},
               {"model", false},
               {"pages/hall.json", false},
               {"console/pages/Hall 1.json", true},
               {"console/lists/Morgenrunde \xc3\xa4.json", true},
               {"console/pages/.json", false},
               {"console/pages/../../state/x.json", false},
               {"console/pages/a/b.json", false},
               {"console/state.json", false},
               {"", false}};
  const Folder folder;
  for (const auto& each : names) {
    INFO(each.name);
    CHECK(admin::isSiteFile(each.name) == each.is);
    if (!each.is) {
      CHECK(folder.drafts().read(each.name).code() == status::BadNodeIdInvalid);
      CHECK(folder.drafts().write(each.name, "x", "", "ada").code() == status::BadNodeIdInvalid);
    }
  }
  // A link leads out of it.
  std::filesystem::create_symlink("/etc/passwd", folder.path / "model/leak.yaml");
  CHECK(folder.drafts().read("model/leak.yaml").code() == status::BadNodeIdInvalid);
  CHECK(folder.drafts().write("model/leak.yaml", "x", "", "ada").code() == status::BadNodeIdInvalid);
}

TEST_CASE("edits are drafts until they are put in place, and nothing is written over", "[drafts]") {
  const Folder folder;
  auto drafts = folder.drafts();
  const std::string name = "model/plant.yaml", saved = textOf(folder.path / name);
  const auto first = drafts.write(name, saved + "  # one\n", folder.version(name), "ada");
  REQUIRE(first);
  CHECK(textOf(folder.path / name) == saved);
  CHECK(*drafts.read(name)->draft == saved + "  # one\n");
  CHECK(drafts.read(name)->saved == saved);
  CHECK(drafts.read(name)->version == *first);
  // Two who edit at once: the second sees the first.
  CHECK(drafts.write(name, "mine", "stale", "ben").code() == status::BadInvalidState);
  CHECK(drafts.write(name, "mine", "stale", "ben").error().cause.find("ada") != std::string::npos);
  REQUIRE(drafts.write(name, saved + "  # two\n", *first, "ben"));
  // A new file, and one that is what it was.
  REQUIRE(drafts.write("model/pond.yaml", "objects: {}\n", "", "ada"));
  CHECK(drafts.write("model/pond.yaml", "again", "", "ada").code() == status::BadInvalidState);
  const auto site = textOf(folder.path / "site.yaml");
  REQUIRE(drafts.write("site.yaml", site + "#\n", folder.version("site.yaml"), "ada"));
  REQUIRE(drafts.write("site.yaml", site, folder.version("site.yaml"), "ada"));
  const auto listed = drafts.list();
  REQUIRE(listed);
  std::string told;
  for (const auto& file : *listed)
    told += file.name + (file.isEdited ? " edited by " + file.by : "") + (file.isNew ? " new" : "") + "; ";
  CHECK(told == "site.yaml; model/plant.yaml edited by ben; model/pond.yaml edited by ada new; ");

  SECTION("put in place as a whole") {
    const auto put = drafts.put();
    REQUIRE(put);
    CHECK(put->size() == 2);
    CHECK(textOf(folder.path / name) == saved + "  # two\n");
    CHECK(textOf(folder.path / "model/pond.yaml") == "objects: {}\n");
    CHECK_FALSE(drafts.read(name)->draft);
    CHECK_FALSE(std::filesystem::exists(folder.path / "state/drafts.json"));
  }
  SECTION("not over what somebody else has written") {
    folder.write(name, "other\n");
    CHECK(drafts.read(name)->isInConflict);
    CHECK(drafts.put().code() == status::BadInvalidState);
    CHECK(textOf(folder.path / name) == "other\n");
    CHECK_FALSE(std::filesystem::exists(folder.path / "model/pond.yaml"));
    // To go on editing doesn't settle it; to drop it does.
    REQUIRE(drafts.write(name, "third\n", drafts.read(name)->version, "ben"));
    CHECK(drafts.read(name)->isInConflict);
    REQUIRE(drafts.drop(name));
    CHECK(drafts.put());
    CHECK(textOf(folder.path / name) == "other\n");
  }
  SECTION("whichever write fails") {
    for (int call = 1;; ++call) {
      admin::failReplacingAt(call);
      const auto put = drafts.put();
      admin::failReplacingAt(0);
      if (put) break;
      REQUIRE(call < 100);
      // What is in place is whole, what isn't is still a draft.
      const auto now = textOf(folder.path / name);
      CHECK((now == saved || now == saved + "  # two\n"));
      if (now == saved) CHECK(*drafts.read(name)->draft == saved + "  # two\n");
    }
    CHECK(textOf(folder.path / name) == saved + "  # two\n");
    CHECK(textOf(folder.path / "model/pond.yaml") == "objects: {}\n");
  }
  SECTION("dropped") {
    REQUIRE(drafts.drop(""));
    CHECK_FALSE(drafts.read(name)->draft);
    CHECK(drafts.drop(name).code() == status::BadNotFound);
  }
  SECTION("damaged, nothing is done with them") {
    folder.write("state/drafts.json", "{\"version\": 1, \"drafts\": [{\"name\": \"../x.yaml\"}]}");
    CHECK(drafts.list().code() == status::BadConfigurationError);
    CHECK(drafts.put().code() == status::BadConfigurationError);
    REQUIRE(drafts.drop(""));
    CHECK(drafts.list());
  }
  SECTION("too large") {
    CHECK(drafts.write("model/large.yaml", std::string(Drafts::kMostText + 1, 'x'), "", "ada").code() ==
          status::BadRequestTooLarge);
    Result<std::string> last = std::string();
    for (int i = 0; i < 40 && last; ++i)
      last = drafts.write("model/many" + std::to_string(i) + ".yaml", std::string(Drafts::kMostText, 'x'), "", "ada");
    CHECK(last.code() == status::BadRequestTooLarge);
  }
}

TEST_CASE("a site is checked as its drafts have it", "[drafts]") {
  const Folder folder;
  auto drafts = folder.drafts();
  REQUIRE(drafts.preview());
  CHECK(drafts.preview()->isSound());
  REQUIRE(drafts.write("model/pond.yaml",
                       "namespace: http://fernhollow.example/test\nobjects:\n  Pond: {depth: Duoble m}\n", "", "ada"));
  const auto site = drafts.preview();
  REQUIRE(site);
  CHECK_FALSE(site->isSound());
  REQUIRE(!site->findings.list().empty());
  CHECK(site->findings.list()[0].place.file == "model/pond.yaml");
  CHECK(site->findings.list()[0].place.line == 3);
  // Nothing is left of looking.
  for (const auto& entry : std::filesystem::directory_iterator(folder.path / "state"))
    CHECK(entry.path().filename() == "drafts.json");
}

TEST_CASE("what a site's files name beside themselves is found from its drafts, too", "[drafts]") {
  const Folder folder;
  folder.write("units.csv", "symbol,name,code\nfish,fishes,\n");
  folder.write("secrets/broker.txt", "brook\n");
  folder.write("devices/points.csv", "point,where\nlevel,holding 1 Int16\n");
  auto drafts = folder.drafts();
  REQUIRE(drafts.write("model/pond.yaml",
                       "namespace: http://fernhollow.example/test\nobjects:\n  Pond: {stock: Int32 fish}\n", "",
                       "ada"));
  REQUIRE(drafts.write("devices/broker.yaml",
                       "driver: mqtt\nbroker: 127.0.0.1:1\nuser: a\npassword-file: broker.txt\npoints: {x: hall/a}\n",
                       "", "ada"));
  REQUIRE(drafts.write("devices/pump.yaml", "driver: modbus-tcp\npoints-from: points.csv\n", "", "ada"));
  REQUIRE(drafts.write("devices/points.csv", "point,where\nlevel,holding 1 Int16\nspeed,holding 2\n",
                       folder.version("devices/points.csv"), "ada"));
  const auto site = drafts.preview();
  REQUIRE(site);
  for (const auto& line : site->report()) UNSCOPED_INFO(line);
  CHECK(site->isSound());
  REQUIRE(site->devices.size() == 2);
  CHECK(site->devices[1].points.size() == 2);  // of the list as its draft has it
  // A page is drafted with the rest, and is one.
  REQUIRE(drafts.write("console/pages/Hall.json", "{\"widgets\": [", "", "ada"));
  CHECK_FALSE(drafts.preview()->isSound());
}

TEST_CASE("what devices and bindings would show is looked at before they count", "[drafts]") {
  const Folder folder;
  folder.write("model/plant.yaml",
               "namespace: http://fernhollow.example/test\nobjects:\n  Tank:\n    level: Double m\n    count: Int32\n"
               "    mode: Mode\n    row: Double[2]\ntypes:\n  Mode: enum Off | On\n");
  folder.write(
      "devices/tank.yaml",
      "driver: simulation\npoints:\n  level: constant 250 scale 0.01\n  count: constant 7\n  mode: constant 1\n"
      "  huge: constant 1e12\n  spare: constant 3\n");
  folder.write("devices/away.yaml", "driver: modbus-tcp\nport: 1\ntimeout: 200 ms\npoints:\n  a: input 0\n");
  folder.write("devices/station.yaml", "driver: dnp3\nport: 1\npoints:\n  a: analog 0\n");
  folder.write("bindings/tank.yaml",
               "bindings:\n  Tank/level: tank/level\n  Tank/count: tank/huge\n  Tank/mode: tank/mode\n"
               "  Tank/row[1]: tank/count\n");
  const auto site = admin::loadSite(folder.path);
  for (const auto& line : site.report()) UNSCOPED_INFO(line);
  REQUIRE(site.isSound());
  const auto look = [&](const std::string& file) { return admin::preview(site, file, std::chrono::seconds(5)); };
  const auto tell = [](const Result<admin::Preview>& told) {
    std::string out;
    for (const auto& line : told->lines)
      out += fmt::format("{}={}{}; ", line.node.empty() ? line.point : line.node,
                         line.shown.status.isBad() ? std::string(line.shown.status.name()) : format(line.shown.value),
                         line.why.empty() ? "" : "?");
    return out;
  };
  const auto bound = look("bindings/tank.yaml");
  REQUIRE(bound);
  CHECK(tell(bound) == "Tank/level=2.5; Tank/count=BadOutOfRange; Tank/mode=1; Tank/row[1]=7; ");
  CHECK(bound->lines[0].way.size() >= 2);
  CHECK(bound->lines[0].point == "tank/level");
  CHECK(bound->left == 0);
  // Of a device, its points that nothing shows as well.
  CHECK(tell(look("devices/tank.yaml")) ==
        "Tank/level=2.5; Tank/row[1]=7; Tank/mode=1; Tank/count=BadOutOfRange; tank/spare=3; ");
  CHECK(tell(look("devices/away.yaml")) == "away/a=BadNoCommunication?; ");
  // Who listens to one only is left to the service, where it speaks to them already; others are asked all the same.
  const auto busy = admin::linesIn(site);
  const auto beside = [&](const std::string& file) {
    return tell(admin::preview(site, file, std::chrono::seconds(5), busy));
  };
  CHECK(beside("devices/station.yaml") == "station/a=BadNotSupported?; ");
  CHECK(beside("devices/away.yaml") == "away/a=BadNoCommunication?; ");
  CHECK(look("model/plant.yaml").code() == status::BadNotSupported);
  CHECK(look("bindings/none.yaml").code() == status::BadNotSupported);
  // Not of a site that is wrong anywhere.
  folder.write("model/plant.yaml", "objects: {Tank: {level: Duoble}}\n");
  const auto broken = admin::preview(admin::loadSite(folder.path), "bindings/tank.yaml", std::chrono::seconds(5));
  CHECK(broken.code() == status::BadConfigurationError);
  CHECK(broken.error().cause.starts_with("model/plant.yaml:1: "));
}

TEST_CASE("more than can be looked at at once is counted", "[drafts]") {
  const Folder folder;
  std::string points = "driver: simulation\npoints:\n";
  for (std::size_t i = 0; i < admin::kMostPreviewed + 30; ++i) points += fmt::format("  p{}: constant {}\n", i, i);
  folder.write("devices/many.yaml", points);
  const auto told = admin::preview(admin::loadSite(folder.path), "devices/many.yaml", std::chrono::seconds(5));
  REQUIRE(told);
  CHECK(told->lines.size() == admin::kMostPreviewed);
  CHECK(told->left == 30);
  CHECK(format(told->lines.back().shown.value) == std::to_string(admin::kMostPreviewed - 1));
}

TEST_CASE("what the machine's own files and programs give is not bound from a browser", "[drafts][attack]") {
  const Folder folder;
  folder.write("devices/own.yaml", "driver: files\npoints:\n  load: file /proc/loadavg word 1\n");
  auto drafts = folder.drafts();
  CHECK(drafts.judge(*drafts.preview()));
  const struct {
    const char *file, *text;
    bool may;
  } rows[] = {
      {"devices/own.yaml", "driver: files\nevery: 5 s\npoints:\n  load: file /proc/loadavg word 1\n", true},
      {"devices/own.yaml", "driver: files\npoints:\n  load: file /etc/passwd word 1\n", false},
      {"devices/own.yaml", "driver: files\npoints:\n  load: file /proc/loadavg word 1\n  x: run [id]\n", false},
      {"devices/other.yaml", "driver: files\npoints: {x: \"run [id]\"}\n", false},
      {"devices/other.yaml", "driver: simulation\npoints:\n  wave: sine 0..10 every 5s\n", true},
  };
  for (const auto& row : rows) {
    INFO(row.text);
    REQUIRE(drafts.drop(""));
    const auto seen = drafts.read(row.file);
    REQUIRE(drafts.write(row.file, row.text, seen ? seen->version : "", "ada"));
    const auto site = drafts.preview();
    REQUIRE(site);
    for (const auto& line : site->report()) UNSCOPED_INFO(line);
    REQUIRE(site->isSound());
    CHECK(drafts.judge(*site).code() == (row.may ? status::Good : status::BadUserAccessDenied));
  }
}

TEST_CASE("what is applied becomes a version, which can be taken back", "[drafts]") {
  const Folder folder;
  CHECK_FALSE(admin::isVersioned(folder.path));
  REQUIRE(test::run("git init -q && git config user.name x && git config user.email x@y.invalid && git add site.yaml "
                    "model && git commit -q -m 'as it was'",
                    folder.path)
              .code == 0);
  REQUIRE(admin::isVersioned(folder.path));
  const std::string name = "model/plant.yaml", before = textOf(folder.path / name);
  folder.write(name, before + "# changed\n");
  folder.write("model/pond.yaml", "objects: {}\n");
  REQUIRE(admin::commitSite(folder.path, {name, "model/pond.yaml"}, "ada <b>\n@", "deeper;\n\"$(touch /tmp/x)\""));
  const auto versions = admin::versionsOf(folder.path, 10);
  REQUIRE(versions);
  REQUIRE(versions->size() == 2);
  CHECK((*versions)[0].who == "ada b @");
  CHECK((*versions)[0].why == "deeper; \"$(touch /tmp/x)\"");
  CHECK((*versions)[0].files == std::vector<std::string>{name, "model/pond.yaml"});
  const auto& first = (*versions)[1].id;
  CHECK(*admin::textAt(folder.path, first, name) == before);
  CHECK(admin::textAt(folder.path, first, "model/pond.yaml")->empty());
  CHECK(*admin::changedSince(folder.path, first) == std::vector<std::string>{name, "model/pond.yaml"});
  for (const char* odd : {"", "HEAD", "--help", "0000000000000000000000000000000000000000", "abc;id"}) {
    CHECK(admin::textAt(folder.path, odd, name).code() == status::BadNotFound);
    CHECK(admin::changedSince(folder.path, odd).code() == status::BadNotFound);
  }
  CHECK(admin::textAt(folder.path, first, "../x.yaml").code() == status::BadNotFound);
}

TEST_CASE("the site's files are edited, checked and applied over the console", "[console][drafts]") {
  House house;
  CHECK(house.lookAround()["isAnonymous"] == true);
  CHECK(codeOf(house.get("/api/files")) == "BadUserAccessDenied");
  house.makeAdministrator();
  const auto read = [&](const std::string& name) { return house.got("/api/files/text?name=" + name); };
  CHECK(house.got("/api/files")["files"].size() == 2);
  auto text = read("model/plant.yaml");
  CHECK(text["draft"].is_null());
  const std::string saved = text["saved"];
  // With a mistake nothing of it counts.
  auto kept = house.post(
      "/api/drafts", {{"name", "model/plant.yaml"}, {"text", saved + "  Odd: Typo\n"}, {"version", text["version"]}});
  REQUIRE(kept.status == 200);
  auto checked = Json::parse(house.post("/api/drafts/check", Json::object()).body);
  CHECK(checked["isSound"] == false);
  CHECK(checked["findings"][0]["file"] == "model/plant.yaml");
  auto applied = Json::parse(house.post("/api/drafts/apply", Json::object()).body);
  CHECK(applied["applied"] == false);
  CHECK(!applied["findings"].empty());
  CHECK(textOf(house.folder.path / "model/plant.yaml") == saved);
  // Mended, it does.
  std::string better = saved;
  better.replace(better.find("  Tank:"), 7, "  Pond:\n    depth: Double m\n  Tank:");
  CHECK(codeOf(house.post("/api/drafts", {{"name", "model/plant.yaml"}, {"text", better}, {"version", "old"}})) ==
        "BadInvalidState");
  REQUIRE(house
              .post("/api/drafts",
                    {{"name", "model/plant.yaml"}, {"text", better}, {"version", Json::parse(kept.body)["version"]}})
              .status == 200);
  CHECK(house.got("/api/files")["files"][1]["isEdited"] == true);
  applied = Json::parse(house.post("/api/drafts/apply", {{"why", "a pond"}}).body);
  INFO(applied.dump(1));
  CHECK(applied["applied"] == true);
  CHECK(applied["added"].get<int>() >= 2);
  CHECK(applied["files"][0] == "model/plant.yaml");
  CHECK(house.get("/api/node?node=Pond%2Fdepth").status == 200);
  CHECK(house.got("/api/versions")["isVersioned"] == false);
  CHECK(house.got("/api/audit")["lines"].dump().find("files changed") != std::string::npos);
}

TEST_CASE("a page that two change is lost by neither, and becomes a version", "[console][drafts]") {
  House house;
  house.makeAdministrator();
  REQUIRE(test::run("git init -q && git config user.name x && git config user.email x@y.invalid && git add site.yaml "
                    "&& git commit -q -m 'as it was'",
                    house.folder.path)
              .code == 0);
  const auto save = [&](const Json& content, const Json& version) {
    Json body{{"kind", "pages"}, {"name", "Hall 1"}, {"content", content}};
    if (version.is_string()) body["version"] = version;
    return house.post("/api/sheets", body);
  };
  const auto shownPages = [&] { return house.got("/api/sheets?kind=pages")["sheets"]; };
  const auto first = save({{"widgets", {1}}}, "");
  REQUIRE(first.status == 200);
  CHECK(codeOf(save({{"widgets", {2}}}, "")) == "BadInvalidState");  // there is one of this name
  const Json version = Json::parse(first.body)["version"];
  CHECK(shownPages()[0]["version"] == version);
  // What is changed and not saved is a draft of its file.
  const std::string file = "console/pages/Hall 1.json", at = "/api/files/text?name=console/pages/Hall%201.json";
  REQUIRE(
      house.post("/api/drafts", {{"name", file}, {"text", "{\"widgets\":[3]}"}, {"version", house.got(at)["version"]}})
          .status == 200);
  CHECK(shownPages()[0]["content"]["widgets"][0] == 1);
  CHECK(house.got("/api/files")["files"].dump().find("Hall 1") != std::string::npos);
  // Somebody saves it meanwhile: the draft is in conflict, and who began before is told.
  REQUIRE(save({{"widgets", {4}}}, version).status == 200);
  CHECK(codeOf(save({{"widgets", {5}}}, version)) == "BadInvalidState");
  CHECK(shownPages()[0]["content"]["widgets"][0] == 4);
  CHECK(house.got(at)["draft"].is_null());  // saving was the end of it
  const auto versions = house.got("/api/versions")["versions"];
  REQUIRE(versions.size() == 3);
  CHECK(versions[0]["who"] == "ada");
  CHECK(versions[0]["files"] == Json{file});
  REQUIRE(house.post("/api/sheets/delete", {{"kind", "pages"}, {"name", "Hall 1"}}).status == 200);
  CHECK(house.got("/api/versions")["versions"].size() == 4);
  REQUIRE(house.post("/api/versions/take", {{"version", versions[0]["id"]}}).status == 200);
  CHECK(Json::parse(house.post("/api/drafts/apply", Json::object()).body)["files"] == Json{file});
  CHECK(shownPages()[0]["content"]["widgets"][0] == 4);
}

TEST_CASE("a draft of bindings is looked at with its devices' values over the console", "[console][drafts]") {
  House house;
  house.makeAdministrator();
  const auto draft = [&](const std::string& name, const std::string& text) {
    return house.post("/api/drafts", {{"name", name}, {"text", text}, {"version", ""}});
  };
  REQUIRE(draft("devices/probe.yaml", "driver: simulation\npoints:\n  o: constant 7.25\n  m: constant 1\n").status ==
          200);
  REQUIRE(draft("bindings/probe.yaml", "bindings:\n  Tank/oxygen: probe/o\n  Tank/mode: probe/m\n").status == 200);
  const auto told = Json::parse(house.post("/api/drafts/preview", {{"name", "bindings/probe.yaml"}}).body);
  INFO(told.dump(1));
  REQUIRE(told["lines"].size() == 2);
  CHECK(told["lines"][0]["shown"]["text"] == "7.25");
  CHECK(told["lines"][0]["unit"] == "mg/L");
  CHECK(told["lines"][0]["now"]["text"] == "8.5");
  CHECK(told["lines"][1]["shown"]["text"] == "Auto");
  CHECK(house.got("/api/values?node=Tank/oxygen")["values"][0]["text"] == "8.5");  // nothing counts yet
  // The audit log is told once of a text, not with each look.
  CHECK(house.post("/api/drafts/preview", {{"name", "bindings/probe.yaml"}}).status == 200);
  CHECK(house.got("/api/audit?what=draft%20tried%20on%20devices")["lines"].size() == 1);
  CHECK(codeOf(house.post("/api/drafts/preview", {{"name", "model/plant.yaml"}})) == "BadNotSupported");
}

TEST_CASE("who may not administer security doesn't do so by editing files", "[console][drafts][attack]") {
  House house;
  house.makeAdministrator();
  REQUIRE(house
              .post("/api/users",
                    {{"change", "add"}, {"name", "eve"}, {"password", "brook trout 8"}, {"roles", {"Engineer"}}})
              .status == 200);
  // A draft of who may is left among the others.
  const auto site = house.got("/api/files/text?name=site.yaml");
  REQUIRE(house
              .post("/api/drafts", {{"name", "site.yaml"},
                                    {"text", site["saved"].get<std::string>() + "# by ada\n"},
                                    {"version", site["version"]}})
              .status == 200);
  house.keep(house.post("/api/login", {{"user", "eve"}, {"password", "brook trout 8"}}));
  CHECK(codeOf(house.get("/api/files/text?name=site.yaml")) == "BadUserAccessDenied");
  CHECK(codeOf(house.post("/api/drafts", {{"name", "site.yaml"}, {"text", "x"}, {"version", ""}})) ==
        "BadUserAccessDenied");
  CHECK(codeOf(house.post("/api/drafts/apply", Json::object())) == "BadUserAccessDenied");
  CHECK(codeOf(house.post("/api/drafts/drop", {{"name", "site.yaml"}})) == "BadUserAccessDenied");
  CHECK(house.post("/api/drafts/drop", Json::object()).status == 200);
  CHECK(house.got("/api/files")["files"][0]["isEdited"] == true);
  CHECK(house.get("/api/files/text?name=model/plant.yaml").status == 200);
  for (const char* name : {"../site.yaml", "state/users.yaml", "%2Fetc%2Fpasswd"})
    CHECK(codeOf(house.get(std::string("/api/files/text?name=") + name)) == "BadNodeIdInvalid");
}

}  // namespace zunth::drafts_test
