#include "core/model/access_rules.hpp"
#include "core/model/diagram.hpp"
#include "core/model/document_page.hpp"
#include "core/model/outline.hpp"
#include "core/space/type_catalog.hpp"

#include "tests/core/model_space.hpp"
#include <pugixml.hpp>

namespace zunth::drawing_test {

/// Models as people see them: the tree, the drawings, the page.

using namespace zunth::model;
using space::NodeIndex;

namespace {

constexpr const char* kModel = R"(namespace: http://fernhollow.example/plant
version: 1.3
types:
  Pump:
    about: Moves <water> & "air"
    flow: Double L/min 0..600
    speed: Float Hz 0..50 = 20 writable
    serial?: String property
    run(seconds UInt16) -> done Boolean: Go
  BigPump: {extends: Pump, gate: Boolean Closed | Open}
  Feed: "struct { grams UInt32, why? String }"
  Mode: enum Off | Auto
objects:
  Plant:
    Hall:
      P1: Pump
      P2: {is: BigPump, plan: {is: Feed, starts: {grams: 5}}}
    mode: Mode = Auto
)";

std::string told(const space::Space& space, const OutlineOptions& options) {
  std::string out;
  for (const auto& row : outline(space, space.at(ua::id::ObjectsFolder), options)) {
    const auto facts = factsOf(space, row.node);
    out += row.lead + facts.name + (row.hidden ? " +" + std::to_string(row.hidden) : "") + " " + facts.type + " " +
           facts.unit + " " + facts.range + " " + facts.access + "\n";
  }
  return out;
}

/// The words of every text in a drawing, and that it is sound XML.
std::vector<std::string> wordsOf(const std::string& svg) {
  pugi::xml_document document;
  REQUIRE(document.load_string(svg.c_str()));
  std::vector<std::string> out;
  for (const auto& found : document.select_nodes("//text")) out.emplace_back(found.node().text().get());
  return out;
}
bool has(const std::vector<std::string>& all, const std::string& wanted) {
  return std::ranges::find(all, wanted) != all.end();
}

std::string manyHalls(int halls, int tanks) {
  std::string text = "namespace: http://fernhollow.example/large\ntypes:\n  Tank: {fish: UInt32}\nobjects:\n  Plant:\n";
  for (int i = 0; i < halls; ++i)
    text += "    Hall " + std::to_string(i) + ":\n      \"T{1.." + std::to_string(tanks) + "}\": Tank\n";
  return text;
}

}  // namespace

TEST_CASE("the outline folds by depth and filters with what things are in", "[model]") {
  const auto space = test::spaceOf(kModel);
  CHECK(told(*space, {2, ""}) ==
        "└─ Plant    \n"
        "   ├─ Hall +10    \n"
        "   └─ mode Mode   \n");
  CHECK(told(*space, {100, "KPUMP"}).empty());
  CHECK(told(*space, {100, "l/min"}) ==
        "└─ Plant    \n"
        "   └─ Hall    \n"
        "      ├─ P1 Pump   \n"
        "      │  └─ flow Double L/min 0..600 \n"
        "      └─ P2 BigPump   \n"
        "         └─ flow Double L/min 0..600 \n");
  // What matches is shown with all that is in it.
  CHECK(told(*space, {100, "bigpump"}).find("gate Boolean Closed | Open") != std::string::npos);
}

TEST_CASE("what is said of a node in a line", "[model]") {
  const auto space = test::spaceOf(kModel);
  const auto at = [&](const char* path) { return space->find(ua::NodeId(2, ua::String(path))); };
  const auto speed = factsOf(*space, at("Plant/Hall/P1/speed"));
  CHECK(speed.access == "writable");
  CHECK(speed.value == "20");
  CHECK(factsOf(*space, at("Plant/mode")).value == "Auto");
  CHECK(factsOf(*space, at("Plant/Hall/P1/run")).type == "(seconds UInt16) -> done Boolean");
  CHECK(modellingRule(*space, at("types/Pump/serial")) == "Optional");
  const auto types = space::typeCatalog(*space);
  CHECK(factsOf(*space, at("Plant/Hall/P2/plan"), &types).value == R"({"grams":5})");
}

TEST_CASE("a drawing has a card for each object, and types have their members", "[model]") {
  const auto space = test::spaceOf(kModel);
  const auto plant = drawInstances(*space, space->at(ua::id::ObjectsFolder));
  CHECK(plant.cards == 4);
  CHECK(plant.apart.empty());
  const auto words = wordsOf(plant.svg);
  for (const char* word : {"Plant", "Hall", "P1", "Pump", "P2", "BigPump", "mode", "plan"}) CHECK(has(words, word));
  CHECK(!has(words, "flow"));  // its type says so
  // As far as somebody may see it, and no further than may be looked.
  const auto seen = [&](NodeIndex node) { return space->name(node) != "P2"; };
  const auto part = wordsOf(drawInstances(*space, space->at(ua::id::ObjectsFolder), {.shows = seen}).svg);
  CHECK(has(part, "P1"));
  CHECK(!has(part, "P2"));
  CHECK(!has(part, "plan"));
  CHECK(drawInstances(*space, space->at(ua::id::ObjectsFolder), {.mostNodes = 3}).svg.empty());
  const auto types = drawTypes(*space);
  CHECK(types.cards == 4);
  const auto members = wordsOf(types.svg);
  for (const char* word : {"Pump", "flow", "Double L/min 0..600", "serial?", "run", "why?", "enumeration", "Auto"})
    CHECK(has(members, word));
}

TEST_CASE("a type is drawn with what extends it, one of the standard as well as one of a model", "[model]") {
  const auto space = test::spaceOf(kModel);
  const auto pump = wordsOf(drawType(*space, space->find(ua::NodeId(2, ua::String("types/Pump")))).svg);
  for (const char* word : {"Pump", "flow", "serial?", "BigPump"}) CHECK(has(pump, word));
  CHECK(!has(pump, "Plant"));
  // What stands below it says by its place what it extends; it itself says so in words.
  const auto big = wordsOf(drawType(*space, space->find(ua::NodeId(2, ua::String("types/BigPump")))).svg);
  CHECK(has(big, "a Pump"));
  CHECK(!has(pump, "a Pump"));
  const auto enumerations = wordsOf(drawType(*space, space->at(ua::id::Enumeration)).svg);
  for (const char* word : {"Enumeration", "ServerState", "Running"}) CHECK(has(enumerations, word));
  const auto alarms = drawType(*space, space->at(ua::id::ConditionType));
  CHECK(alarms.cards > 10);
  CHECK(has(wordsOf(alarms.svg), "LimitAlarmType"));
  CHECK(drawType(*space, space->at(ua::id::ConditionType), {.mostNodes = 20}).svg.empty());
  CHECK(drawTypes(*space, {.mostNodes = 3}).svg.empty());
  const auto seen = [&](NodeIndex node) { return space->name(node) != "BigPump"; };
  CHECK(!has(wordsOf(drawTypes(*space, {.shows = seen}).svg), "BigPump"));
  // Too many for one sheet: the largest families are told of by their number.
  const auto all = drawType(*space, space->at(ua::id::BaseDataType), {.mostCards = 50});
  CHECK(all.cards <= 50);
  CHECK(!all.apart.empty());
  CHECK(drawAll(*space, space->at(ua::id::ConditionType), "alarms.svg").size() == 1);
}

TEST_CASE("large plants are drawn by subtree, each card in one drawing", "[model]") {
  const auto space = test::spaceOf(manyHalls(6, 50));
  const auto files = drawAll(*space, space->at(ua::id::ObjectsFolder), "plant.svg", {100});
  REQUIRE(files.contains("plant.svg"));
  CHECK(files.contains("plant-types.svg"));
  std::size_t tanks = 0;
  for (const auto& [name, svg] : files) {
    const auto words = wordsOf(svg);
    tanks += static_cast<std::size_t>(std::ranges::count(words, "T7"));
    pugi::xml_document document;
    document.load_string(svg.c_str());
    CHECK(document.select_nodes("//rect[@class='card']").size() <= 101);
    // Links lead to drawings that are there.
    for (const auto& link : document.select_nodes("//a")) CHECK(files.contains(link.node().attribute("href").value()));
  }
  CHECK(tanks == 6);
  // A drawing that stands alone, as on a page, links to nothing.
  const std::string page = writePage(*test::spaceOf(manyHalls(6, 50)), "Large");
  for (auto at = page.find("<a href=\""); at != std::string::npos; at = page.find("<a href=\"", at + 1))
    CHECK(page[at + 9] == '#');
  const auto alone = drawInstances(*space, space->at(ua::id::ObjectsFolder), {100});
  CHECK(!alone.apart.empty());
  CHECK(alone.svg.find("<a href") == std::string::npos);
  CHECK(drawingName("a/plant.svg", "Plant/Hall 1") == "a/plant-Plant-Hall-1.svg");
}

TEST_CASE("cards of one drawing don't lie on one another", "[model]") {
  const auto space = test::spaceOf(manyHalls(3, 4));
  pugi::xml_document document;
  const auto svg = drawInstances(*space, space->at(ua::id::ObjectsFolder)).svg;
  REQUIRE(document.load_string(svg.c_str()));
  struct Box {
    double left, top, right, bottom;
  };
  std::vector<Box> boxes;
  for (const auto& found : document.select_nodes("//rect[@class='card']")) {
    const auto number = [&](const char* name) { return found.node().attribute(name).as_double(); };
    boxes.push_back({number("x"), number("y"), number("x") + number("width"), number("y") + number("height")});
  }
  REQUIRE(boxes.size() == 16);
  const double width = document.child("svg").attribute("width").as_double();
  const double height = document.child("svg").attribute("height").as_double();
  for (std::size_t i = 0; i < boxes.size(); ++i) {
    CHECK((boxes[i].left >= 0 && boxes[i].right <= width && boxes[i].bottom <= height));
    for (std::size_t j = i + 1; j < boxes.size(); ++j)
      CHECK((boxes[i].right <= boxes[j].left || boxes[j].right <= boxes[i].left || boxes[i].bottom <= boxes[j].top ||
             boxes[j].bottom <= boxes[i].top));
  }
}

TEST_CASE("the page of a model names everything and lets no text out of its place", "[model]") {
  const auto space = test::spaceOf(kModel);
  const std::string page = writePage(*space, "The <plant>");
  CHECK(page.find("<h1>The &lt;plant&gt;</h1>") != std::string::npos);
  CHECK(page.find("version 1.3") != std::string::npos);
  CHECK(page.find("Moves &lt;water&gt; &amp; &quot;air&quot;") != std::string::npos);
  CHECK(page.find("<water>") == std::string::npos);
  for (const char* id : {"id=\"type-Pump\"", "id=\"type-Feed\"", "href=\"#type-BigPump\""})
    CHECK(page.find(id) != std::string::npos);
  CHECK(page.find("http://www.") == page.find("http://www.w3.org"));  // nothing is fetched from elsewhere
}

TEST_CASE("permissions are told in the words that make them", "[model]") {
  Findings findings;
  const Entry root = readYaml("x", "access: {Operator: see, Engineer: read write call, Observer: nothing}\n", findings);
  const auto set = readAccess(*root.find("access"), {}, findings);
  REQUIRE(findings.list().empty());
  REQUIRE(set.roles.size() == 3);
  CHECK(accessWords(set.roles[0].permissions) == "see");
  CHECK(accessWords(set.roles[1].permissions) == "read write call");
  CHECK(accessWords(set.roles[2].permissions) == "nothing");
  CHECK(!accessWords(ua::PermissionType::Browse | ua::PermissionType::DeleteNode));
}

}  // namespace zunth::drawing_test
