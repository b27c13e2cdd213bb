// A running space becomes what another describes; what stays is left alone.
#include "core/model/apply.hpp"

#include "core/model/difference.hpp"

#include "tests/core/model_space.hpp"
#include <catch2/catch.hpp>

using namespace zunth;
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
