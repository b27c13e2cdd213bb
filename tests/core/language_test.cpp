#include "core/model/initial_value.hpp"
#include "core/space/attributes.hpp"
#include "core/space/browse.hpp"
#include "core/space/type_catalog.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"

#include <fstream>

#include "tests/core/model_space.hpp"

namespace zunth::language_test {

/// What the model language can say, as nodes (docs/model-language.md).

using namespace zunth::ua;
using namespace zunth::model;
using namespace zunth::space;
using zunth::test::freshSpace;

namespace {

struct Built {
  explicit Built(const std::string& text)
      : space(zunth::test::spaceOf("namespace: http://fernhollow.example/p\n" + text)) {}
  NodeIndex at(const std::string& path) const {
    const NodeIndex found = space->find(NodeId(2, String(path)));
    INFO(path);
    REQUIRE(found != kNoNode);
    return found;
  }
  bool has(const std::string& path) const { return space->find(NodeId(2, String(path))) != kNoNode; }
  Variant value(const std::string& path) const { return space->value(at(path)).value; }
  bool refers(NodeIndex from, NodeIndex type, NodeIndex to) const {
    const Reference wanted(type, true, to);
    return std::ranges::count(space->references(from), wanted) == 1;
  }
  bool refers(const std::string& from, StandardId type, const std::string& to) const {
    return refers(at(from), space->at(type), at(to));
  }
  std::uint32_t rule(const std::string& path) const {
    for (const auto& reference : space->references(at(path)))
      if (reference.isForward() && reference.type() == space->at(id::HasModellingRule))
        return space->nodeId(reference.target()).numeric();
    return 0;
  }
  template <class Definition>
  Definition definition(const std::string& path) const {
    const auto* rare = space->rare(at(path));
    REQUIRE(rare);
    auto out = rare->typeDefinition.as<Definition>();
    REQUIRE(out);
    return *out;
  }
  std::unique_ptr<Space> space;
};

std::string fieldsOf(const StructureDefinition& definition) {
  std::string out;
  for (const auto& field : definition.fields)
    out += std::string(field.name.view()) + (field.isOptional ? "?" : "") + ":" + field.dataType.text() +
           (field.valueRank > 0 ? "[]" : "") + " ";
  return out;
}

}  // namespace

TEST_CASE("data types are declared in a line or in several", "[model][cu:Address Space Base]") {
  const Built b(R"(
types:
  Mode:    enum Off | Auto = 5 | Wash
  Faults:  options Clogged | Hot | Open = 12
  Feed:    "struct { grams UInt32, pellets? String, times Duration[] }"
  Dose:    union { grams UInt32, scoops Byte }
  Plan:
    is: struct
    extends: Feed
    about: What is fed in a day
    mode: Mode
    note?: {is: String, about: Why it is so}
  Level:
    is: enum
    Low: 10
    High: {is: 20, about: Above the weir, called: Too high}
  Grams: {extends: UInt32}
)");
  const auto mode = b.definition<EnumDefinition>("types/Mode");
  REQUIRE(mode.fields.size() == 3);
  CHECK(mode.fields[2].value == 6);
  CHECK(b.has("types/Mode/EnumValues"));  // numbers with gaps
  CHECK(b.space->isSubtype(b.at("types/Faults"), id::UInt16));
  CHECK(b.definition<EnumDefinition>("types/Faults").fields[2].value == 12);
  CHECK(b.value("types/Faults/OptionSetValues").items<LocalizedText>().size() == 13);
  CHECK(fieldsOf(b.definition<StructureDefinition>("types/Feed")) == "grams:i=7 pellets?:i=12 times:i=290[] ");
  CHECK(b.definition<StructureDefinition>("types/Feed").structureType == StructureType::StructureWithOptionalFields);
  CHECK(b.definition<StructureDefinition>("types/Feed").defaultEncodingId ==
        NodeId(2, String("types/Feed/Default Binary")));
  CHECK(b.definition<StructureDefinition>("types/Dose").structureType == StructureType::Union);
  const auto plan = b.definition<StructureDefinition>("types/Plan");
  CHECK(plan.baseDataType == NodeId(2, String("types/Feed")));
  CHECK(fieldsOf(plan) == "grams:i=7 pellets?:i=12 times:i=290[] mode:ns=2;s=types/Mode note?:i=12 ");
  CHECK(plan.fields[4].description.text.view() == "Why it is so");
  const auto level = b.definition<EnumDefinition>("types/Level");
  CHECK(level.fields[1].displayName.text.view() == "Too high");
  CHECK(level.fields[1].name.view() == "High");
  CHECK(b.space->builtInType(b.at("types/Grams")) == BuiltInType::UInt32);
}

TEST_CASE("structures, lists and matrices have initial values", "[model]") {
  const Built b(R"(
types:
  Mode:   enum Off | Auto
  Faults: options Clogged | Hot | Open
  Feed:   "struct { grams UInt32, pellets? String, times Double[], mode Mode }"
objects:
  A:
    plan:
      is: Feed writable
      starts: {grams: 20, times: [7.5, 12], mode: Auto}
    plans:
      is: Feed[]
      starts:
        - {grams: 1, times: []}
        - {grams: 2, pellets: Small}
    grid:
      is: Int32[2,3]
      starts: [[1, 2, 3], [4, 5, 6]]
    modes: "Mode[] = [Auto, Off]"
    faults: Faults = Clogged | Open
    words: {is: "String[]", starts: ["a, b", c]}
)");
  const auto json = [&](const char* path) {
    const TypeCatalog catalog = typeCatalog(*b.space);
    return toJson(b.value(path), JsonOptions{JsonForm::Plain, &catalog, {}}).dump();
  };
  CHECK(json("A/plan") == R"({"grams":20,"times":[7.5,12.0],"mode":"Auto_1"})");
  CHECK(json("A/plans") ==
        R"([{"grams":1,"times":[],"mode":"Off_0"},{"grams":2,"pellets":"Small","times":null,"mode":"Off_0"}])");
  CHECK(format(b.value("A/grid")) == "[[1, 2, 3], [4, 5, 6]]");
  CHECK(format(b.value("A/modes")) == "[1, 0]");
  CHECK(b.value("A/faults") == Variant(std::uint8_t{5}));
  CHECK(b.value("A/words").items<String>()[0].view() == "a, b");
}

TEST_CASE("types of every class extend others", "[model]") {
  const Built b(R"(
types:
  Pressure:
    extends: AnalogItemType
    is: Double kPa 0..50 = 5
  FilterClogged:
    extends: BaseEventType
    pressure: Double
  feeds:
    extends: NonHierarchicalReferences
    inverse: isFedBy
  Serviced:
    extends: BaseInterfaceType
    lastService: DateTime property
    nextService?: DateTime property
  Machine:
    abstract: yes
    implements: Serviced
    hours: UInt32
  Pump:
    extends: Machine
    hours: = 7
    pressure: Pressure
    <Valve>?: {is: FolderType}
    <Motor>: Machine
    lock: FolderType addin
objects:
  Hall:
    P1:
      is: Pump
      refers: {feeds: [../Tank 1, "../Tank {2..3}"]}
      nextService: = 2027-01-01T00:00:00Z
    "Tank {1..3}": {implements: Serviced}
    P2: {is: Pump, refers: {isFedBy: Hall/P1}, pressure: 0..40}
)");
  const auto& s = *b.space;
  CHECK(s.nodeClass(b.at("types/Pressure")) == NodeClass::VariableType);
  CHECK(s.typeDefinition(b.at("Hall/P1/pressure")) == b.at("types/Pressure"));
  CHECK(b.value("Hall/P1/pressure") == Variant(5.0));
  CHECK(rangeProperty(s, b.at("Hall/P1/pressure"), "EURange") == Range{0, 50});
  CHECK(rangeProperty(s, b.at("Hall/P2/pressure"), "EURange") == Range{0, 40});
  CHECK(s.nodeId(s.typeDefinition(b.at("types/FilterClogged/pressure"))).is(id::PropertyType));
  CHECK(s.isAbstract(b.at("types/Machine")));
  CHECK(b.refers("types/Machine", id::HasInterface, "types/Serviced"));
  CHECK(b.has("types/Machine/lastService"));
  CHECK(b.has("Hall/P1/lastService"));
  CHECK(format(b.value("Hall/P1/nextService")) == "2027-01-01T00:00:00Z");
  CHECK(b.has("Hall/Tank 2/lastService"));
  CHECK(b.value("Hall/P1/hours") == Variant(std::uint32_t{7}));
  CHECK(b.rule("types/Pump/hours") == id::ModellingRule_Mandatory.value);
  CHECK(b.rule("types/Pump/<Valve>") == id::ModellingRule_OptionalPlaceholder.value);
  CHECK(b.rule("types/Pump/<Motor>") == id::ModellingRule_MandatoryPlaceholder.value);
  CHECK(!b.has("Hall/P1/<Motor>"));
  CHECK(b.refers("Hall/P1", id::HasAddIn, "Hall/P1/lock"));
  const NodeIndex feeds = b.at("types/feeds");
  for (const char* tank : {"Hall/Tank 1", "Hall/Tank 2", "Hall/Tank 3"})
    CHECK(b.refers(b.at("Hall/P1"), feeds, b.at(tank)));
  CHECK(b.refers(b.at("Hall/P1"), feeds, b.at("Hall/P2")));
}

TEST_CASE("what is said of a variable becomes its attributes and properties", "[model]") {
  const Built b(R"(
objects:
  A:
    t: Double °C 0..40 instrument -20..80 precision 1 every 250ms = 12 status UncertainInitialValue history
    gate: Boolean Closed | Open writable
    step: UInt16 Idle | Fill | Drain = 1
    secret: String writable unreadable
    head: Double mm Hg
)");
  const auto& s = *b.space;
  const NodeIndex t = b.at("A/t");
  CHECK(rangeProperty(s, t, "InstrumentRange") == Range{-20, 80});
  CHECK(b.value("A/t/ValuePrecision") == Variant(1.0));
  CHECK(s.traits(t).minimumSamplingInterval == 250);
  CHECK(s.traits(t).historizing);
  CHECK(s.traits(t).accessLevel ==
        (AccessLevelType::CurrentRead | AccessLevelType::HistoryRead | AccessLevelType::HistoryWrite));
  CHECK(s.nodeId(s.typeDefinition(b.at("A/gate"))).is(id::TwoStateDiscreteType));
  CHECK(b.value("A/gate/TrueState") == Variant(LocalizedText("Open")));
  CHECK(s.nodeId(s.typeDefinition(b.at("A/step"))).is(id::MultiStateDiscreteType));
  CHECK(b.value("A/step/EnumStrings").items<LocalizedText>().size() == 3);
  CHECK(s.traits(b.at("A/secret")).accessLevel == AccessLevelType::CurrentWrite);
  const auto unit = b.value("A/head/EngineeringUnits").get<ExtensionObject>()->as<EUInformation>();
  CHECK(unit->displayName.text.view() == "mm Hg");
}

TEST_CASE("a state machine is its states and what leads from one to another", "[model]") {
  const Built b(R"(
types:
  WashCycle:
    extends: FiniteStateMachineType
    states: Idle | Spraying | Draining
    transitions:
      Idle -> Spraying: start()
      Spraying -> Draining:
      Draining -> Idle: finish(), start()
    start(): Begin
    finish(): End
objects:
  DF1:
    cycle: WashCycle
)");
  const auto& s = *b.space;
  CHECK(s.nodeId(s.typeDefinition(b.at("types/WashCycle/Idle"))).is(id::InitialStateType));
  CHECK(s.nodeId(s.typeDefinition(b.at("types/WashCycle/Draining"))).is(id::StateType));
  CHECK(b.value("types/WashCycle/Draining/StateNumber") == Variant(std::uint32_t{3}));
  CHECK(b.refers("types/WashCycle/IdleToSpraying", id::FromState, "types/WashCycle/Idle"));
  CHECK(b.refers("types/WashCycle/IdleToSpraying", id::ToState, "types/WashCycle/Spraying"));
  CHECK(b.refers("types/WashCycle/IdleToSpraying", id::HasCause, "types/WashCycle/start"));
  CHECK(b.refers("types/WashCycle/DrainingToIdle", id::HasCause, "types/WashCycle/finish"));
  CHECK(!b.has("DF1/cycle/Idle"));
  CHECK(b.value("DF1/cycle/CurrentState") == Variant(LocalizedText("Idle")));
  CHECK(b.value("DF1/cycle/CurrentState/Id") == Variant(NodeId(2, String("types/WashCycle/Idle"))));
}

TEST_CASE("ids outlast renames", "[model]") {
  const Built before("objects:\n  A:\n    DF1:\n      speed: Double\n    x: Double\n");
  const Built after(
      "objects:\n  A:\n    'Filter north':\n      was: DF1\n      speed: Double\n    x: {is: Double, node-id: 5001}\n");
  const NodeIndex renamed = after.at("A/DF1");
  CHECK(after.space->name(renamed) == "Filter north");
  CHECK(after.space->path(after.at("A/DF1/speed")) == "A/Filter north/speed");
  CHECK(after.space->find(NodeId(2, 5001)) != kNoNode);
}

TEST_CASE("nodes go where they are told, and views show some", "[model][cu:View Basic]") {
  const Built b(R"(
objects:
  Extra:
    in: Plant/Hall
    x: Double
  Plant:
    Hall: FolderType
  Probe: {in: i=2253}
views:
  Operators:
    about: What is looked at daily
    shows: [Plant/Hall, Server/Probe]
)");
  CHECK(b.space->path(b.at("Plant/Hall/Extra/x")) == "Plant/Hall/Extra/x");
  CHECK(b.refers(b.space->at(id::Server), b.space->at(id::HasComponent), b.at("Probe")));
  const NodeIndex view = b.at("views/Operators");
  CHECK(b.space->nodeClass(view) == NodeClass::View);
  CHECK(isInView(*b.space, b.at("Plant/Hall/Extra"), view));
  CHECK(!isInView(*b.space, b.at("Plant"), view));
}

TEST_CASE("texts stand in several languages side by side", "[model]") {
  const Built b(R"(
objects:
  Filter:
    called: {en: Drum filter, de: Trommelfilter, pt-BR: Filtro}
    about: {en: Strains the water, de: Siebt das Wasser}
    wash(seconds UInt16) -> started Boolean:
      about: Spray it clean
      seconds: How long to spray
)");
  const auto& s = *b.space;
  const NodeIndex filter = b.at("Filter");
  const auto shown = [&](std::vector<String> locales) {
    return std::string(s.displayName(filter, locales).text.view());
  };
  CHECK(shown({}) == "Drum filter");
  CHECK(shown({String("de")}) == "Trommelfilter");
  CHECK(shown({String("de-AT")}) == "Trommelfilter");
  CHECK(shown({String("fr"), String("pt")}) == "Filtro");
  CHECK(shown({String("fr")}) == "Drum filter");
  Rights german = Rights::all();
  german.setLocales({String("de")});
  CHECK(readAttribute(s, filter, AttributeId::Description, german).value ==
        Variant(LocalizedText("Siebt das Wasser", "de")));
  CHECK(readAttribute(s, filter, AttributeId::DisplayName, german).value ==
        Variant(LocalizedText("Trommelfilter", "de")));
  BrowseDescription what;
  what.nodeId = NodeId(id::ObjectsFolder);
  what.includeSubtypes = true;
  what.resultMask = 63;
  const auto page = browse(s, what, 0, 0, kNoNode, german);
  CHECK(std::ranges::count(page.references, LocalizedText("Trommelfilter", "de"), &ReferenceDescription::displayName) ==
        1);
  const auto inputs = methodArguments(s, b.at("Filter/wash"), "InputArguments");
  REQUIRE(inputs.size() == 1);
  CHECK(inputs[0].description.text.view() == "How long to spray");
}

TEST_CASE("instances override and specialise what their types have", "[model]") {
  const Built b(R"(
types:
  Motor: {speed: Double = 1}
  BigMotor: {extends: Motor, cooling: Boolean}
  Pump:
    motor: {is: Motor, speed: = 5}
objects:
  P1: Pump
  P2: {is: Pump, motor: BigMotor}
  P3: {is: Pump, motor: {speed: = 9}}
)");
  CHECK(b.value("P1/motor/speed") == Variant(5.0));
  CHECK(b.value("P2/motor/speed") == Variant(1.0));
  CHECK(b.has("P2/motor/cooling"));
  CHECK(b.value("P3/motor/speed") == Variant(9.0));
}

TEST_CASE("models import others by name or prefix", "[model]") {
  auto space = freshSpace();
  Findings findings;
  build(*space,
        {{"a.yaml",
          "namespace: http://fernhollow.example/devices\nversion: 1.10\npublished: 2026-03-01\ntypes:\n  Pump: {speed: "
          "Double}\n"},
         {"b.yaml",
          "namespace: http://fernhollow.example/plant\nimports: {dev: http://fernhollow.example/devices 1.9}\n"
          "types:\n  Pump: {extends: dev:Pump, oil: Double}\nobjects:\n  P1: Pump\n  P2: dev:Pump\n"}},
        findings);
  for (const auto& finding : findings.list()) FAIL(finding.message);
  CHECK(space->find(NodeId(3, String("P1/oil"))) != kNoNode);
  CHECK(space->find(NodeId(3, String("P2/speed"))) != kNoNode);
  CHECK(space->find(NodeId(3, String("P2/oil"))) == kNoNode);
  CHECK(space->modelInfo(2).version.view() == "1.10");
  CHECK(space->modelInfo(2).published.text() == "2026-03-01T00:00:00Z");
  REQUIRE(space->modelInfo(3).required.size() == 1);
  CHECK(space->modelInfo(3).required[0].version.view() == "1.9");
}

TEST_CASE("one model may stand in several files", "[model]") {
  auto space = freshSpace();
  Findings findings;
  const std::string head = "namespace: http://fernhollow.example/plant\n";
  build(*space,
        {{"a.yaml", head + "objects:\n  Hall:\n    T1: Tank\n"},
         {"b.yaml", head + "types:\n  Tank: {fish: UInt32}\nobjects:\n  Hall:\n    T2: Tank\n"}},
        findings);
  for (const auto& finding : findings.list()) FAIL(finding.message);
  CHECK(space->path(space->find(NodeId(2, String("Hall/T2/fish")))) == "Hall/T2/fish");
}

TEST_CASE("the example on the language's page is sound", "[model]") {
  std::ifstream page(std::string(ZUNTH_SOURCE_DIR) + "/docs/model-language.md");
  const std::string text{std::istreambuf_iterator<char>(page), {}};
  const auto from = text.find("```yaml\n") + 8;
  REQUIRE(from != std::string::npos + 8);
  auto space = freshSpace();
  Findings findings;
  build(*space,
        {{"devices.yaml",
          "namespace: http://fernhollow.example/devices\ntypes:\n  DeviceType: {maker: String property}\n"},
         {"page.yaml", text.substr(from, text.find("```", from) - from)}},
        findings);
  for (const auto& finding : findings.list()) FAIL(format(finding, text.substr(from)));
  const auto filter = space->find(NodeId(3, String("Hatchery/Intake/DF2")));
  REQUIRE(filter != kNoNode);
  CHECK(space->child(filter, {2, "maker"}) != kNoNode);
  CHECK(space->child(filter, {3, "faults"}) != kNoNode);
}

}  // namespace zunth::language_test
