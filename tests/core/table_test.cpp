#include "core/model/table.hpp"

#include "core/model/build.hpp"
#include "core/space/attributes.hpp"

#include "tests/core/model_space.hpp"

namespace zunth::table_test {

/// Tables of variables: read, written, and told what is wrong with them, by line and column.

using namespace zunth::model;
using namespace zunth::space;
using namespace zunth::ua;
using zunth::test::freshSpace;

namespace {

constexpr const char* kUri = "http://fernhollow.example/plant";

struct Built {
  explicit Built(const std::string& text) : space(freshSpace()) {
    table = readTable("points.csv", text, kUri, Units::standard(), findings);
    std::vector<Entry> roots;
    roots.push_back(std::move(table.model));
    buildEntries(*space, roots, findings);
  }
  NodeIndex at(const std::string& path) const { return space->find(NodeId(2, String(path))); }
  std::unique_ptr<Space> space;
  Findings findings;
  Table table;
};

}  // namespace

TEST_CASE("rows become variables in their places", "[table]") {
  const std::string comma =
      "path,type,unit,range,access,initial,about,point\n"
      "Hatchery/Hall1/Tank A1/oxygen,Double,mg/L,0..20,read,,\"Dissolved, in the tank\",probes/a1\n"
      "Hatchery/Hall1/Tank A1/goal,Double,mg/L,6..14,writable,9,,\n"
      "# a remark\n"
      "Hatchery/Hall1/Tank A2/levels,Int32[3],,,read,\"[1, 2, 3]\",,\n";
  std::string semicolon = comma, tab = comma;
  std::ranges::replace(tab, ',', '\t');
  // The marks inside of quotes are text.
  tab =
      "path\ttype\tunit\trange\taccess\tinitial\tabout\tpoint\n"
      "Hatchery/Hall1/Tank A1/oxygen\tDouble\tmg/L\t0..20\tread\t\tDissolved, in the tank\tprobes/a1\n"
      "Hatchery/Hall1/Tank A1/goal\tDouble\tmg/L\t6..14\twritable\t9\t\t\n"
      "Hatchery/Hall1/Tank A2/levels\tInt32[3]\t\t\tread\t[1, 2, 3]\t\t\n";
  semicolon =
      "\xEF\xBB\xBFpath;type;unit;low;high;access;initial;about;point\r\n"
      "Hatchery/Hall1/Tank A1/oxygen;Double;mg/L;0;20;read;;Dissolved, in the tank;probes/a1\r\n"
      "Hatchery/Hall1/Tank A1/goal;Double;mg/L;6;14;writable;9;;\r\n"
      "Hatchery/Hall1/Tank A2/levels;Int32[3];;;;read;[1, 2, 3];;\r\n";
  for (const auto& text : {comma, semicolon, tab}) {
    INFO(text);
    const Built b(text);
    for (const auto& finding : b.findings.list()) FAIL(format(finding, text));
    const NodeIndex oxygen = b.at("Hatchery/Hall1/Tank A1/oxygen");
    REQUIRE(oxygen != kNoNode);
    CHECK(rangeProperty(*b.space, oxygen, "EURange") == Range{0, 20});
    CHECK(b.space->description(oxygen).text.view() == "Dissolved, in the tank");
    const NodeIndex goal = b.at("Hatchery/Hall1/Tank A1/goal");
    CHECK(b.space->value(goal).value == Variant(9.0));
    CHECK(b.space->traits(goal).accessLevel == 3);
    CHECK(b.space->traits(b.at("Hatchery/Hall1/Tank A2/levels")).valueRank == 1);
    REQUIRE(b.table.bindings.entries.size() == 1);
    CHECK(b.table.bindings.entries[0].key.text == "Hatchery/Hall1/Tank A1/oxygen");
    CHECK(b.table.bindings.entries[0].value->text == "probes/a1");
  }
}

TEST_CASE("a mistake in a table is told by line and column", "[table]") {
  struct Case {
    const char* text;
    std::size_t line, column;
    const char* message;
    const char* hint;
  };
  const Case cases[] = {
      {"path,tpye\nA/x,Double\n", 1, 6, "'tpye' is no column", "did you mean 'type'?"},
      {"path,type\nA/\xE9,Double\n", 2, 3, "the octet 0xE9 is no UTF-8", "save the file as UTF-8"},
      {"name,type\n", 1, 1, "'name' is no column", ""},
      {"path,type,unit\nA/x,Double,kPs\n", 2, 12, "there is no unit 'kPs'", "did you mean 'kPa'?"},
      {"path,type,range\nA/x,Double,5-9\n", 2, 12, "'5-9' is no range", "write two numbers, as 0..50"},
      {"path,type,low,high\nA/x,Double,5,\n", 2, 12, "a range has two ends", "fill in low and high"},
      {"path,type\nA/x,Duoble\n", 2, 5, "there is no type 'Duoble'", "did you mean 'Double'?"},
      {"path,type,access\nA/x,Double,maybe\n", 2, 12, "'maybe' is no access", "write read or writable"},
      {"path,type,initial\nA/x,Int32,many\n", 2, 11, "'many' is no Int32", ""},
      {"path,type\nA/x,Double\nA/x,Float\n", 3, 1, "'A/x' is in the table twice", "the first is in line 2"},
      {"path,type,about\nA/x,Double,\"never closed\n", 2, 12, "the quote that opens here is not closed", ""},
      {"path,type,about\nA/x,Double,\"closed\"early\nA/y,Double,\n", 2, 20,
       "something follows the quote that closes a cell", ""},
      {"path,type\n,Double\n", 2, 1, "the row has no path", ""},
      {"path,type\nA/x,\n", 2, 1, "the row has no type", ""},
  };
  for (const auto& c : cases) {
    INFO(c.text);
    const Built b(c.text);
    REQUIRE(!b.findings.list().empty());
    const auto& f = b.findings.list().front();
    INFO(format(f, c.text));
    CHECK(f.place.line == c.line);
    CHECK(f.place.column == c.column);
    CHECK(f.message == c.message);
    if (*c.hint) CHECK(f.hint == c.hint);
  }
}

TEST_CASE("variables are written as the table they would come from", "[table]") {
  const auto space = zunth::test::spaceOf(R"(namespace: http://fernhollow.example/plant
types:
  Mode: enum Off | Auto
objects:
  A:
    level: {is: Double m 0..4 = 1.5 writable, about: "Says, how high"}
    mode: Mode = Auto
    name: String property
)");
  const std::vector<std::uint16_t> own{2};
  const std::string text = writeTable(*space, own);
  CHECK(text ==
        "path,type,unit,range,access,initial,about,called\n"
        "A/level,Double,m,0..4,writable,1.5,\"Says, how high\",\n"
        "A/mode,Mode,,,read,1,,\n");
}

}  // namespace zunth::table_test
