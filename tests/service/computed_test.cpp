// Variables that follow from others.
#include "service/device/computed.hpp"

#include "core/space/namespace0.hpp"

#include <catch2/catch.hpp>

namespace zunth::computed_test {

using namespace zunth::ua;
using namespace zunth::device;
using space::NodeIndex;

namespace {

struct World {
  World() : space("urn:fernhollow.example:test") {
    space::loadNamespace0(space);
    for (const char* name : {"a", "b", "c", "d", "e"}) add(name, id::Double, Variant(1.0));
    add("count", id::Int32, Variant(std::int32_t{0}));
    add("text", id::String, Variant("x"));
  }
  NodeIndex add(const char* name, StandardId type, Variant value) {
    space::NewNode node;
    node.nodeId = NodeId(1, String(name));
    node.nodeClass = NodeClass::Variable;
    node.browseName = {1, name};
    node.traits.dataType = space.at(type);
    node.value = std::move(value);
    const auto added = *space.add(std::move(node));
    space.refer(space.at(id::ObjectsFolder), id::HasComponent, added);
    return added;
  }
  void measure(const char* name, const char* unit) {
    space::NewNode node;
    node.nodeId = NodeId(1, String(std::string(name) + " unit"));
    node.nodeClass = NodeClass::Variable;
    node.browseName = {0, "EngineeringUnits"};
    node.traits.dataType = space.at(id::EUInformation);
    EUInformation info;
    info.displayName = LocalizedText(String(unit));
    node.value = Variant(ExtensionObject::of(info));
    space.refer(at(name), id::HasProperty, *space.add(std::move(node)));
  }
  NodeIndex at(const char* name) const { return space.find(NodeId(1, String(name))); }
  void set(const char* name, double value, StatusCode code = status::Good, std::int64_t time = 5) {
    space.setValue(at(name), DataValue(Variant(value), DateTime{time}, code));
  }
  DataValue value(const char* name) const { return space.value(at(name)); }
  /// "c: [a] + [b]"; the first mistake, or nothing.
  std::string bind(const std::vector<std::pair<const char*, const char*>>& rows) {
    std::vector<ComputedBinding> bindings;
    model::Findings findings;
    for (const auto& [name, text] : rows) {
      auto made = parseComputed({text, {"b.yaml", 1, 1, 1}}, at(name), space, findings);
      if (made) bindings.push_back(std::move(*made));
    }
    orderComputed(bindings, space, findings);
    if (!findings.list().empty()) return findings.list()[0].message;
    computed->rebind(bindings);
    return {};
  }
  space::Space space;
  space::Owners owners;
  std::shared_ptr<Computed> computed = std::make_shared<Computed>(space, owners);
};

}  // namespace

TEST_CASE("a computed value follows its sources, in any order and once for a batch", "[device][computed]") {
  World w;
  CHECK(w.bind({{"e", "[d] * 2"}, {"d", "[c] + [./a]"}, {"c", "[a] + [b]"}}) == "");
  CHECK(w.value("e").value == Variant(6.0));
  int batches = 0, changes = 0;
  const auto tap = w.space.tap([&](std::span<const space::Change> batch) {
    ++batches;
    changes += static_cast<int>(batch.size());
  });
  for (const char* name : {"c", "d", "e"}) w.space.watch(w.at(name), tap, true);
  w.space.setValues(
      {{w.at("a"), DataValue(Variant(10.0), DateTime{7})}, {w.at("b"), DataValue(Variant(20.0), DateTime{9})}});
  CHECK(w.value("c").value == Variant(30.0));
  CHECK(w.value("e").value == Variant(80.0));
  CHECK(w.value("e").sourceTimestamp == DateTime{9});
  CHECK(batches == 1);
  CHECK(changes == 3);
  w.bind({});
  w.set("a", 0);
  CHECK(w.value("c").value == Variant(30.0));
  CHECK_FALSE(w.owners.of(w.at("c")));
}

TEST_CASE("the worst of its sources is the quality of a computed value", "[device][computed]") {
  World w;
  REQUIRE(w.bind({{"c", "[a] / [b]"}, {"count", "[a] * 1000"}}) == "");
  struct Row {
    double a;
    StatusCode codeA;
    double b;
    StatusCode codeB, expected;
  };
  for (const Row& row :
       {Row{4, status::Good, 2, status::Good, status::Good},
        Row{4, status::UncertainInitialValue, 2, status::Good, status::UncertainInitialValue},
        Row{4, status::UncertainInitialValue, 2, status::BadNoCommunication, status::BadNoCommunication},
        Row{4, status::Good, 0, status::Good, status::BadOutOfRange}}) {
    w.set("a", row.a, row.codeA);
    w.set("b", row.b, row.codeB);
    CHECK(w.value("c").status == row.expected);
    CHECK(w.value("c").value.isNull() == row.expected.isBad());
  }
  CHECK(w.value("count").value == Variant(std::int32_t{4'000}));
  w.set("a", 1e9);
  CHECK(w.value("count").status == status::BadOutOfRange);
  std::optional<StatusCode> written;
  w.owners.of(w.at("c"))->write({{w.at("c"), Variant(1.0)}}, {},
                                [&](std::size_t, Error error) { written = error.code; });
  CHECK(written == status::BadNotWritable);
}

TEST_CASE("what is put together is measured alike", "[device][computed]") {
  struct Row {
    const char *expression, *mistake;
  };
  for (const Row& row : {
           Row{"[a] + [b]", "c is in kPa, what it is made of in bar"},
           Row{"avg([a], [b]) - abs([a])", "c is in kPa, what it is made of in bar"},
           Row{"max([a], [d])", "what is in bar is put together with what is in degC"},
           Row{"[a] + [count]", "c is in kPa, what it is made of in bar"},
           Row{"[count]", ""},
           Row{"([a] + [b]) * 100", ""},
           Row{"[a] > 2 ? [a] : [d]", ""},
           Row{"exp([a])", ""},
       }) {
    INFO(row.expression);
    World w;
    w.measure("a", "bar");
    w.measure("b", "bar");
    w.measure("c", "kPa");
    w.measure("d", "degC");
    CHECK(w.bind({{"c", row.expression}}) == row.mistake);
  }
}

TEST_CASE("expressions that lead nowhere or to themselves are named", "[device][computed]") {
  struct Row {
    std::vector<std::pair<const char*, const char*>> bindings;
    const char* mistake;
  };
  for (const Row& row : std::vector<Row>{{{{"c", "[x] + 1"}}, "there is no variable x"},
                                         {{{"c", "[Server]"}}, "there is no variable Server"},
                                         {{{"c", "[text]"}}, "text is no number"},
                                         {{{"text", "[a]"}}, "text is no number"},
                                         {{{"c", "[a"}}, "a bracket doesn't close"},
                                         {{{"c", "1 + 2"}}, "an expression is made of variables"},
                                         {{{"c", "[c] + 1"}}, "is made of itself"},
                                         {{{"c", "[d]"}, {"d", "[e]"}, {"e", "[c]"}}, "is made of itself"}}) {
    World w;
    CHECK(w.bind(row.bindings).ends_with(row.mistake));
  }
  World w;
  CHECK(w.bind({{"c", "[a] +* 2"}}).find("the expression is not sound") == 0);
  CHECK(w.bind({{"c", "system([a])"}}).find("the expression is not sound") == 0);
  CHECK(w.bind({{"c", "[a] > 0.5 ? max([a], [b], 3) : 0"}}) == "");
  CHECK(w.value("c").value == Variant(3.0));
}

}  // namespace zunth::computed_test
