#include "core/model/words.hpp"

#include <catch2/catch.hpp>

namespace zunth::words_test {

using namespace zunth::model;

namespace {

Text text(const std::string& words) { return {words, {"m.yaml", 3, 10, words.size()}}; }

}  // namespace

TEST_CASE("a variable's words are told apart", "[model][words]") {
  struct Case {
    const char* words;
    const char *type, *dimensions, *unit, *initial;
    bool hasRange, writable, property;
  };
  const char* no = nullptr;
  for (const auto& c : std::vector<Case>{
           {"Double", "Double", no, no, no, false, false, false},
           {"Double[]", "Double", "", no, no, false, false, false},
           {"Int32[2,3] writable", "Int32", "2,3", no, no, false, true, false},
           {"Double kPa 0..50", "Double", no, "kPa", no, true, false, false},
           {"Double -5..40 = 12 writable", "Double", no, no, "12", true, true, false},
           {"String = Brook trout property", "String", no, no, "Brook trout", false, false, true},
           {"String = writable", "String", no, no, "writable", false, false, false},
           {"= 25", no, no, no, "25", false, false, false},
           {"= 25 writable", no, no, no, "25", false, true, false},
           {"writable", no, no, no, no, false, true, false},
           {"String = a = b", "String", no, no, "a = b", false, false, false},
       }) {
    INFO(c.words);
    Findings findings;
    const Spec spec = parseSpec(text(c.words), findings);
    CHECK(findings.list().empty());
    CHECK(spec.type.has_value() == (c.type != no));
    if (spec.type && c.type) CHECK(spec.type->text == c.type);
    CHECK(spec.dimensions == (c.dimensions ? std::optional<std::string>(c.dimensions) : std::nullopt));
    CHECK(spec.unit.has_value() == (c.unit != no));
    if (spec.unit && c.unit) CHECK(spec.unit->text == c.unit);
    CHECK(spec.initial.has_value() == (c.initial != no));
    if (spec.initial && c.initial) CHECK(spec.initial->text == c.initial);
    CHECK(spec.range.has_value() == c.hasRange);
    CHECK(spec.isWritable == c.writable);
    CHECK(spec.isProperty == c.property);
  }
}

TEST_CASE("words keep their places", "[model][words]") {
  Findings findings;
  const Spec spec = parseSpec(text("Double  kPa 0..50 = 12"), findings);
  CHECK(spec.type->place.column == 10);
  CHECK(spec.unit->place.column == 18);
  CHECK(spec.range->place.column == 22);
  CHECK(spec.initial->place.column == 30);
  CHECK(spec.initial->place.length == 2);
}

TEST_CASE("a method's key names it and its arguments", "[model][words]") {
  Findings findings;
  CHECK(!parseSignature(text("pressure"), findings));
  const auto bare = parseSignature(text("stop()"), findings);
  REQUIRE(bare);
  CHECK(bare->name.text == "stop");
  CHECK(bare->inputs.empty());
  const auto full =
      parseSignature(text("wash(seconds UInt16, plan Double[2,3]) -> started Boolean, why String"), findings);
  REQUIRE(full);
  REQUIRE(full->inputs.size() == 2);
  CHECK(full->inputs[1].name.text == "plan");
  CHECK(full->inputs[1].dimensions == "2,3");
  REQUIRE(full->outputs.size() == 2);
  CHECK(full->outputs[1].type.text == "String");
  CHECK(findings.list().empty());
  for (const char* wrong : {"go(", "go(a)", "go(a b c)", "go(a Double) then b", "go() -> x"}) {
    INFO(wrong);
    Findings found;
    parseSignature(text(wrong), found);
    CHECK(found.list().size() == 1);
  }
}

TEST_CASE("YAML becomes entries with places", "[model][yaml]") {
  Findings findings;
  const Entry root = readYaml("m.yaml", "a: one\n\"b c\":\n  d: 'two words'\n  e:\n    - x\n    - y z\n", findings);
  CHECK(findings.list().empty());
  CHECK(root.textOf("a")->text == "one");
  const Entry* bc = root.find("b c");
  REQUIRE(bc);
  CHECK(bc->key.place.line == 2);
  CHECK(bc->key.place.column == 2);
  CHECK(bc->textOf("d")->place.column == 7);
  REQUIRE(bc->find("e")->items.size() == 2);
  CHECK(bc->find("e")->items[1].text == "y z");
  CHECK(bc->find("e")->items[1].place.line == 6);
  for (const auto& [yaml, line] : std::vector<std::pair<const char*, std::size_t>>{{"a: [", 2},
                                                                                   {"a: 1\na: 2\n", 2},
                                                                                   {"- a\n", 1},
                                                                                   {"a:\n  - b: c\n", 2},
                                                                                   {"? [x]\n: y\n", 1},
                                                                                   {"a: b: c\n", 1}}) {
    INFO(yaml);
    Findings found;
    readYaml("m.yaml", yaml, found);
    REQUIRE(!found.list().empty());
    CHECK(found.list()[0].place.line >= line - 1);
  }
}

}  // namespace zunth::words_test
