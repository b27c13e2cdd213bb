// What a client reads of a running server is the model that runs there.
#include "service/client/model_reader.hpp"

#include "core/model/build.hpp"
#include "core/model/difference.hpp"

#include "tests/service/loopback.hpp"

namespace zunth::model_reader_test {

using namespace zunth::ua;

namespace {

constexpr const char* kModel = R"(namespace: http://fernhollow.example/plant
version: 1.4
published: 2026-05-04
types:
  Mode: enum Off | Auto = 5
  Feed: "struct { grams UInt32, why? String, mode Mode }"
  feeds: {extends: NonHierarchicalReferences, inverse: isFedBy}
  Gauge: {extends: AnalogItemType, is: Float kPa 0..50}
  Pump:
    abstract: yes
    about: Moves water
    pressure: Gauge = 5
    serial?: String property
  BigPump:
    extends: Pump
    levels: Int32[2,3] history
    run(seconds UInt16, how Mode[]) -> done Boolean: {seconds: How long}
objects:
  Plant:
    called: {en: Plant, de: Anlage}
    P1: {is: BigPump, serial: = FH-1, refers: {feeds: Plant/Hall}}
    Hall:
      is: FolderType
      plan: {is: Feed writable, starts: {grams: 5}}
      hidden: {is: Double, access: {SecurityAdmin: read}}
views:
  All: [Plant]
)";

void fill(space::Space& space) {
  model::Findings findings;
  model::build(space, {{"m.yaml", kModel}}, findings);
  REQUIRE(!findings.hasErrors());
}

}  // namespace

TEST_CASE("a running server's model is read by a client", "[client][model]") {
  test::Loopback l(fill);
  test::run(l.loop, [&]() -> client::Awaitable<void> {
    auto session = co_await l.session();
    client::ModelReadOptions options;
    std::size_t told = 0;
    options.progress = [&](std::size_t nodes) { told = nodes; };
    auto read = co_await client::readModel(session, options);
    REQUIRE(read);
    const auto& space = **read;
    std::string all;
    const auto changes = model::compare(l.space, space, {false, false});
    for (const auto& c : changes) all += c.path + " " + c.what + ": " + c.before + " -> " + c.after + "\n";
    // A session reads in one language, and what its user may not see is not there.
    CHECK(all ==
          "Plant translations: en: Plant, de: Anlage -> en: Plant\n"
          "Plant/Hall/hidden variable:  -> \n");
    CHECK(told > 20);
    CHECK(space.modelInfo(2).version.view() == "1.4");
    CHECK(space.modelInfo(2).published.text() == "2026-05-04T00:00:00Z");
    co_await session->close();
  });
}

TEST_CASE("structures of a model are read in each encoding that it lists, and again after it has changed",
          "[client][model]") {
  test::Loopback l(fill);
  test::run(l.loop, [&]() -> client::Awaitable<void> {
    auto session = co_await l.session();
    ReadValueId plan{NodeId(2, String("Plant/Hall/plan")), static_cast<std::uint32_t>(AttributeId::Value), {}, {}};
    const auto shown = [&](const char* encoding) -> client::Awaitable<std::string> {
      plan.dataEncoding = {0, String(encoding)};
      std::vector<ReadValueId> what(1, plan);
      const auto read = co_await session->read(what);
      if (!read || !read->front().value.get<ExtensionObject>()) co_return read ? read->front().status.name() : "none";
      co_return std::string(read->front().value.get<ExtensionObject>()->octets().view());
    };
    const std::string json = co_await shown("Default JSON"), xml = co_await shown("Default XML");
    CHECK(json == R"({"EncodingMask":0,"grams":5,"mode":0})");
    CHECK(xml.find("<grams>5</grams>") != std::string::npos);
    // A member is renamed under way, as an apply does.
    const auto feed = l.space.find(NodeId(2, String("types/Feed")));
    REQUIRE(feed != space::kNoNode);
    auto definition = *l.space.rare(feed)->typeDefinition.as<StructureDefinition>();
    definition.fields[0].name = String("kilograms");
    l.space.rareOf(feed).typeDefinition = ExtensionObject::of(definition);
    l.server->showModels();
    CHECK((co_await shown("Default JSON")) == R"({"EncodingMask":0,"kilograms":5,"mode":0})");
    co_await session->close();
  });
}

TEST_CASE("a session reads texts in its own language", "[client][model]") {
  test::Loopback l(fill);
  test::run(l.loop, [&]() -> client::Awaitable<void> {
    auto session = co_await l.session();
    ReadValueId locales{
        NodeId(id::Server_ServerCapabilities_LocaleIdArray), static_cast<std::uint32_t>(AttributeId::Value), {}, {}};
    std::vector<ReadValueId> what(1, locales);
    const auto known = co_await session->read(what);
    REQUIRE(known);
    CHECK(known->front().value == Variant::array({String("en"), String("de")}));
    ActivateSessionRequest german;
    german.localeIds.push_back(String("de-AT"));
    AnonymousIdentityToken anyone;
    anyone.policyId = String("anonymous");
    german.userIdentityToken = ExtensionObject::of(anyone);
    const auto activated = co_await session->request(german);
    REQUIRE(activated);
    std::vector<AttributeId> name(1, AttributeId::DisplayName);
    const auto shown = co_await session->readAttributes(NodeId(2, String("Plant")), name);
    REQUIRE(shown);
    CHECK(shown->front().value == Variant(LocalizedText("Anlage", "de")));
    co_await session->close();
  });
}

}  // namespace zunth::model_reader_test
