#include "core/space/attribute_writing.hpp"
#include "core/space/attributes.hpp"
#include "core/space/browse.hpp"
#include "core/space/namespace0.hpp"
#include "core/space/path_walk.hpp"

#include <set>

#include <catch2/catch.hpp>

namespace zunth::space_test {

using namespace zunth::ua;
using namespace zunth::space;

namespace {

std::unique_ptr<Space> standardSpace() {
  auto space = std::make_unique<Space>("urn:fernhollow.example:test");
  loadNamespace0(*space);
  return space;
}

NodeIndex addVariable(Space& space, NodeIndex parent, const char* name, StandardId dataType, Variant value,
                      bool writable = true) {
  NewNode node;
  node.nodeId = NodeId(1, String(name));
  node.nodeClass = NodeClass::Variable;
  node.browseName = {1, name};
  node.traits.dataType = space.at(dataType);
  node.traits.valueRank = value.isNull() ? -1 : value.valueRank();
  node.traits.accessLevel = writable ? 3 : 1;
  node.value = std::move(value);
  const NodeIndex added = *space.add(std::move(node));
  space.refer(parent, id::HasComponent, added);
  space.refer(added, id::HasTypeDefinition, space.at(id::BaseDataVariableType));
  return added;
}

}  // namespace

TEST_CASE("namespace 0 is whole", "[space]") {
  const auto space = standardSpace();
  CHECK(space->size() > 2000);
  for (NodeIndex node = 0; node < space->rows(); ++node) {
    const auto nodeClass = space->nodeClass(node);
    INFO(space->nodeId(node).text() << " " << space->browseName(node).text());
    if (nodeClass == NodeClass::Object || nodeClass == NodeClass::Variable)
      CHECK(space->typeDefinition(node) != kNoNode);
    bool hasParent = false;
    std::set<std::string> children;
    for (const auto& reference : space->references(node)) {
      REQUIRE(space->exists(reference.target()));
      CHECK(space->nodeClass(reference.type()) == NodeClass::ReferenceType);
      const bool hierarchical = space->isSubtype(reference.type(), id::HierarchicalReferences);
      hasParent |= !reference.isForward();
      if (hierarchical && reference.isForward() && space->isSubtype(reference.type(), id::Aggregates))
        CHECK(children.insert(space->browseName(reference.target()).text()).second);
      // The other side knows of it, too.
      const auto back = space->references(reference.target());
      CHECK(std::ranges::find(back, Reference(reference.type(), !reference.isForward(), node)) != back.end());
    }
    const auto type = space->typeDefinition(node);
    const bool isRule = type != kNoNode && space->nodeId(type).is(id::ModellingRuleType);  // found by reference only
    CHECK((hasParent || isRule || space->nodeId(node).is(id::RootFolder)));
    if (nodeClass == NodeClass::Variable) CHECK(space->traits(node).dataType != kNoNode);
  }
}

TEST_CASE("data types know what they are on the wire", "[space]") {
  const auto space = standardSpace();
  const std::vector<std::pair<StandardId, BuiltInType>> cases{{id::Double, BuiltInType::Double},
                                                              {id::Duration, BuiltInType::Double},
                                                              {id::UtcTime, BuiltInType::DateTime},
                                                              {id::ServerState, BuiltInType::Int32},
                                                              {id::Range, BuiltInType::ExtensionObject},
                                                              {id::Number, BuiltInType::Variant},
                                                              {id::BaseDataType, BuiltInType::Variant},
                                                              {id::LocaleId, BuiltInType::String},
                                                              {id::Structure, BuiltInType::ExtensionObject}};
  for (const auto& [type, wire] : cases) CHECK(space->builtInType(space->at(type)) == wire);
  ValueTraits number;
  number.dataType = space->at(id::Number);
  CHECK(space->accepts(number, Variant(5)));
  CHECK(space->accepts(number, Variant(5.0)));
  CHECK(!space->accepts(number, Variant("5")));
  CHECK(!space->accepts(number, Variant::array({5})));
}

TEST_CASE("nodes come and go without leaving references behind", "[space]") {
  const auto space = standardSpace();
  const auto before = space->references(space->at(id::ObjectsFolder)).size();
  std::vector<NodeIndex> nodes;
  for (int i = 0; i < 300; ++i)
    nodes.push_back(
        addVariable(*space, space->at(id::ObjectsFolder), ("v" + std::to_string(i)).c_str(), id::Int32, Variant(i)));
  CHECK(space->references(space->at(id::ObjectsFolder)).size() == before + 300);
  for (std::size_t i = 0; i < nodes.size(); i += 2) space->remove(nodes[i]);
  CHECK(space->references(space->at(id::ObjectsFolder)).size() == before + 150);
  CHECK(space->find(NodeId(1, String("v0"))) == kNoNode);
  REQUIRE(space->find(NodeId(1, String("v1"))) == nodes[1]);
  CHECK(*space->value(nodes[1]).value.get<std::int32_t>() == 1);
  const NodeIndex again = addVariable(*space, space->at(id::ObjectsFolder), "v0", id::Int32, Variant(7));
  CHECK(space->find(NodeId(1, String("v0"))) == again);
  CHECK(space->path(again) == "v0");
  NewNode twice;
  twice.nodeId = NodeId(1, String("v0"));
  twice.browseName = {1, "v0"};
  CHECK(space->add(twice).code() == status::BadNodeIdExists);
}

TEST_CASE("browse filters by direction, type and class and stops where it is told", "[space][cu:View Basic 2]") {
  const auto space = standardSpace();
  auto count = [&](BrowseDescription what) { return browse(*space, what, 0).references.size(); };
  const NodeId server = id::Server;
  const auto all = count({server, BrowseDirection::Both, NodeId(), true, 0, 63});
  CHECK(count({server, BrowseDirection::Forward, NodeId(), true, 0, 63}) +
            count({server, BrowseDirection::Inverse, NodeId(), true, 0, 63}) ==
        all);
  CHECK(count({server, BrowseDirection::Inverse, id::HierarchicalReferences, true, 0, 63}) == 1);
  CHECK(count({server, BrowseDirection::Forward, id::HierarchicalReferences, false, 0, 63}) == 0);
  CHECK(count({server, BrowseDirection::Forward, id::HasTypeDefinition, false, 0, 63}) == 1);
  CHECK(count({server, BrowseDirection::Forward, id::HasComponent, true, static_cast<std::uint32_t>(NodeClass::Method),
               63}) >= 2);
  const auto bare = browse(*space, {server, BrowseDirection::Forward, id::HasTypeDefinition, true, 0, 0}, 0);
  CHECK(bare.references[0].nodeId.nodeId.is(id::ServerType));
  CHECK(bare.references[0].browseName.isNull());
  CHECK(bare.references[0].nodeClass == NodeClass::Unspecified);

  std::size_t seen = 0;
  for (std::optional<std::uint32_t> from = 0; from;) {
    auto page = browse(*space, {server, BrowseDirection::Both, NodeId(), true, 0, 63}, 3, *from);
    CHECK(page.references.size() <= 3);
    seen += page.references.size();
    from = page.next;
  }
  CHECK(seen == all);

  CHECK(browse(*space, {NodeId(1, 1u), BrowseDirection::Forward, NodeId(), true, 0, 63}, 0).status ==
        status::BadNodeIdUnknown);
  CHECK(browse(*space, {server, BrowseDirection::Forward, id::Server, true, 0, 63}, 0).status ==
        status::BadReferenceTypeIdInvalid);
  CHECK(browse(*space, {server, static_cast<BrowseDirection>(9), NodeId(), true, 0, 63}, 0).status ==
        status::BadBrowseDirectionInvalid);
}

TEST_CASE("browse paths lead to nodes or say why not", "[space][cu:View TranslateBrowsePath]") {
  const auto space = standardSpace();
  auto walk = [&](std::vector<RelativePathElement> elements, NodeId from = id::ObjectsFolder) {
    BrowsePath path{std::move(from), {}};
    path.relativePath.elements = List<RelativePathElement>(std::move(elements));
    return translate(*space, path);
  };
  const auto found = walk({{id::Organizes, false, true, {0, "Server"}},
                           {NodeId(), false, true, {0, "ServerStatus"}},
                           {id::HasComponent, false, true, {0, "State"}}});
  REQUIRE(found.targets.size() == 1);
  CHECK(found.targets[0].targetId.nodeId.is(id::Server_ServerStatus_State));
  CHECK(found.targets[0].remainingPathIndex == UINT32_MAX);
  CHECK(walk({}).statusCode == status::BadNothingToDo);
  CHECK(walk({{NodeId(), false, true, {0, "Nowhere"}}}).statusCode == status::BadNoMatch);
  CHECK(walk({{NodeId(), false, true, {}}, {NodeId(), false, true, {0, "x"}}}).statusCode ==
        status::BadBrowseNameInvalid);
  CHECK(walk({{NodeId(), false, true, {0, "x"}}}, NodeId(1, 1u)).statusCode == status::BadNodeIdUnknown);
  CHECK(walk({{NodeId(), false, true, {0, "x"}}}, NodeId()).statusCode == status::BadNodeIdInvalid);
  CHECK(walk({{id::Organizes, true, true, {0, "Root"}}}).targets.size() == 1);

  // In slices that are over at once, as many as it takes, while nodes go.
  for (int i = 0; i < 40; ++i)
    addVariable(*space, space->at(id::ObjectsFolder), ("spare" + std::to_string(i)).c_str(), id::Int32, Variant(i));
  const NodeIndex doomed = addVariable(*space, space->at(id::ObjectsFolder), "doomed", id::Int32, Variant(1));
  BrowsePath path{id::ObjectsFolder, {}};
  path.relativePath.elements =
      List<RelativePathElement>(std::vector<RelativePathElement>{{id::HierarchicalReferences, false, true, {}}});
  PathWalk walking(*space, path, Rights::all());
  const Instant begun{};
  int slices = 1;
  for (;; ++slices) {
    Slice over([&] { return begun; }, Duration(-1));
    if (walking.go(Rights::all(), over)) break;
    if (slices == 1) space->remove(doomed);
    REQUIRE(slices < 1000);
  }
  CHECK(slices > 1);
  const auto sliced = walking.take();
  CHECK(sliced.statusCode.isGood());
  const auto whole = translate(*space, path);
  REQUIRE(sliced.targets.size() == whole.targets.size());
  for (std::size_t i = 0; i < whole.targets.size(); ++i) CHECK(sliced.targets[i] == whole.targets[i]);
}

TEST_CASE("each class of node has its attributes and no others",
          "[space][cu:Address Space Base][cu:Address Space Method]") {
  const auto space = standardSpace();
  using A = AttributeId;
  auto statusOf = [&](StandardId node, A attribute) {
    return readAttribute(*space, space->at(node), attribute).status;
  };
  const auto good = StatusCode(status::Good), none = StatusCode(status::BadAttributeIdInvalid);
  const std::vector<std::tuple<StandardId, A, StatusCode>> cases{{id::Server, A::EventNotifier, good},
                                                                 {id::Server, A::Value, none},
                                                                 {id::Server_ServiceLevel, A::Value, good},
                                                                 {id::Server_ServiceLevel, A::IsAbstract, none},
                                                                 {id::BaseObjectType, A::IsAbstract, good},
                                                                 {id::HasComponent, A::InverseName, good},
                                                                 {id::HasComponent, A::Symmetric, good},
                                                                 {id::Double, A::InverseName, none},
                                                                 {id::Server_GetMonitoredItems, A::Executable, good},
                                                                 {id::Server_GetMonitoredItems, A::Value, none},
                                                                 {id::ServerState, A::DataTypeDefinition, good},
                                                                 {id::Double, A::DataTypeDefinition, none},
                                                                 {id::Argument, A::DataTypeDefinition, good},
                                                                 {id::Server, A::RolePermissions, good},
                                                                 {id::Double, A::AccessRestrictions, good}};
  for (const auto& [node, attribute, expected] : cases) {
    INFO(node.value << " attribute " << static_cast<int>(attribute));
    CHECK(statusOf(node, attribute) == expected);
  }
  CHECK(readAttribute(*space, space->at(id::Server), static_cast<A>(99)).status == status::BadAttributeIdInvalid);
}

TEST_CASE("writes are checked for access, type and range", "[space][cu:Data Access Analog][cu:Attribute Write Index]") {
  const auto space = standardSpace();
  const NodeIndex objects = space->at(id::ObjectsFolder);
  const NodeIndex speed = addVariable(*space, objects, "speed", id::Float, Variant(20.0f));
  NewNode range;
  range.nodeId = NodeId(1, String("speed/EURange"));
  range.nodeClass = NodeClass::Variable;
  range.browseName = {0, "EURange"};
  range.value = ExtensionObject::of(Range{0, 50});
  space->refer(speed, id::HasProperty, *space->add(range));
  const NodeIndex list = addVariable(*space, objects, "list", id::Int32, Variant::array({1, 2, 3}));
  const NodeIndex mode = addVariable(*space, objects, "mode", id::ServerState, Variant(std::int32_t{0}));
  const NodeIndex fixed = addVariable(*space, objects, "fixed", id::Int32, Variant(1), false);
  auto write = [&](NodeIndex node, Variant value, const char* indexRange = nullptr, std::uint32_t attribute = 13) {
    WriteValue w;
    w.attributeId = attribute;
    if (indexRange) w.indexRange = indexRange;
    w.value = DataValue(std::move(value));
    return attribute == 13 ? checkWrite(*space, node, w).code() : writeAttribute(*space, node, w).code();
  };
  CHECK(write(speed, Variant(35.0f)).isGood());
  CHECK(write(speed, Variant(35.0)) == status::BadTypeMismatch);
  CHECK(write(speed, Variant()) == status::BadTypeMismatch);
  CHECK(write(speed, Variant(50.5f)) == status::BadOutOfRange);
  CHECK(write(speed, Variant(std::numeric_limits<float>::quiet_NaN())) == status::BadOutOfRange);
  CHECK(write(fixed, Variant(2)) == status::BadNotWritable);
  CHECK(write(mode, Variant(std::int32_t{7})).isGood());
  CHECK(write(mode, Variant(std::int32_t{8})) == status::BadOutOfRange);
  CHECK(write(list, Variant::array({9, 9}), "1:2").isGood());
  CHECK(write(list, Variant::array({9}), "7") == status::BadIndexRangeNoData);
  CHECK(write(list, Variant::array({9}), "x") == status::BadIndexRangeInvalid);
  CHECK(write(list, Variant(9)) == status::BadTypeMismatch);
  CHECK(write(speed, Variant("x"), nullptr, 4) == status::BadNotWritable);
  CHECK(write(speed, Variant("x"), nullptr, 8) == status::BadAttributeIdInvalid);
  CHECK(write(objects, Variant(1)) == status::BadAttributeIdInvalid);
  space->traits(list).accessLevel |= AccessLevelExType::WriteFullArrayOnly;
  CHECK(write(list, Variant::array({9}), "1") == status::BadWriteNotSupported);
  WriteValue timed;
  timed.attributeId = 13;
  timed.value = DataValue(Variant(1.0f), DateTime{5});
  CHECK(checkWrite(*space, speed, timed).code() == status::BadWriteNotSupported);
}

TEST_CASE("each tap gets what it watches, a batch as one", "[space]") {
  Space space("urn:fernhollow.example:test");
  std::vector<NodeIndex> variables;
  for (std::uint32_t i = 0; i < 4; ++i) {
    NewNode node;
    node.nodeId = NodeId(1, i);
    node.nodeClass = NodeClass::Variable;
    node.browseName = {1, "v"};
    variables.push_back(*space.add(std::move(node)));
  }
  using Batches = std::vector<std::vector<NodeIndex>>;
  Batches first, second;
  const auto into = [](Batches& batches) {
    return [&batches](std::span<const Change> changes) {
      auto& batch = batches.emplace_back();
      for (const auto& change : changes) batch.push_back(change.variable);
    };
  };
  const auto one = space.tap(into(first)), two = space.tap(into(second));
  for (const auto variable : {variables[0], variables[1]}) space.watch(variable, one, true);
  for (const auto variable : {variables[1], variables[2]}) space.watch(variable, two, true);
  const auto setAll = [&] {
    std::vector<Change> batch;
    for (const auto variable : variables) batch.push_back({variable, DataValue(Variant(1.0))});
    space.setValues(std::move(batch));
  };
  setAll();
  CHECK(first == Batches{{variables[0], variables[1]}});
  CHECK(second == Batches{{variables[1], variables[2]}});
  CHECK(space.value(variables[3]).value == Variant(1.0));

  space.setValue(variables[0], DataValue(Variant(2.0)));
  CHECK(first.back() == std::vector{variables[0]});
  CHECK(second.size() == 1);

  space.watch(variables[1], one, false);
  space.untap(two);
  setAll();
  CHECK(first.back() == std::vector{variables[0]});
  CHECK(second.size() == 1);
  CHECK(space.tap(into(second)) == two);  // its place is free again
}

}  // namespace zunth::space_test
