#include "core/ua/text.hpp"

#include "core/ua/generated/structures.hpp"
#include "core/ua/index_range.hpp"
#include "core/ua/json.hpp"

#include <catch2/catch.hpp>

namespace zunth::text_test {

using namespace zunth::ua;

TEST_CASE("typed text becomes a value of the type that is wanted", "[ua][text]") {
  struct Case {
    const char* text;
    BuiltInType type;
    Variant value;
  };
  const std::vector<Case> cases{
      {"true", BuiltInType::Boolean, true},
      {"off", BuiltInType::Boolean, false},
      {" 42 ", BuiltInType::Byte, std::uint8_t{42}},
      {"-128", BuiltInType::SByte, std::int8_t{-128}},
      {"0xFF", BuiltInType::UInt16, std::uint16_t{255}},
      {"1e3", BuiltInType::Double, 1000.0},
      {"0.1", BuiltInType::Float, 0.1f},
      {" a b ", BuiltInType::String, " a b "},
      {"i=5", BuiltInType::NodeId, NodeId(5u)},
      {"BadNoCommunication", BuiltInType::StatusCode, status::BadNoCommunication},
      {"2026-05-04T07:30:00Z", BuiltInType::DateTime, *DateTime::parse("2026-05-04T07:30:00Z")},
      {"QUI=", BuiltInType::ByteString, ByteString("AB", 2)}};
  for (const auto& c : cases) {
    INFO(c.text);
    auto value = parse(c.text, c.type);
    REQUIRE(value);
    CHECK(*value == c.value);
  }
  CHECK(*parse("[1, 2,3]", BuiltInType::Int32, true) == Variant::array({1, 2, 3}));
  CHECK(*parse("1.5, 2", BuiltInType::Double, true) == Variant::array({1.5, 2.0}));
  CHECK(parse("[]", BuiltInType::String, true)->length() == 0);
}

TEST_CASE("text that is no such value says why", "[ua][text]") {
  struct Case {
    const char* text;
    BuiltInType type;
    StatusCode code;
  };
  for (const auto& c : std::vector<Case>{{"maybe", BuiltInType::Boolean, status::BadTypeMismatch},
                                         {"256", BuiltInType::Byte, status::BadOutOfRange},
                                         {"-1", BuiltInType::UInt32, status::BadOutOfRange},
                                         {"1.5", BuiltInType::Int32, status::BadTypeMismatch},
                                         {"", BuiltInType::Double, status::BadTypeMismatch},
                                         {"12x", BuiltInType::Double, status::BadTypeMismatch},
                                         {"1e999", BuiltInType::Double, status::BadOutOfRange},
                                         {"yesterday", BuiltInType::DateTime, status::BadTypeMismatch},
                                         {"x", BuiltInType::ExtensionObject, status::BadNotSupported}}) {
    INFO(c.text);
    CHECK(parse(c.text, c.type).code() == c.code);
  }
}

TEST_CASE("numbers change their type only when they fit", "[ua][text]") {
  CHECK(*convert(Variant(41.0), BuiltInType::UInt16) == Variant(std::uint16_t{41}));
  CHECK(*convert(Variant(41.6), BuiltInType::Int32, true) == Variant(42));
  CHECK(*convert(Variant(std::int64_t{INT64_MAX}), BuiltInType::UInt64) == Variant(std::uint64_t{INT64_MAX}));
  CHECK(*convert(Variant(std::uint16_t{1}), BuiltInType::Boolean) == Variant(true));
  CHECK(convert(Variant(41.6), BuiltInType::Int32).code() == status::BadOutOfRange);
  CHECK(convert(Variant(-1.0), BuiltInType::UInt64).code() == status::BadOutOfRange);
  CHECK(convert(Variant(9.3e18), BuiltInType::Int64).code() == status::BadOutOfRange);
  CHECK(convert(Variant(1e300), BuiltInType::Float).code() == status::BadOutOfRange);
  CHECK(convert(Variant(std::numeric_limits<double>::quiet_NaN()), BuiltInType::Int32).code() == status::BadOutOfRange);
  CHECK(convert(Variant("5"), BuiltInType::Int32).code() == status::BadTypeMismatch);
}

TEST_CASE("values read well", "[ua][text]") {
  CHECK(format(Variant(0.1f)) == "0.1");
  CHECK(format(Variant(1e21)) == "1e+21");
  CHECK(format(Variant::array(std::vector<std::int32_t>{1, 2, 3, 4}, {2, 2})) == "[[1, 2], [3, 4]]");
  const Variant hollow = Variant::array(FixedArray<String>(), {2'000'000'000, 0});
  CHECK(format(hollow) == "[]");
  CHECK(toJson(hollow).dump() == "[]");
  CHECK(format(Variant(ExtensionObject::of(Range{0, 50}))) == "{Low: 0, High: 50}");
  CHECK(format(Variant(ExtensionObject::binary(NodeId(3, 9u), ByteString("xy", 2)))) ==
        "structure ns=3;i=9 (2 octets)");
  CHECK(toJson(Variant(0.1f)).dump() == "0.1");
  CHECK(toJson(Variant(std::int64_t{5})).dump() == "\"5\"");
  CHECK(toJson(Variant(std::numeric_limits<double>::infinity())).dump() == "\"Infinity\"");
  CHECK(toJson(Variant(ExtensionObject::of(EUInformation{"u", 1, LocalizedText("kPa"), {}}))).dump() ==
        R"({"NamespaceUri":"u","UnitId":1,"DisplayName":"kPa","Description":null})");
}

TEST_CASE("a slip of the finger finds its word", "[ua][text]") {
  const std::vector<std::string> words{"Double", "Float", "DrumFilter", "pressure"};
  CHECK(nearest("Duoble", words) == "Double");
  CHECK(nearest("presure", words) == "pressure");
  CHECK(nearest("drumfilter", words) == "DrumFilter");
  CHECK(nearest("temperature", words).empty());
}

TEST_CASE("index ranges take and replace parts", "[ua][range][cu:Attribute Write Index][cu:Attribute Read Index]") {
  const Variant list = Variant::array({10, 11, 12, 13, 14});
  const Variant matrix = Variant::array(std::vector<std::int32_t>{1, 2, 3, 4, 5, 6}, {2, 3});
  const Variant words = Variant::array({String("alpha"), String("be")});
  auto of = [](const Variant& value, const char* text) {
    auto range = IndexRange::parse(text);
    return range ? range->of(value) : Result<Variant>(range.error());
  };
  CHECK(*of(list, "1:3") == Variant::array({11, 12, 13}));
  CHECK(*of(list, "4") == Variant::array({14}));
  CHECK(*of(list, "3:9") == Variant::array({13, 14}));
  CHECK(*of(matrix, "1,0:1") == Variant::array(std::vector<std::int32_t>{4, 5}, {1, 2}));
  CHECK(*of(Variant("trout"), "1:2") == Variant("ro"));
  CHECK(*of(words, "0:1,1:2") == Variant::array({String("lp"), String("e")}));
  CHECK(of(list, "5").code() == status::BadIndexRangeNoData);
  CHECK(of(Variant(5), "0").code() == status::BadIndexRangeNoData);
  CHECK(of(matrix, "0").code() == status::BadIndexRangeNoData);
  for (const char* wrong : {"1:", ":1", "2:1", "1:1", "a", "1,", "-1", "1;2"}) {
    INFO(wrong);
    CHECK(IndexRange::parse(wrong).code() == status::BadIndexRangeInvalid);
  }
  CHECK(*IndexRange::parse("1:2")->replace(list, Variant::array({7, 8})) == Variant::array({10, 7, 8, 13, 14}));
  CHECK(*IndexRange::parse("0:1,2")->replace(matrix, Variant::array(std::vector<std::int32_t>{8, 9}, {2, 1})) ==
        Variant::array(std::vector<std::int32_t>{1, 2, 8, 4, 5, 9}, {2, 3}));
  CHECK(*IndexRange::parse("1:2")->replace(Variant("trout"), Variant("XY")) == Variant("tXYut"));
  CHECK(IndexRange::parse("1:2")->replace(list, Variant::array({7})).code() == status::BadIndexRangeDataMismatch);
  CHECK(IndexRange::parse("4:5")->replace(list, Variant::array({7, 8})).code() == status::BadIndexRangeNoData);
  CHECK(IndexRange::parse("0")->replace(list, Variant::array({1.0})).code() == status::BadTypeMismatch);
}

}  // namespace zunth::text_test
