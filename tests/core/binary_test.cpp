#include "core/ua/structure_codec.hpp"

#include "tests/hex.hpp"
#include <catch2/catch.hpp>

namespace zunth::binary_test {

using namespace zunth::ua;
using zunth::test::hex;
using zunth::test::unhex;

namespace {

template <class T>
void same(const T& value, std::string_view octets) {
  CHECK(hex(encode(value)) == hex(unhex(octets)));
  auto back = decode<T>(unhex(octets));
  REQUIRE(back);
  CHECK(*back == value);
}

template <class T>
StatusCode failure(std::string_view octets) {
  const Bytes in = unhex(octets);
  return decode<T>(in).code();
}

}  // namespace

TEST_CASE("the examples printed in Part 6 encode as printed", "[ua][binary][cu:UA Binary Encoding]") {
  same(std::int32_t{1'000'000'000}, "00 CA 9A 3B");
  same(-6.5f, "00 00 D0 C0");
  same(String("水Boy"), "06 00 00 00 E6 B0 B4 42 6F 79");
  same(*Guid::parse("72962B91-FA75-4AE6-8D28-B404DC7DAF63"), "91 2B 96 72 75 FA E6 4A 8D 28 B4 04 DC 7D AF 63");
  same(XmlElement("<A>Hot水</A>"), "0D 00 00 00 3C 41 3E 48 6F 74 E6 B0 B4 3C 2F 41 3E");
  same(NodeId(1, String("Hot水")), "03 01 00 06 00 00 00 48 6F 74 E6 B0 B4");
  same(NodeId(72u), "00 48");
  same(NodeId(5, 1025u), "01 05 01 04");
}

TEST_CASE("null and empty stay apart", "[ua][binary]") {
  same(String(), "FF FF FF FF");
  same(String(""), "00 00 00 00");
  same(ByteString(), "FF FF FF FF");
  same(List<std::uint32_t>(), "FF FF FF FF");
  same(List<std::uint32_t>::emptyNotNull(), "00 00 00 00");
  same(LocalizedText(), "00");
  same(LocalizedText(String("")), "02 00 00 00 00");
}

TEST_CASE("variants of every built-in type survive a round trip", "[ua][binary]") {
  const DataValue measured(Variant(3.5), DateTime{132'000'000'000'000'000}, zunth::ua::status::UncertainInitialValue);
  DiagnosticInfo outer;
  outer.additionalInfo = String("why");
  outer.inner = std::make_shared<DiagnosticInfo>();
  const std::vector<Variant> values{Variant(),
                                    Variant(true),
                                    Variant(std::int8_t{-5}),
                                    Variant(std::uint8_t{200}),
                                    Variant(std::int16_t{-30000}),
                                    Variant(std::uint16_t{60000}),
                                    Variant(-2'000'000'000),
                                    Variant(4'000'000'000u),
                                    Variant(std::int64_t{INT64_MIN}),
                                    Variant(std::uint64_t{UINT64_MAX}),
                                    Variant(1.25f),
                                    Variant(-0.1),
                                    Variant("trout"),
                                    Variant(DateTime{1}),
                                    Variant(Guid{1, 2, 3, {4, 5, 6, 7, 8, 9, 10, 11}}),
                                    Variant(ByteString("\0\xff", 2)),
                                    Variant(XmlElement("<a/>")),
                                    Variant(NodeId(2, String("Hatchery/Intake"))),
                                    Variant(ExpandedNodeId(NodeId(70000u))),
                                    Variant(zunth::ua::status::BadNoCommunication),
                                    Variant(QualifiedName{2, "pressure"}),
                                    Variant(LocalizedText("Druck", "de")),
                                    Variant(ExtensionObject::binary(NodeId(3, 9u), ByteString("xy", 2))),
                                    Variant(measured),
                                    Variant(outer),
                                    Variant::array({true, false, true}),
                                    Variant::array({1.5, 2.5}),
                                    Variant::array({String("a"), String()}),
                                    Variant::array(std::vector<double>{}),
                                    Variant::array({Variant(1), Variant("two")}),
                                    Variant::array(std::vector<std::int32_t>{1, 2, 3, 4, 5, 6}, {2, 3})};
  for (const auto& value : values) {
    const auto back = decode<Variant>(encode(value));
    INFO(hex(encode(value)));
    REQUIRE(back);
    CHECK(*back == value);
  }
  const auto matrix = decode<Variant>(encode(values.back()));
  CHECK(std::vector<std::uint32_t>(matrix->dimensions().begin(), matrix->dimensions().end()) ==
        std::vector<std::uint32_t>{2, 3});
}

TEST_CASE("unsound octets end in an error that names their kind", "[ua][binary]") {
  using namespace zunth::ua::status;
  CHECK(failure<std::int32_t>("01 02") == BadDecodingError);
  CHECK(failure<String>("FF FF FF 7F 41") == BadDecodingError);   // a length beyond the end
  CHECK(failure<Variant>("86 FF FF FF 7F") == BadDecodingError);  // an array that can't be there
  CHECK(failure<Variant>("18 00") == BadDecodingError);           // a Variant directly in a Variant
  CHECK(failure<Variant>("46 01 00 00 00") == BadDecodingError);  // dimensions without an array
  CHECK(failure<Variant>("C6 02 00 00 00 01 00 00 00 02 00 00 00 02 00 00 00 03 00 00 00 01 00 00 00") ==
        BadDecodingError);  // 3 x 1 is not 2
  CHECK(failure<NodeId>("07 00") == BadDecodingError);
  CHECK(failure<ExtensionObject>("00 00 05") == BadDecodingError);
  CHECK(failure<Variant>("20") == BadDecodingError);
  CHECK(failure<std::uint8_t>("01 02") == BadDecodingError);  // something remains
}

TEST_CASE("nesting and sizes have limits", "[ua][binary]") {
  auto nested = [](int depth) {
    Variant v(1);
    for (int i = 0; i < depth; ++i) v = Variant::array({v});
    return encode(v);
  };
  CHECK(decode<Variant>(nested(90)));
  CHECK(decode<Variant>(nested(150)).code() == zunth::ua::status::BadEncodingLimitsExceeded);
  Bytes diagnostics(200, std::byte{0x40});  // each octet opens an inner one
  CHECK(decode<DiagnosticInfo>(diagnostics).code() == zunth::ua::status::BadEncodingLimitsExceeded);
  CHECK(failure<Variant>("C6 00 00 00 00 02 00 00 00 FF FF FF 7F 00 00 00 00") ==
        zunth::ua::status::BadEncodingLimitsExceeded);
  DecodingLimits limits;
  limits.maxStringLength = 4;
  limits.maxArrayLength = 2;
  CHECK(decode<String>(encode(String("trout")), limits).code() == zunth::ua::status::BadEncodingLimitsExceeded);
  CHECK(decode<Variant>(encode(Variant::array({1, 2, 3})), limits).code() ==
        zunth::ua::status::BadEncodingLimitsExceeded);
}

TEST_CASE("reserved variant types are read as ByteStrings", "[ua][binary]") {
  const auto value = decode<Variant>(unhex("1C 02 00 00 00 41 42"));
  REQUIRE(value);
  CHECK(value->type() == BuiltInType::ByteString);
}

TEST_CASE("an unknown structure keeps its octets", "[ua][binary]") {
  const Bytes in = unhex("01 03 E7 03 01 03 00 00 00 AA BB CC");
  const auto object = decode<ExtensionObject>(in);
  REQUIRE(object);
  CHECK(object->encodingId() == NodeId(3, 999u));
  CHECK(hex(encode(*object)) == hex(in));
  CHECK(object->as<Range>().code() == zunth::ua::status::BadDecodingError);
}

TEST_CASE("held and encoded structures are the same", "[ua][binary]") {
  const auto held = ExtensionObject::of(Range{0, 50});
  const auto wire = decode<ExtensionObject>(encode(held));
  REQUIRE(wire);
  CHECK(*wire == held);
  CHECK(*wire->as<Range>() == Range{0, 50});
}

TEST_CASE("node ids have a text form", "[ua]") {
  const std::vector<std::pair<std::string, NodeId>> cases{
      {"i=84", NodeId(84u)},
      {"ns=2;i=4294967295", NodeId(2, 4294967295u)},
      {"ns=2;s=Hatchery/Intake/DF1;x=1", NodeId(2, String("Hatchery/Intake/DF1;x=1"))},
      {"ns=65535;s=", NodeId(65535, String(""))},
      {"g=09087e75-8e5e-499b-954f-f2a9603db28a", NodeId(0, *Guid::parse("09087e75-8e5e-499b-954f-f2a9603db28a"))},
      {"ns=1;b=M/RbKBsRVkePCePcx24oRA==", NodeId(1, ByteString(unhex("33f45b281b1156478f09e3dcc76e2844")))}};
  for (const auto& [text, id] : cases) {
    CHECK(id.text() == text);
    REQUIRE(NodeId::parse(text));
    CHECK(*NodeId::parse(text) == id);
    CHECK(NodeId::parse(text)->hash() == id.hash());
  }
  for (const char* wrong :
       {"", "84", "i=", "i=-1", "i=4294967296", "ns=;i=1", "ns=70000;i=1", "ns=1,i=1", "g=123", "b=!", "x=1", "i=1 "})
    CHECK(NodeId::parse(wrong).code() == zunth::ua::status::BadNodeIdInvalid);
  const auto expanded = ExpandedNodeId::parse("svr=2;nsu=http://a%3Bb%25;s=x");
  REQUIRE(expanded);
  CHECK(expanded->namespaceUri.view() == "http://a;b%");
  CHECK(expanded->text() == "svr=2;nsu=http://a%3Bb%25;s=x");
  CHECK(ExpandedNodeId::parse("nsu=http://a;ns=2;s=x").code() == status::BadNodeIdInvalid);
}

TEST_CASE("times are read and written to 100 ns", "[ua]") {
  for (const char* text :
       {"2026-05-04T07:30:00Z", "1601-01-01T00:00:00Z", "2000-02-29T23:59:59.9999999Z", "2026-05-04T07:30:00.125Z"})
    CHECK(DateTime::parse(text)->text() == text);
  CHECK(DateTime::parse("1970-01-01T00:00:00Z")->ticks == 116'444'736'000'000'000);
  for (const char* wrong :
       {"2026-02-30T00:00:00Z", "2026-05-04 07:30:00Z", "2026-05-04T07:30:00", "2026-05-04T24:00:00Z", ""})
    CHECK(!DateTime::parse(wrong));
  const auto now = std::chrono::system_clock::now();
  CHECK(std::chrono::abs(DateTime::from(now).time() - now) < std::chrono::nanoseconds(100));
}

TEST_CASE("copies share and the last holder frees", "[ua]") {
  Variant a = Variant::array({String("one"), String("two")});
  {
    Variant b = a, c = std::move(b);
    CHECK(c.items<String>().data() == a.items<String>().data());
    b = c;
    b = b;
    c = Variant(5);
    CHECK(b == a);
  }
  CHECK(a.items<String>()[1].view() == "two");
}

}  // namespace zunth::binary_test
