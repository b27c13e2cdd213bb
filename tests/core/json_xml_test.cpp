// JSON and XML say the same as the binary encoding: whatever the second implementation wrote in binary comes back octet
// by octet; and single values look as the standard prints them (Part 6, 5.3 and 5.4).
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/generated/structures.hpp"
#include "core/ua/json.hpp"
#include "core/ua/structure_walk.hpp"
#include "core/ua/xml.hpp"

#include <fstream>
#include <sstream>

#include "tests/hex.hpp"
#include <catch2/catch.hpp>

namespace zunth::json_xml_test {

using namespace zunth::ua;

namespace {

const JsonOptions kReversible{};

/// Calls `visit(schema, octets)` for each structure of the files of vectors.
template <class Visit>
void eachVector(Visit visit) {
  for (const std::string name : {"messages", "structures"}) {
    std::ifstream file(ZUNTH_SOURCE_DIR "/tests/vectors/" + name + ".jsonl");
    for (std::string text; std::getline(file, text);) {
      const auto line = Json::parse(text);
      const auto* schema = TypeCatalog::standard().find(line.at("structure").get<std::string>());
      if (!schema) continue;  // of another namespace
      const auto octets = test::unhex(line.at("hex").get<std::string>());
      BinaryReader reader(octets);
      if (name == "messages") reader.next<NodeId>();
      visit(*schema, reader.rest());
    }
  }
}

/// An ExpandedNodeId that names its namespace by URI has no index beside it in text; what was there is lost.
void requireSame(BytesView back, BytesView binary, std::string_view text, const std::string& textAgain) {
  if (text.find("urn:x") != std::string_view::npos)
    CHECK(text == textAgain);
  else
    CHECK(test::hex(back) == test::hex(binary));
}

std::string xmlOf(const Variant& value) {
  pugi::xml_document document;
  toXml(document.append_child("Value"), value);
  std::ostringstream out;
  document.print(out, "", pugi::format_raw | pugi::format_no_declaration);
  return out.str();
}
Result<Variant> fromXml(const std::string& text) {
  pugi::xml_document document;
  REQUIRE(document.load_string(text.c_str()));
  return variantFromXml(document.child("Value").first_child());
}

}  // namespace

TEST_CASE("structures come back from JSON octet by octet", "[ua][json][vectors][cu:UA JSON Encoding]") {
  for (const auto form : {JsonForm::Reversible, JsonForm::Compact, JsonForm::Verbose}) {
    int count = 0;
    const JsonOptions options{.form = form};
    eachVector([&](const StructureSchema& schema, BytesView binary) {
      INFO(schema.name);
      auto json = toJson(schema, binary, options);
      REQUIRE(json);
      INFO(json->dump());
      auto back = structureFromJson(Json::parse(json->dump()), schema);
      INFO((back ? "" : back.error().text()));
      REQUIRE(back);
      requireSame(*back, binary, json->dump(), toJson(schema, *back, options)->dump());
      ++count;
    });
    CHECK(count >= 200);
  }
}

TEST_CASE("structures come back from XML octet by octet", "[ua][xml][vectors][cu:UA XML Encoding]") {
  int count = 0;
  eachVector([&](const StructureSchema& schema, BytesView binary) {
    if (schema.xmlId.isNull()) return;
    INFO(schema.name);
    auto xml = withXmlBody(ExtensionObject::binary(schema.binaryId, ByteString(binary)));
    REQUIRE(xml);
    CHECK(xml->encodingId() == schema.xmlId);
    INFO(xml->octets().view());
    auto back = withBinaryBody(*xml);
    INFO((back ? "" : back.error().text()));
    REQUIRE(back);
    requireSame(back->octets().bytes(), binary, xml->octets().view(), std::string(withXmlBody(*back)->octets().view()));
    ++count;
  });
  CHECK(count >= 200);
}

TEST_CASE("values have the standard's form in JSON and in XML", "[ua][json][xml]") {
  struct Case {
    Variant value;
    const char *reversible, *nonReversible, *xml;
  };
  DiagnosticInfo diagnostics;
  diagnostics.additionalInfo = String("why");
  diagnostics.innerStatusCode = status::BadNoCommunication;
  const auto argument = ExtensionObject::of(Range{0, 2.5});
  const Case cases[] = {
      {Variant(true), R"({"Type":1,"Body":true})", "true", "<Boolean>true</Boolean>"},
      {Variant(std::int8_t{-3}), R"({"Type":2,"Body":-3})", "-3", "<SByte>-3</SByte>"},
      {Variant(std::uint64_t{18446744073709551615u}), R"({"Type":9,"Body":"18446744073709551615"})",
       R"("18446744073709551615")", "<UInt64>18446744073709551615</UInt64>"},
      {Variant(0.1f), R"({"Type":10,"Body":0.1})", "0.1", "<Float>0.1</Float>"},
      {Variant(-std::numeric_limits<double>::infinity()), R"({"Type":11,"Body":"-Infinity"})", R"("-Infinity")",
       "<Double>-INF</Double>"},
      {Variant("trout & fry"), R"({"Type":12,"Body":"trout & fry"})", R"("trout & fry")",
       "<String>trout &amp; fry</String>"},
      {Variant(*DateTime::parse("2026-05-04T07:30:00.125Z")), R"({"Type":13,"Body":"2026-05-04T07:30:00.125Z"})",
       R"("2026-05-04T07:30:00.125Z")", "<DateTime>2026-05-04T07:30:00.125Z</DateTime>"},
      {Variant(DateTime{std::numeric_limits<std::int64_t>::max()}), R"({"Type":13,"Body":"9999-12-31T23:59:59Z"})",
       R"("9999-12-31T23:59:59Z")", "<DateTime>9999-12-31T23:59:59Z</DateTime>"},
      {Variant(DateTime{}), R"({"Type":13,"Body":"0001-01-01T00:00:00Z"})", R"("0001-01-01T00:00:00Z")",
       "<DateTime>0001-01-01T00:00:00Z</DateTime>"},
      {Variant(*Guid::parse("72962b91-fa75-4ae6-8d28-b404dc7daf63")),
       R"({"Type":14,"Body":"72962b91-fa75-4ae6-8d28-b404dc7daf63"})", R"("72962b91-fa75-4ae6-8d28-b404dc7daf63")",
       "<Guid><String>72962b91-fa75-4ae6-8d28-b404dc7daf63</String></Guid>"},
      {Variant(ByteString(test::unhex("00ff10"))), R"({"Type":15,"Body":"AP8Q"})", R"("AP8Q")",
       "<ByteString>AP8Q</ByteString>"},
      {Variant(NodeId(2, String("Pond 1"))), R"({"Type":17,"Body":{"IdType":1,"Id":"Pond 1","Namespace":2}})",
       R"({"IdType":1,"Id":"Pond 1","Namespace":"urn:fernhollow:plant"})",
       "<NodeId><Identifier>ns=2;s=Pond 1</Identifier></NodeId>"},
      {Variant(NodeId(85u)), R"({"Type":17,"Body":{"Id":85}})", R"({"Id":85})",
       "<NodeId><Identifier>i=85</Identifier></NodeId>"},
      {Variant(status::BadNoCommunication), R"({"Type":19,"Body":2150694912})",
       R"({"Code":2150694912,"Symbol":"BadNoCommunication"})", "<StatusCode><Code>2150694912</Code></StatusCode>"},
      {Variant(QualifiedName{2, "pressure"}), R"({"Type":20,"Body":{"Name":"pressure","Uri":2}})",
       R"({"Name":"pressure","Uri":"urn:fernhollow:plant"})",
       "<QualifiedName><NamespaceIndex>2</NamespaceIndex><Name>pressure</Name></QualifiedName>"},
      {Variant(LocalizedText("Becken", "de")), R"({"Type":21,"Body":{"Locale":"de","Text":"Becken"}})", R"("Becken")",
       "<LocalizedText><Locale>de</Locale><Text>Becken</Text></LocalizedText>"},
      {Variant(argument), R"({"Type":22,"Body":{"TypeId":{"Id":884},"Body":{"Low":0.0,"High":2.5}}})",
       R"({"Low":0.0,"High":2.5})",
       "<ExtensionObject><TypeId><Identifier>i=885</Identifier></TypeId><Body>"
       "<Range xmlns=\"http://opcfoundation.org/UA/2008/02/Types.xsd\"><Low>0</Low><High>2.5</High></Range>"
       "</Body></ExtensionObject>"},
      {Variant(DataValue(Variant(std::int32_t{4}), {}, status::UncertainLastUsableValue)),
       R"({"Type":23,"Body":{"Value":{"Type":6,"Body":4},"Status":1083179008}})",
       R"({"Value":4,"Status":{"Code":1083179008,"Symbol":"UncertainLastUsableValue"}})",
       "<DataValue><Value><Value><Int32>4</Int32></Value></Value>"
       "<StatusCode><Code>1083179008</Code></StatusCode></DataValue>"},
      {Variant(diagnostics), R"({"Type":25,"Body":{"AdditionalInfo":"why","InnerStatusCode":2150694912}})",
       R"({"AdditionalInfo":"why","InnerStatusCode":{"Code":2150694912,"Symbol":"BadNoCommunication"}})",
       "<DiagnosticInfo><AdditionalInfo>why</AdditionalInfo><InnerStatusCode><Code>2150694912</Code>"
       "</InnerStatusCode></DiagnosticInfo>"},
      {Variant::array<std::int16_t>({1, 2}), R"({"Type":4,"Body":[1,2]})", "[1,2]",
       "<ListOfInt16><Int16>1</Int16><Int16>2</Int16></ListOfInt16>"},
      {Variant::array(std::vector<std::int32_t>{1, 2, 3, 4, 5, 6}, {2, 3}),
       R"({"Type":6,"Body":[1,2,3,4,5,6],"Dimensions":[2,3]})", "[[1,2,3],[4,5,6]]",
       "<Matrix><Dimensions><UInt32>2</UInt32><UInt32>3</UInt32></Dimensions><Elements><Int32>1</Int32>"
       "<Int32>2</Int32><Int32>3</Int32><Int32>4</Int32><Int32>5</Int32><Int32>6</Int32></Elements></Matrix>"},
      {Variant::array(std::vector<Variant>{Variant(1.5), Variant("a")}),
       R"({"Type":24,"Body":[{"Type":11,"Body":1.5},{"Type":12,"Body":"a"}]})", R"([1.5,"a"])",
       "<ListOfVariant><Variant><Value><Double>1.5</Double></Value></Variant>"
       "<Variant><Value><String>a</String></Value></Variant></ListOfVariant>"},
      {Variant(), "null", "null", ""},
  };
  const std::vector<String> namespaces{String("http://opcfoundation.org/UA/"), String("urn:x"),
                                       String("urn:fernhollow:plant")};
  for (const auto& c : cases) {
    INFO(c.reversible);
    const auto json = toJson(c.value, kReversible);
    CHECK(json.dump() == c.reversible);
    CHECK(toJson(c.value, {.form = JsonForm::NonReversible, .namespaceUris = namespaces}).dump() == c.nonReversible);
    const auto fromJson = variantFromJson(json);
    REQUIRE(fromJson);
    CHECK(*fromJson == c.value);
    const auto xml = xmlOf(c.value);
    CHECK(xml == (*c.xml ? "<Value>" + std::string(c.xml) + "</Value>" : "<Value/>"));
    const auto back = fromXml(xml);
    INFO((back ? "" : back.error().text()));
    REQUIRE(back);
    CHECK(*back == c.value);
  }
}

TEST_CASE("values have the forms of 1.05 in JSON, and come back from them", "[ua][json][cu:UA JSON Encoding]") {
  struct Case {
    Variant value;
    const char *compact, *verbose;
  };
  ExpandedNodeId elsewhere(NodeId(2, 7u));
  elsewhere.serverIndex = 1;
  const Case cases[] = {
      {Variant(3.5), R"({"UaType":11,"Value":3.5})", nullptr},
      {Variant(std::int64_t{-7}), R"({"UaType":8,"Value":"-7"})", nullptr},
      {Variant(NodeId(85u)), R"({"UaType":17,"Value":"i=85"})", nullptr},
      {Variant(NodeId(2, String("Pond 1"))), R"({"UaType":17,"Value":"nsu=urn:fern%3Bhollow;s=Pond 1"})", nullptr},
      {Variant(QualifiedName{2, "pressure"}), R"({"UaType":20,"Value":"nsu=urn:fern%3Bhollow;pressure"})", nullptr},
      {Variant(QualifiedName{9, "far"}), R"({"UaType":20,"Value":"9:far"})", nullptr},
      {Variant(LocalizedText("Becken", "de")), R"({"UaType":21,"Value":{"Locale":"de","Text":"Becken"}})", nullptr},
      {Variant(status::BadNoCommunication), R"({"UaType":19,"Value":{"Code":2150694912}})",
       R"({"UaType":19,"Value":{"Code":2150694912,"Symbol":"BadNoCommunication"}})"},
      {Variant(ExtensionObject::of(Range{0, 2.5})), R"({"UaType":22,"Value":{"UaTypeId":"i=884","High":2.5}})",
       R"({"UaType":22,"Value":{"UaTypeId":"i=884","Low":0.0,"High":2.5}})"},
      {Variant(ExtensionObject::binary(NodeId(2, 9u), ByteString(test::unhex("00ff10")))),
       R"({"UaType":22,"Value":{"UaTypeId":"nsu=urn:fern%3Bhollow;i=9","UaEncoding":1,"UaBody":"AP8Q"}})", nullptr},
      {Variant(DataValue(Variant(std::int32_t{4}), {}, status::UncertainLastUsableValue)),
       R"({"UaType":23,"Value":{"UaType":6,"Value":4,"StatusCode":{"Code":1083179008}}})",
       R"({"UaType":23,"Value":{"UaType":6,"Value":4,"StatusCode":{"Code":1083179008,)"
       R"("Symbol":"UncertainLastUsableValue"}}})"},
      {Variant::array(std::vector<std::int32_t>{1, 2, 3, 4, 5, 6}, {2, 3}),
       R"({"UaType":6,"Value":[1,2,3,4,5,6],"Dimensions":[2,3]})", nullptr},
      {Variant(), "null", nullptr},
  };
  const std::vector<String> namespaces{String("http://opcfoundation.org/UA/"), String("urn:x"),
                                       String("urn:fern;hollow")};
  for (const auto& c : cases)
    for (const auto form : {JsonForm::Compact, JsonForm::Verbose}) {
      const JsonOptions options{.form = form, .namespaceUris = namespaces};
      const auto json = toJson(c.value, options);
      CHECK(json.dump() == (form == JsonForm::Verbose && c.verbose ? c.verbose : c.compact));
      const auto back = variantFromJson(json, TypeCatalog::standard(), namespaces);
      INFO((back ? "" : back.error().text()));
      REQUIRE(back);
      CHECK(*back == c.value);
      // Whoever doesn't know the namespace can't take it for another.
      if (json.dump().find("nsu=") != std::string::npos) CHECK_FALSE(variantFromJson(json));
    }
  const std::vector<String> servers{String("urn:here"), String("urn:there")};
  JsonOptions named{.form = JsonForm::Verbose, .namespaceUris = namespaces, .serverUris = servers};
  CHECK(toJson(Variant(elsewhere), named).dump() ==
        R"({"UaType":18,"Value":"svu=urn:there;nsu=urn:fern%3Bhollow;i=7"})");
  named.form = JsonForm::NonReversible;
  CHECK(toJson(Variant(elsewhere), named).dump() ==
        R"({"Id":7,"Namespace":"urn:fern;hollow","ServerUri":"urn:there"})");
}

TEST_CASE("times, ids and octets are read as the standard allows them to be written", "[ua][json][xml]") {
  struct Case {
    const char *text, *time;  // nothing for what is no time
  };
  for (const Case& c :
       {Case{"2026-05-04T09:30:00+02:00", "2026-05-04T07:30:00Z"},
        Case{"2026-05-04T00:30:00.5-01:30", "2026-05-04T02:00:00.5Z"},
        Case{"2026-05-04T07:30:00", "2026-05-04T07:30:00Z"}, Case{"2026-05-04T07:30:00Z", "2026-05-04T07:30:00Z"},
        Case{"2026-05-04T07:30:00+2:00", nullptr}, Case{"2026-05-04T07:30:00+15:00", nullptr},
        Case{"2026-05-04T07:30:00+00:60", nullptr}, Case{"2026-05-04T-1:30:00Z", nullptr},
        Case{"2026-05-04T07:30:00+", nullptr}, Case{"-026-05-04T07:30:00Z", nullptr}}) {
    INFO(c.text);
    const auto read = fromXml("<Value><DateTime>" + std::string(c.text) + "</DateTime></Value>");
    CHECK(static_cast<bool>(read) == (c.time != nullptr));
    if (read && c.time) CHECK(*read == Variant(*DateTime::parse(c.time)));
  }
  CHECK(ExpandedNodeId::parse("nsu=urn:a%3bb%25;i=7")->namespaceUri.view() == "urn:a;b%");
  for (const char* text : {"====", "A===", "AA=A", "A A="}) {
    INFO(text);
    CHECK_FALSE(fromXml("<Value><ByteString>" + std::string(text) + "</ByteString></Value>"));
  }
  CHECK(xmlOf(Variant(String(std::string_view("a\0b\x01", 4)))) == "<Value><String>a\uFFFDb\uFFFD</String></Value>");
  // By hand from Part 6, 5.2.2.17: a Boolean with both times, and more picoseconds than there can be.
  const auto octets = test::unhex(
      "3d"
      "0101"
      "0100000000000000"
      "1027"
      "0200000000000000"
      "ffff");
  BinaryReader reader(octets);
  const auto value = reader.next<DataValue>();
  CHECK(reader.ok());
  CHECK(value.sourcePicoseconds == 9999);
  CHECK(value.serverPicoseconds == 9999);
}

TEST_CASE("unions, optional fields and matrices of a site's own types", "[ua][json][xml]") {
  TypeCatalog types;
  const auto* range = types.find("Range");
  REQUIRE(range);
  StructureSchema feed{
      "FeedPlan", StructureSchema::Kind::WithOptionalFields, NodeId(2, 1u), NodeId(2, 2u), NodeId(2, 3u), NodeId(), {}};
  feed.fields.push_back({"Grams", BuiltInType::Double, nullptr, nullptr, -1, false});
  feed.fields.push_back({"Note", BuiltInType::String, nullptr, nullptr, -1, true});
  feed.fields.push_back({"Limits", BuiltInType::Null, range, nullptr, 1, true});
  feed.fields.push_back({"Table", BuiltInType::Int16, nullptr, nullptr, 2, false});
  const auto* plan = types.add(std::move(feed));
  StructureSchema either{"Dose", StructureSchema::Kind::Union, NodeId(2, 4u), NodeId(2, 5u), NodeId(2, 6u), NodeId(),
                         {}};
  either.fields.push_back({"Volume", BuiltInType::Float, nullptr, nullptr, -1, false});
  either.fields.push_back({"Plan", BuiltInType::Null, plan, nullptr, -1, false});
  const auto* dose = types.add(std::move(either));

  const auto json =
      Json::parse(R"({"SwitchField":2,"Value":{"EncodingMask":2,"Grams":2.5,"Limits":[{"Low":1.0,"High":4.0}],)"
                  R"("Table":[[1,2,3],[4,5,6]]}})");
  auto binary = structureFromJson(json, *dose, types);
  INFO((binary ? "" : binary.error().text()));
  REQUIRE(binary);
  // By hand from Part 6, 5.2.6 to 5.2.8: the switch, the mask, Grams, Limits, and Table with its dimensions first.
  CHECK(test::hex(*binary) ==
        "02000000"
        "02000000"
        "0000000000000440"
        "01000000"
        "000000000000f03f"
        "0000000000001040"
        "02000000"
        "02000000"
        "03000000"
        "010002000300040005000600");
  auto again = toJson(*dose, *binary, {.types = &types});
  REQUIRE(again);
  CHECK(*again == json);
  const std::string limits = R"("Limits":[{"Low":1.0,"High":4.0}],"Table":[[1,2,3],[4,5,6]]})";
  const std::pair<JsonForm, std::string> forms[] = {
      {JsonForm::NonReversible, R"({"Grams":2.5,)" + limits},
      {JsonForm::Compact, R"({"SwitchField":2,"Plan":{"EncodingMask":2,"Grams":2.5,)" + limits + "}"},
      {JsonForm::Verbose, R"({"Plan":{"Grams":2.5,)" + limits + "}"},
  };
  for (const auto& [form, text] : forms) {
    const auto written = toJson(*dose, *binary, {.form = form, .types = &types});
    REQUIRE(written);
    CHECK(written->dump() == text);
    if (form == JsonForm::NonReversible) continue;
    const auto read = structureFromJson(*written, *dose, types);
    REQUIRE(read);
    CHECK(test::hex(*read) == test::hex(*binary));
  }
  auto xml = withXmlBody(ExtensionObject::binary(dose->binaryId, ByteString(BytesView(*binary))), types);
  REQUIRE(xml);
  INFO(xml->octets().view());
  auto back = withBinaryBody(*xml, types);
  INFO((back ? "" : back.error().text()));
  REQUIRE(back);
  CHECK(test::hex(back->octets().bytes()) == test::hex(*binary));

  Bytes wrong = *binary;
  wrong[0] = std::byte{9};
  CHECK(toJson(*dose, wrong, {.types = &types}).code() == status::BadDecodingError);
  for (std::size_t cut = 0; cut < binary->size(); ++cut)
    CHECK_FALSE(toJson(*dose, BytesView(*binary).first(cut), {.types = &types}));
}

TEST_CASE("what is wrong in JSON or XML is named with its path", "[ua][json][xml]") {
  struct Case {
    const char *text, *cause;
  };
  const auto* request = TypeCatalog::standard().find("ReadRequest");
  const Case json[] = {
      {R"({"MaxAge":"soon"})", "MaxAge: a number was expected, not \"soon\""},
      {R"({"NodesToRead":{}})", "NodesToRead: a list was expected, not {}"},
      {R"({"RequestHeader":{"RequestHandle":-1}})", "RequestHeader.RequestHandle: a UInt32 was expected, not -1"},
      {R"({"RequestHeader":{"Timestamp":"noon"}})",
       "RequestHeader.Timestamp: a time as 2026-05-04T07:30:00Z was expected, not \"noon\""},
      {R"({"TimestampsToReturn":"Sometimes"})",
       "TimestampsToReturn: a member of TimestampsToReturn was expected, not \"Sometimes\""},
      {R"([])", "the fields of ReadRequest was expected, not []"},
  };
  for (const auto& c : json) {
    const auto read = structureFromJson(Json::parse(c.text), *request);
    REQUIRE_FALSE(read);
    CHECK(read.code() == status::BadDecodingError);
    CHECK(read.error().cause == c.cause);
  }
  const Case xml[] = {
      {"<Value><Double>wet</Double></Value>", "Double: a Double was expected in <Double>, not 'wet'"},
      {"<Value><Pond>1</Pond></Value>", "Pond: <Pond> is no value of a built-in type"},
      {"<Value><Matrix><Dimensions><UInt32>3</UInt32></Dimensions><Elements><Byte>1</Byte></Elements></Matrix></Value>",
       "Matrix: a matrix's dimensions don't multiply to its length"},
      {"<Value><ByteString>***</ByteString></Value>",
       "ByteString: octets in base64 was expected in <ByteString>, not '***'"},
  };
  for (const auto& c : xml) {
    const auto read = fromXml(c.text);
    REQUIRE_FALSE(read);
    CHECK(read.error().cause == c.cause);
  }
  std::string deep = "null";
  for (int i = 0; i < 5000; ++i) deep = R"({"Type":23,"Body":{"Value":)" + deep + "}}";
  CHECK(variantFromJson(Json::parse(deep)).code() == status::BadEncodingLimitsExceeded);
}

}  // namespace zunth::json_xml_test
