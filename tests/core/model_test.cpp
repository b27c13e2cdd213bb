#include "core/model/build.hpp"
#include "core/model/units.hpp"
#include "core/model/words.hpp"
#include "core/space/attributes.hpp"
#include "core/space/namespace0.hpp"

#include <catch2/catch.hpp>

namespace zunth::model_test {

using namespace zunth::ua;
using namespace zunth::model;
using namespace zunth::space;

namespace {

struct Built {
  explicit Built(const std::string& text) : space("urn:fernhollow.example:test") {
    loadNamespace0(space);
    build(space, {{"plant.yaml", "namespace: http://fernhollow.example/plant\n" + text}}, findings);
  }
  NodeIndex at(const std::string& path) const { return space.find(NodeId(2, String(path))); }
  Variant value(const std::string& path) const { return space.value(at(path)).value; }
  Space space;
  Findings findings;
};

}  // namespace

TEST_CASE("a sketch becomes a plant",
          "[model][cu:Data Access DataItems][cu:Data Access Analog][cu:Base Info Engineering Units][cu:Address Space "
          "Instances]") {
  const Built b(R"(
types:
  Pump:
    about: Moves water
    flow:    Double L/min 0..600
    speed:   Float Hz 0..50 = 20 writable
    serial?: String property
    levels:  Int32[3]
    start(seconds UInt16, why String) -> started Boolean: Starts it
  BigPump:
    extends: Pump
    oil: Double °C
  Mode: enum Off | On
objects:
  Plant:
    P1: Pump
    P2:
      is: BigPump
      speed: = 35
      serial: = "FH-1"
      extra: Boolean = true
    "Tank {A,B}{1..2}":
      mode: Mode = On writable
)");
  for (const auto& f : b.findings.list()) FAIL(f.message);
  const auto& s = b.space;
  CHECK(s.path(b.at("Plant/P1/flow")) == "Plant/P1/flow");
  CHECK(s.typeDefinition(b.at("Plant/P1")) == b.at("types/Pump"));
  CHECK(s.isSubtype(b.at("types/BigPump"), b.at("types/Pump")));
  CHECK(b.at("Plant/P1/serial") == kNoNode);
  CHECK(b.value("Plant/P2/serial") == Variant("FH-1"));
  CHECK(b.value("Plant/P1/speed") == Variant(20.0f));
  CHECK(b.value("Plant/P2/speed") == Variant(35.0f));
  CHECK(b.at("Plant/P2/oil") != kNoNode);
  CHECK(b.value("Plant/P2/extra") == Variant(true));
  CHECK(rangeProperty(s, b.at("Plant/P1/flow"), "EURange") == Range{0, 600});
  CHECK(s.nodeId(s.typeDefinition(b.at("Plant/P1/flow"))).is(id::AnalogItemType));
  CHECK(s.nodeId(s.typeDefinition(b.at("Plant/P2/oil"))).is(id::AnalogUnitType));
  CHECK(s.traits(b.at("Plant/P1/speed")).accessLevel == 3);
  CHECK(s.traits(b.at("Plant/P1/flow")).accessLevel == 1);
  CHECK(s.traits(b.at("Plant/P1/levels")).valueRank == 1);
  const auto inputs = methodArguments(s, b.at("Plant/P1/start"), "InputArguments");
  REQUIRE(inputs.size() == 2);
  CHECK(inputs[1].name.view() == "why");
  CHECK(inputs[0].dataType == NodeId(id::UInt16));
  CHECK(methodArguments(s, b.at("Plant/P1/start"), "OutputArguments")[0].name.view() == "started");
}

TEST_CASE("names stand for several nodes", "[model]") {
  Findings findings;
  auto expand = [&](const char* text) { return expandName(Text{text, {}}, findings); };
  CHECK(expand("Tank A{1..3}") == std::vector<std::string>{"Tank A1", "Tank A2", "Tank A3"});
  CHECK(expand("P{08..10}") == std::vector<std::string>{"P08", "P09", "P10"});
  CHECK(expand("P{A, B}x") == std::vector<std::string>{"PAx", "PBx"});
  CHECK(expand("P") == std::vector<std::string>{"P"});
  CHECK(findings.list().empty());
  expand("P{3..1}");
  expand("P{1..2");
  CHECK(findings.list().size() == 2);
}

TEST_CASE("every mistake is found with its place and what was meant", "[model]") {
  struct Case {
    const char* text;
    std::size_t line, column;
    const char* message;
    const char* hint;
  };
  // The namespace is line 1.
  const std::vector<Case> cases{
      {"objects:\n  A:\n    x: Duoble\n", 4, 8, "there is no type 'Duoble'", "did you mean 'Double'?"},
      {"types:\n  T:\n    x: Double kPs\n", 4, 15, "there is no unit 'kPs'", "did you mean 'kPa'?"},
      {"objects:\n  A:\n    x: Double kPa 5..1\n", 4, 19, "the range 5..1 is empty", "write the smaller number first"},
      {"objects:\n  A:\n    x: Int32 = many\n", 4, 16, "'many' can't be the value of A/x: 'many' is no Int32", ""},
      {"objects:\n  A:\n    x: Double kPa 0..1 writabel\n", 4, 24, "'writabel' means nothing here",
       "did you mean 'writable'?"},
      {"objects:\n  A:\n    x: Boolean kPa\n", 4, 16, "'kPa' is no word for a Boolean",
       "units and ranges go with numbers"},
      {"types:\n  T:\n    extends: Nothing\n", 4, 14, "there is no type 'Nothing'", ""},
      {"types:\n  T: {is: enum A, extends: Pump}\n  Pump: {x: Double}\n", 3, 28, "'Pump' is no data type", ""},
      {"types:\n  T:\n    a: T\n", 3, 3, "the type 'T' is made of itself", ""},
      {"objects:\n  A: FolderType = 5\n", 3, 6, "'FolderType' is an object type: it has no value", ""},
      {"objects:\n  A:\n    x: Double\n    x: Float\n", 5, 5, "'x' stands here twice", "the first is in line 4"},
      {"objects:\n  A:\n    go(seconds): Go\n", 4, 8, "an argument is a name and a data type", ""},
      {"objects:\n  A:\n    go(a Folder): Go\n", 4, 10, "there is no type 'Folder'", ""},
      {"objcts:\n  A: FolderType\n", 2, 1, "'objcts' means nothing here", "did you mean 'objects'?"},
      {"objects:\n  A:\n    x: = 5\n", 4, 8, "'x' has no type", ""},
      {"objects:\n  A:\n    'x{1..': Double\n", 4, 6, "the brace of this name is not closed", ""},
      {"objects: [\n", 3, 1, "this is not sound YAML", ""},
      {"objects:\n  A\xFC: FolderType\n", 3, 4, "the octet 0xFC is no UTF-8", "save the file as UTF-8"},
      {"objects:\n  A\xED\xA0\x80: FolderType\n", 3, 4, "the octet 0xED is no UTF-8", ""},
  };
  for (const auto& c : cases) {
    INFO(c.text);
    const Built b(c.text);
    REQUIRE(!b.findings.list().empty());
    const auto& f = b.findings.list().front();
    INFO(format(f, ""));
    CHECK(f.place.line == c.line);
    CHECK(f.place.column == c.column);
    CHECK(f.message.starts_with(c.message));
    if (*c.hint) CHECK(f.hint == c.hint);
  }
}

TEST_CASE("mistakes come all at once, in order", "[model]") {
  const Built b("objects:\n  A:\n    x: Duoble\n    y: Double kPs\n    z: Flaot\n");
  REQUIRE(b.findings.list().size() == 3);
  CHECK(b.findings.list()[2].place.line == 6);
  const auto text = format(b.findings.list()[0], "one\ntwo\nobjects\n    x: Duoble\n");
  CHECK(text ==
        "plant.yaml:4:8: error: there is no type 'Duoble'\n    4 |     x: Duoble\n      |        ^^^^^^\n        did "
        "you mean 'Double'?");
}

TEST_CASE("the same files give the same nodes", "[model]") {
  const std::string text = "objects:\n  A:\n    x: Double\n    'T{1..4}': FolderType\n";
  const Built one(text), two(text);
  REQUIRE(one.space.rows() == two.space.rows());
  for (NodeIndex n = 0; n < one.space.rows(); ++n) CHECK(one.space.nodeId(n) == two.space.nodeId(n));
}

TEST_CASE("units are found as people write them", "[model]") {
  const Units& units = Units::standard();
  CHECK(units.find("kPa")->unitId == 4935745);
  CHECK(units.find("l/min")->unitId == 19506);
  CHECK(units.find("°C")->unitId == 4408652);
  CHECK(units.find("mg/L")->displayName.text.view() == "mg/L");
  CHECK(!units.find("furlong/h"));
}

TEST_CASE("a site adds units of its own", "[model]") {
  const Units units({{"lpm", "litres per minute", "L2"}, {"fish", "fish", ""}});
  CHECK(units.find("lpm")->unitId == Units::standard().find("L/min")->unitId);
  CHECK(units.find("lpm")->displayName.text.view() == "lpm");
  CHECK(units.find("fish")->unitId == -1);
  CHECK(units.find("fish")->namespaceUri.isNull());
  CHECK(units.nearest("fishh") == "fish");
  CHECK(units.find("kPa")->unitId == 4935745);
}

}  // namespace zunth::model_test
