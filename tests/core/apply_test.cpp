// A running space becomes what another describes; what stays is left alone.
#include "core/model/apply.hpp"

#include "core/model/difference.hpp"
#include "core/model/twins.hpp"
#include "core/space/attributes.hpp"
#include "core/ua/structure_codec.hpp"

#include "tests/core/model_space.hpp"
#include <catch2/catch.hpp>

namespace zunth::apply_test {

using namespace zunth::ua;
using test::spaceOf;

namespace {

const std::string kBefore = R"(namespace: http://fernhollow.example/plant
types:
  Filter:
    pressure: Float kPa 0..50
    mode: Mode = Auto writable
    wash(seconds UInt16) -> started Boolean: Clean it
  Mode: enum Off | Auto
objects:
  F1: Filter
  Tank:
    about: On the north side
    level: Double m 0..2 = 1.5 writable
    spare: Double
)";

const std::string kAfter = R"(namespace: http://fernhollow.example/plant
types:
  Filter:
    pressure: Float kPa 0..60
    mode: Mode = Auto writable
    serial: String property
    wash(seconds UInt16) -> started Boolean: Clean it
  Mode: enum Off | Auto | Wash
  Pond:
    depth: Double m
objects:
  F1: Filter
  F2: Filter
  P1:
    is: Pond
    access: {Observer: read}
  Tank:
    about: On the south side
    level: Double m 0..2 = 1.25
    spare: String
)";

}  // namespace

TEST_CASE("a running space becomes what another describes", "[model][apply]") {
  const auto running = spaceOf(kBefore);
  const auto level = running->find(NodeId(2, String("Tank/level")));
  running->setValue(level, DataValue(Variant(0.75)));  // as the plant has it
  std::vector<NodeId> removed;
  running->setRemovalListener([&](space::NodeIndex node) { removed.push_back(running->nodeId(node)); });
  // The other space counts its namespaces differently.
  const auto wanted = spaceOf(kAfter, "http://fernhollow.example/first");
  const auto applied = model::apply(*running, *wanted);
  CHECK(applied.added > 10);
  CHECK(applied.changed >= 4);
  for (const auto& change : model::compare(*running, *wanted)) {
    INFO(change.path << " " << change.what << " '" << change.before << "' '" << change.after << "'");
    CHECK(change.what == "initial value");  // the plant's
  }
  CHECK(running->find(NodeId(2, String("Tank/level"))) == level);
  CHECK(running->value(level).value == Variant(0.75));
  CHECK_FALSE(running->traits(level).accessLevel & AccessLevelType::CurrentWrite);
  // A Double that becomes a String stays the same node.
  CHECK(removed.empty());
  CHECK(applied.removed == 0);
  CHECK(running->find(NodeId(2, String("F2/serial"))) != space::kNoNode);

  // And back: what was added goes, node by node.
  const auto back = model::apply(*running, *spaceOf(kBefore));
  CHECK(back.removed == applied.added);
  CHECK(removed.size() == back.removed);
  CHECK(running->value(level).value == Variant(0.75));
  const auto once = model::apply(*running, *spaceOf(kBefore));
  CHECK(once.changes.empty());
}

TEST_CASE("a node that becomes something else is another one under the same id", "[model][apply]") {
  const auto running = spaceOf(kBefore);
  std::vector<NodeId> removed;
  running->setRemovalListener([&](space::NodeIndex node) { removed.push_back(running->nodeId(node)); });
  std::string other = kBefore;
  other.replace(other.find("    spare: Double\n"), 18, "    spare: Filter\n");
  model::apply(*running, *spaceOf(other));
  CHECK(removed == std::vector<NodeId>{NodeId(2, String("Tank/spare"))});
  const auto spare = running->find(NodeId(2, String("Tank/spare")));
  REQUIRE(spare != space::kNoNode);
  CHECK(running->nodeClass(spare) == NodeClass::Object);
  CHECK(running->child(spare, {2, "pressure"}) != space::kNoNode);
  CHECK(running->parent(spare) == running->find(NodeId(2, String("Tank"))));
}

namespace {

/// Everything that names a namespace inside of values and definitions.
const std::string kNaming = R"(namespace: http://fernhollow.example/plant
types:
  Mode: enum Off | Auto
  Setting: "struct { mode Mode, limit Double }"
  Tank:
    level: Double m 0..2 = 1.5
    setting: Setting
    set(wish Setting, mode Mode) -> taken Boolean: Set it
    alarms:
      high: limit level high 1.8
objects:
  T1: Tank
)";

}  // namespace

TEST_CASE("ids inside values and definitions follow the namespaces", "[model][apply]") {
  const auto running = spaceOf(kNaming);
  const auto wanted = spaceOf(kNaming, "http://fernhollow.example/first");
  const auto once = model::apply(*running, *wanted);
  for (const auto& line : once.lines)
    UNSCOPED_INFO(line.path << " " << line.what << " " << line.before << " -> " << line.after);
  CHECK(once.lines.empty());
  CHECK(once.changes.empty());
  // And what is added from there is of here, too.
  const auto empty = spaceOf("namespace: http://fernhollow.example/plant\nobjects:\n  Spare: Double\n");
  model::apply(*empty, *wanted);
  const auto set = empty->find(NodeId(2, String("T1/set")));
  const auto type = empty->find(NodeId(2, String("types/Setting")));
  const auto mode = empty->find(NodeId(2, String("types/Mode")));
  REQUIRE((set != space::kNoNode && type != space::kNoNode && mode != space::kNoNode));
  const auto arguments = space::methodArguments(*empty, set, "InputArguments");
  REQUIRE(arguments.size() == 2);
  CHECK(arguments[0].dataType == empty->nodeId(type));
  CHECK(arguments[1].dataType == empty->nodeId(mode));
  const auto definition = empty->rare(type)->typeDefinition.as<StructureDefinition>();
  REQUIRE(definition);
  CHECK(definition->fields[0].dataType == empty->nodeId(mode));
  CHECK(empty->find(definition->defaultEncodingId) != space::kNoNode);
  const auto input = empty->child(empty->find(NodeId(2, String("T1/high"))), {0, "InputNode"});
  REQUIRE(input != space::kNoNode);
  CHECK(empty->value(input).value == Variant(NodeId(2, String("T1/level"))));
}

TEST_CASE("what a node says of itself changes in place", "[model][apply]") {
  struct Row {
    const char *from, *to, *what;
  };
  const std::string before = kBefore + R"(    weights: Double[3] writable
)";
  const auto row = GENERATE(values<Row>({
      {"    about: On the north side\n", "    about: On the south side\n", "description"},
      {"    spare: Double\n", "    spare:\n      is: Double\n      called: Ersatz\n", "display name"},
      {"    spare: Double\n", "    spare: Double history\n", "historizing"},
      {"[3]", "[5]", "array dimensions"},
      {"    spare: Double\n", "    spare: Double writable\n", "access level"},
      {"    spare: Double\n", "    spare: Double kPa 0..3\n", "variable"},
      {"  Tank:\n", "  Tank:\n    access: {Observer: read}\n", "access"},
  }));
  CAPTURE(row.what);
  std::string after = before;
  REQUIRE(after.find(row.from) != std::string::npos);
  after.replace(after.find(row.from), std::string(row.from).size(), row.to);
  const auto running = spaceOf(before), wanted = spaceOf(after);
  bool isTold = false;
  for (const auto& change : model::compare(*running, *wanted)) isTold |= change.what == row.what;
  CHECK(isTold);
  const auto spare = running->find(NodeId(2, String("Tank/spare")));
  running->setValue(spare, DataValue(Variant(560.0)));
  running->setRemovalListener([&](space::NodeIndex node) { FAIL(running->nodeId(node).text() << " was removed"); });
  const auto applied = model::apply(*running, *wanted);
  CHECK(std::ranges::count(applied.lines, std::string(row.what), &model::Change::what) > 0);
  CHECK(running->value(spare).value == Variant(560.0));
  model::CompareOptions options;
  options.initialValues = false;
  CHECK(model::compare(*running, *wanted, options).empty());
}

TEST_CASE("children have the model's order after an apply", "[model][apply]") {
  const std::string head = "namespace: http://fernhollow.example/plant\nobjects:\n";
  const auto running = spaceOf(head + "  A: Double\n  C: Double\n  D:\n    x: Double\n    z: Double\n");
  const auto wanted =
      spaceOf(head + "  C: Double\n  B: Double\n  A: Double\n  D:\n    z: Double\n    y: Double\n    x: Double\n");
  model::apply(*running, *wanted);
  const auto children = [&](space::NodeIndex node) {
    std::string out;
    for (const auto& reference : running->references(node))
      if (reference.isForward() && model::isOfModel(*running, reference.target()))
        out += running->name(reference.target());
    return out;
  };
  CHECK(children(running->at(id::ObjectsFolder)) == "CBAD");
  CHECK(children(running->find(NodeId(2, String("D")))) == "zyx");
}

TEST_CASE("a model that would empty its namespace is told", "[model][apply]") {
  const auto running = spaceOf(kBefore);
  CHECK(model::emptied(*running, *spaceOf(kAfter, "http://fernhollow.example/first")).empty());
  CHECK(model::emptied(*running, *test::freshSpace()) ==
        std::vector<String>{String("http://fernhollow.example/plant")});
}

}  // namespace zunth::apply_test
