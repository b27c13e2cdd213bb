// NodeSet2: what is written is read back the same, what others wrote is understood, mistakes are named with their line.
#include "core/model/nodeset.hpp"

#include "tests/core/model_space.hpp"
#include <catch2/catch.hpp>

namespace zunth::nodeset_test {

using namespace zunth::ua;
using model::Findings;

namespace {

std::string reportOf(const Findings& findings) {
  std::string out;
  for (const auto& one : findings.list())
    out += one.place.file + ":" + std::to_string(one.place.line) + ": " + one.message + "\n";
  return out;
}

/// In the style of a companion specification: a base model for devices.
const char* const kDevices = R"(<?xml version="1.0" encoding="utf-8"?>
<UANodeSet xmlns="http://opcfoundation.org/UA/2011/03/UANodeSet.xsd">
  <NamespaceUris><Uri>http://fernhollow.example/devices</Uri></NamespaceUris>
  <Models>
    <Model ModelUri="http://fernhollow.example/devices" Version="1.2" PublicationDate="2026-05-04T00:00:00Z">
      <RequiredModel ModelUri="http://opcfoundation.org/UA/"/>
    </Model>
  </Models>
  <Aliases>
    <Alias Alias="HasComponent">i=47</Alias>
    <Alias Alias="HasProperty">i=46</Alias>
    <Alias Alias="HasSubtype">i=45</Alias>
    <Alias Alias="HasTypeDefinition">i=40</Alias>
    <Alias Alias="HasModellingRule">i=37</Alias>
    <Alias Alias="Double">i=11</Alias>
    <Alias Alias="Health">ns=1;i=3002</Alias>
  </Aliases>
  <UADataType NodeId="ns=1;i=3002" BrowseName="1:Health">
    <DisplayName>Health</DisplayName>
    <References><Reference ReferenceType="HasSubtype" IsForward="false">i=29</Reference></References>
    <Definition Name="1:Health">
      <Field Name="Normal" Value="0"/>
      <Field Name="Worn" Value="3"><Description>Mend it soon</Description></Field>
    </Definition>
  </UADataType>
  <UADataType NodeId="ns=1;i=3003" BrowseName="1:Calibration">
    <DisplayName>Calibration</DisplayName>
    <References><Reference ReferenceType="HasSubtype" IsForward="false">i=22</Reference></References>
    <Definition Name="1:Calibration">
      <Field Name="Offset" DataType="Double"/>
      <Field Name="Curve" DataType="Double" ValueRank="1" IsOptional="true"/>
    </Definition>
  </UADataType>
  <UAObjectType NodeId="ns=1;i=1001" BrowseName="1:DeviceType" IsAbstract="true">
    <DisplayName>DeviceType</DisplayName>
    <DisplayName Locale="de">Gerät</DisplayName>
    <Description>What every device has</Description>
    <References>
      <Reference ReferenceType="HasSubtype" IsForward="false">i=58</Reference>
      <Reference ReferenceType="HasComponent">ns=1;i=6001</Reference>
      <Reference ReferenceType="HasComponent">ns=1;i=7001</Reference>
    </References>
  </UAObjectType>
  <UAVariable NodeId="ns=1;i=6001" BrowseName="1:Health" ParentNodeId="ns=1;i=1001" DataType="Health" AccessLevel="3">
    <DisplayName>Health</DisplayName>
    <References>
      <Reference ReferenceType="HasTypeDefinition">i=63</Reference>
      <Reference ReferenceType="HasModellingRule">i=78</Reference>
    </References>
    <Value><Int32 xmlns="http://opcfoundation.org/UA/2008/02/Types.xsd">3</Int32></Value>
  </UAVariable>
  <UAMethod NodeId="ns=1;i=7001" BrowseName="1:Calibrate" ParentNodeId="ns=1;i=1001">
    <DisplayName>Calibrate</DisplayName>
    <References><Reference ReferenceType="HasProperty">ns=1;i=6002</Reference></References>
  </UAMethod>
  <UAVariable NodeId="ns=1;i=6002" BrowseName="InputArguments" DataType="i=296" ValueRank="1" ArrayDimensions="1">
    <DisplayName>InputArguments</DisplayName>
    <References><Reference ReferenceType="HasTypeDefinition">i=68</Reference></References>
    <Value>
      <ListOfExtensionObject xmlns="http://opcfoundation.org/UA/2008/02/Types.xsd">
        <ExtensionObject><TypeId><Identifier>i=297</Identifier></TypeId><Body><Argument>
          <Name>health</Name><DataType><Identifier>ns=1;i=3002</Identifier></DataType><ValueRank>-1</ValueRank>
        </Argument></Body></ExtensionObject>
      </ListOfExtensionObject>
    </Value>
  </UAVariable>
</UANodeSet>
)";

}  // namespace

TEST_CASE("a companion model is read with its types, values and definitions", "[model][nodeset]") {
  const auto space = test::freshSpace();
  space->addNamespace(String("http://fernhollow.example/other"));  // so that indexes differ
  Findings findings;
  model::readNodeSet(*space, {"model/devices.xml", kDevices}, findings);
  INFO(reportOf(findings));
  REQUIRE_FALSE(findings.hasErrors());
  const auto ns = *space->namespaceIndex("http://fernhollow.example/devices");
  REQUIRE(ns == 3);
  const auto type = space->find(NodeId(ns, 1001u));
  REQUIRE(type != space::kNoNode);
  CHECK(space->isAbstract(type));
  CHECK(space->rare(type)->description.text.view() == "What every device has");
  const auto health = space->child(type, {ns, "Health"});
  REQUIRE(health != space::kNoNode);
  CHECK(space->traits(health).accessLevel == 3);
  CHECK(space->nodeId(space->traits(health).dataType) == NodeId(ns, 3002u));
  CHECK(space->value(health).value == Variant(std::int32_t{3}));
  const auto definition = space->rare(space->find(NodeId(ns, 3002u)))->typeDefinition.as<EnumDefinition>();
  REQUIRE(definition);
  CHECK(definition->fields[1].value == 3);
  const auto structure = space->rare(space->find(NodeId(ns, 3003u)))->typeDefinition.as<StructureDefinition>();
  REQUIRE(structure);
  CHECK(structure->structureType == StructureType::StructureWithOptionalFields);
  // Ids in values are the space's, not the file's.
  const auto arguments = space->value(space->find(NodeId(ns, 6002u)));
  CHECK(arguments.value.items<ExtensionObject>()[0].as<Argument>()->dataType == NodeId(ns, 3002u));

  // A model of the site's own extends it, by name.
  model::build(*space,
               {{"model/plant.yaml",
                 "namespace: http://fernhollow.example/plant\ntypes:\n  Filter:\n    extends: DeviceType\n    "
                 "pressure: Float kPa 0..50\nobjects:\n  F1: Filter\n"}},
               findings);
  INFO(reportOf(findings));
  CHECK_FALSE(findings.hasErrors());
  const auto plant = *space->namespaceIndex("http://fernhollow.example/plant");
  CHECK(space->find(NodeId(plant, String("F1/Health"))) != space::kNoNode);

  // What is written is read back the same.
  const std::vector<std::uint16_t> both{ns, plant};
  const std::string once = model::writeNodeSet(*space, both);
  const auto other = test::freshSpace();
  Findings again;
  model::readNodeSet(*other, {"once.xml", once}, again);
  INFO(reportOf(again));
  REQUIRE_FALSE(again.hasErrors());
  const std::vector<std::uint16_t> renumbered{2, 3};
  CHECK(model::writeNodeSet(*other, renumbered) == once);
}

TEST_CASE("mistakes in a node set are named with their line", "[model][nodeset]") {
  const std::string text = kDevices;
  const auto with = [&](const std::string& from, const std::string& to) {
    std::string changed = text;
    const auto at = changed.find(from);
    REQUIRE(at != std::string::npos);
    return changed.replace(at, from.size(), to);
  };
  const std::vector<std::pair<std::string, std::string>> cases{
      {"<UANodeSet", "model/x.xml:1: the file is no sound XML"},
      {"<html/>", "model/x.xml:1: the file is no NodeSet2: it has no <UANodeSet>"},
      {with("<RequiredModel ModelUri=\"http://opcfoundation.org/UA/\"/>", "<RequiredModel ModelUri=\"http://gone/\"/>"),
       "model/x.xml:6: the model http://gone/ is required, and it isn't there"},
      {with("IsForward=\"false\">i=58<", "IsForward=\"false\">ns=1;i=99<"), "there is no node ns=1;i=99 to refer to"},
      {with("NodeId=\"ns=1;i=6001\"", "NodeId=\"ns=7;i=6001\""),
       "ns=7;i=6001 is of a namespace that the file doesn't list"},
      {with("DataType=\"Health\" AccessLevel", "DataType=\"Wealth\" AccessLevel"),
       "'Wealth' is neither a node id nor an alias"},
      {with("NodeId=\"ns=1;i=7001\"", "NodeId=\"ns=1;i=6001\""), "a node ns=3;i=6001 is there already"},
      {with(">3</Int32>", ">three</Int32>"), "Int32: a Int32 was expected in <Int32>, not 'three'"}};
  for (const auto& [broken, message] : cases) {
    const auto space = test::freshSpace();
    space->addNamespace(String("http://fernhollow.example/other"));
    Findings findings;
    model::readNodeSet(*space, {"model/x.xml", broken}, findings);
    INFO(reportOf(findings));
    CHECK(findings.hasErrors());
    CHECK(reportOf(findings).find(message) != std::string::npos);
  }
}

TEST_CASE("node sets are read after those that they require, whatever they are called", "[model][nodeset]") {
  const auto file = [](const std::string& uri, std::vector<std::string> required) {
    std::string text =
        "<UANodeSet xmlns=\"http://opcfoundation.org/UA/2011/03/UANodeSet.xsd\"><Models><Model ModelUri=\"" + uri +
        "\">";
    for (const auto& other : required) text += "<RequiredModel ModelUri=\"" + other + "\"/>";
    return model::ModelFile{uri + ".xml", text + "</Model></Models></UANodeSet>"};
  };
  struct Row {
    std::vector<model::ModelFile> files;
    std::vector<std::size_t> order;
  };
  for (const Row& row : {
           Row{{}, {}},
           Row{{file("b", {}), file("a", {})}, {0, 1}},
           Row{{file("a", {"c", "http://opcfoundation.org/UA/"}), file("b", {}), file("c", {"b"})}, {1, 2, 0}},
           Row{{file("a", {"elsewhere"}), file("b", {"a"})}, {0, 1}},
           Row{{file("a", {"b"}), file("b", {"a"}), file("c", {"a"})}, {1, 0, 2}},
           Row{{file("a", {"a"})}, {0}},
           Row{{{"x.xml", "<Models no end"}, {"y.xml", ""}, {"z.xml", "<Models><Model</Models>"}}, {0, 1, 2}},
       })
    CHECK(model::readingOrder(row.files) == row.order);
}

TEST_CASE("types that go round in circles are refused", "[model]") {
  const auto type = [](int number, int above) {
    return "<UAObjectType NodeId=\"ns=1;i=" + std::to_string(number) + "\" BrowseName=\"1:T" + std::to_string(number) +
           "\"><References><Reference ReferenceType=\"i=45\" IsForward=\"false\">ns=1;i=" + std::to_string(above) +
           "</Reference></References></UAObjectType>";
  };
  const std::string head =
      "<UANodeSet xmlns=\"http://opcfoundation.org/UA/2011/03/UANodeSet.xsd\"><NamespaceUris><Uri>urn:x</Uri>"
      "</NamespaceUris>";
  for (const auto& types : {type(1, 1), type(1, 2) + type(2, 1), type(1, 2) + type(2, 3) + type(3, 2)}) {
    const auto space = test::freshSpace();
    Findings findings;
    model::readNodeSet(*space, {"model/x.xml", head + types + "</UANodeSet>"}, findings);
    CHECK(reportOf(findings).find("is its own supertype") != std::string::npos);
  }
}

TEST_CASE("large files are read in pieces, which is no other than as a whole", "[model]") {
  // Comments, CDATA and instructions among the nodes, '>' in attributes, an element that is closed at once.
  std::string text =
      R"(<?xml version="1.0"?><!-- <UAObject> --><UANodeSet xmlns="http://opcfoundation.org/UA/2011/03/UANodeSet.xsd" note="a>b">
  <NamespaceUris><Uri>http://fernhollow.example/large</Uri></NamespaceUris>
)";
  const int count = 6000;
  for (int i = 0; i < count; ++i) {
    text += "  <UAVariable NodeId=\"ns=1;i=" + std::to_string(1000 + i) + "\" BrowseName=\"1:v>" + std::to_string(i) +
            "\" DataType=\"i=12\">\n    <DisplayName>V</DisplayName>\n";
    if (i % 7 == 0) text += "    <!-- </UAVariable> -->\n";
    if (i % 5 == 0) text += "    <Description><![CDATA[</UAVariable>]]></Description>\n";
    text +=
        "    <References><Reference ReferenceType=\"i=40\">i=63</Reference><Reference ReferenceType=\"i=35\" "
        "IsForward=\"false\">" +
        std::string(i % 3 == 0 ? "i=85" : "ns=1;i=" + std::to_string(1000 + (i + 1) % count)) +
        "</Reference></References>\n    <Value><String xmlns=\"http://opcfoundation.org/UA/2008/02/Types.xsd\">" +
        std::to_string(i) + "</String></Value>\n  </UAVariable>\n";
    if (i == 3000) text += "  <?pause here?><UAObject NodeId=\"ns=1;i=999\" BrowseName=\"1:alone\"/>\n";
  }
  text += "</UANodeSet>\n";
  REQUIRE(text.size() > 2'000'000);
  const auto space = test::freshSpace();
  Findings findings;
  model::readNodeSet(*space, {"model/x.xml", text}, findings);
  CHECK(reportOf(findings) == "");
  std::size_t nodes = 0;
  for (int i = 0; i < count; ++i) {
    const auto node = space->find(NodeId(2, static_cast<std::uint32_t>(1000 + i)));
    if (node == space::kNoNode) continue;
    ++nodes;
    if (*space->value(node).value.get<String>() == String(std::to_string(i)) &&
        space->name(node) == "v>" + std::to_string(i) &&
        (space->description(node).text.view() == "</UAVariable>") == (i % 5 == 0))
      continue;
    FAIL("node " << i);
  }
  CHECK(nodes == count);
  CHECK(space->find(NodeId(2, 999u)) != space::kNoNode);

  SECTION("a mistake has its own line") {
    const auto at = text.find("ns=1;i=5000");
    const auto line =
        static_cast<std::size_t>(std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n')) + 1;
    text.replace(at, 11, "ns=9;i=5000");
    const auto other = test::freshSpace();
    Findings found;
    model::readNodeSet(*other, {"model/x.xml", text}, found);
    REQUIRE(found.hasErrors());
    CHECK(found.list().front().place.line == line);
  }
  SECTION("what breaks off is told, and read no further") {
    text.resize(text.size() / 2);
    const auto other = test::freshSpace();
    Findings found;
    model::readNodeSet(*other, {"model/x.xml", text}, found);
    CHECK(reportOf(found).find("the file is no sound XML") != std::string::npos);
  }
}

}  // namespace zunth::nodeset_test
