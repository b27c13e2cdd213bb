// What words behind a point make of its value, and of what is written to it.
#include "service/device/conversion.hpp"

#include "service/device/plain_value.hpp"

#include <catch2/catch.hpp>

namespace zunth::conversion_test {

using namespace zunth::ua;
using namespace zunth::device;

namespace {

struct Read {
  Conversion conversion;
  std::string mistake;
};

Read read(const std::string& text, BuiltInType raw) {
  model::Findings findings;
  const model::Text whole{text, {"d.yaml", 1, 1, text.size()}};
  const auto words = wordsOf(whole);
  Read out;
  bool isSound = true;
  for (std::size_t at = 0; at < words.size() && isSound;) {
    const auto known = readConversion(words, at, out.conversion, findings);
    isSound = known && *known;
  }
  if (isSound) checkConversion(out.conversion, raw, whole, findings);
  if (!findings.list().empty()) out.mistake = findings.list()[0].message;
  if (!isSound && out.mistake.empty()) out.mistake = "a word of another kind";
  return out;
}

}  // namespace

TEST_CASE("a value is made of what comes, and back of what is written", "[device][conversion]") {
  struct Row {
    const char* words;
    Variant raw, shown;
    Variant back = {};  // what is written when the shown value is; the raw one when this is null
  };
  for (const Row& row : std::vector<Row>{
           {"scale 0.1", Variant(std::int16_t{215}), Variant(21.5)},
           {"scale 2 offset -40", Variant(std::uint16_t{50}), Variant(60.0)},
           {"from 4..20 to 0..100", Variant(12.0), Variant(50.0)},
           {"from 0..4095 to -10..10", Variant(std::uint16_t{4095}), Variant(10.0)},
           {"within 0..100", Variant(40.0), Variant(40.0)},
           {"within 0..100", Variant(std::int16_t{-3}), Variant(std::int16_t{0}), Variant(std::int16_t{0})},
           {"named 0=off 1=on", Variant(std::uint16_t{1}), Variant("on")},
           {"bit 3", Variant(std::uint16_t{8}), Variant(true), Variant(true)},
           {"bit 3 inverted", Variant(std::uint16_t{8}), Variant(false), Variant(true)},
           {"inverted", Variant(true), Variant(false)},
           {"means ON=true OFF=false", Variant("ON"), Variant(true)},
           {"means open=1 shut=0 scale 100", Variant("open"), Variant(100.0)},
           {"time-in s", Variant(1'700'000'000u), Variant(*DateTime::parse("2023-11-14T22:13:20Z"))},
           {"time-in ms", Variant(1'700'000'000'250.0), Variant(*DateTime::parse("2023-11-14T22:13:20.250Z"))},
           {"scale 0.1", Variant::array({std::int16_t{215}, std::int16_t{-5}}), Variant::array({21.5, -0.5})},
           {"inverted", Variant::array({true, false}), Variant::array({false, true})},
           {"named 0=off 1=on", Variant::array({std::uint16_t{1}, std::uint16_t{0}}),
            Variant::array({String("on"), String("off")})},
       }) {
    INFO(row.words);
    const auto made = read(row.words, row.raw.type());
    REQUIRE(made.mistake == "");
    const auto shown = made.conversion.toNode(row.raw);
    REQUIRE(shown);
    CHECK(*shown == row.shown);
    CHECK(made.conversion.typeFrom(row.raw.type()) == row.shown.type());
    const auto back = made.conversion.toDevice(row.shown, row.raw.type());
    REQUIRE(back);
    CHECK(*back == (row.back.isNull() ? row.raw : row.back));
  }
}

TEST_CASE("what can't be made has a reason", "[device][conversion]") {
  struct Row {
    const char* words;
    Variant value;
    StatusCode shown, written;
  };
  for (const Row& row : std::vector<Row>{
           {"named 0=off 1=on", Variant(7), status::BadOutOfRange, status::BadTypeMismatch},
           {"means ON=true", Variant("BROKEN"), status::BadOutOfRange, status::BadOutOfRange},
           {"within 0..100", Variant(101.0), status::Good, status::BadOutOfRange},
           {"scale 2", Variant("warm"), status::BadTypeMismatch, status::BadTypeMismatch},
           {"inverted", Variant("maybe"), status::BadTypeMismatch, status::BadTypeMismatch},
           {"time-in s", Variant(1e15), status::BadOutOfRange, status::BadTypeMismatch},
           {"time-in s", Variant("noon"), status::BadTypeMismatch, status::BadTypeMismatch},
           {"scale 2", Variant::array({String("1"), String("warm")}), status::BadTypeMismatch, status::BadTypeMismatch},
       }) {
    INFO(row.words);
    const auto made = read(row.words, BuiltInType::Variant);
    REQUIRE(made.mistake == "");
    CHECK(made.conversion.toNode(row.value).code() == row.shown);
    CHECK(made.conversion.toDevice(row.value, BuiltInType::Variant).code() == row.written);
  }
}

TEST_CASE("words that don't fit are named", "[device][conversion]") {
  struct Row {
    const char* words;
    BuiltInType raw;
    const char* mistake;
  };
  for (const Row& row : std::vector<Row>{
           {"from 4..20", BuiltInType::UInt16, "'from' needs two ranges"},
           {"from 4..4 to 0..1", BuiltInType::UInt16, "'from' needs two ranges"},
           {"within 9..1", BuiltInType::UInt16, "'within' needs a range"},
           {"deadband -1", BuiltInType::UInt16, "'deadband' needs a number from 0"},
           {"means", BuiltInType::String, "'means' needs meanings"},
           {"means ON=true", BuiltInType::UInt16, "only texts have meanings"},
           {"bit 64", BuiltInType::UInt64, "'bit' needs a number from 0"},
           {"bit 1", BuiltInType::Float, "only whole numbers have bits"},
           {"scale inf", BuiltInType::UInt16, "'scale' needs a number other than 0"},
           {"scale 2 inverted", BuiltInType::UInt16, "only what is true or false can be inverted"},
           {"deadband 1", BuiltInType::String, "only numbers have a deadband"},
           {"time-in", BuiltInType::UInt32, "'time-in' needs what the number counts since 1970"},
           {"time-in min", BuiltInType::UInt32, "'time-in' needs what the number counts since 1970"},
           {"time-in s scale 2", BuiltInType::UInt32, "only plain numbers count since 1970"},
           {"time-in s", BuiltInType::String, "only plain numbers count since 1970"},
       }) {
    INFO(row.words);
    CHECK(read(row.words, row.raw).mistake == row.mistake);
  }
}

TEST_CASE("a text says by itself what it is", "[device][conversion]") {
  struct Row {
    const char* text;
    Variant value;
  };
  for (const Row& row : std::vector<Row>{
           {"true", Variant(true)},
           {" 12 \r\n", Variant(std::int64_t{12})},
           {"+7", Variant(std::int64_t{7})},
           {"-0.5", Variant(-0.5)},
           {"1e3", Variant(1000.0)},
           {"9223372036854775808", Variant(9223372036854775808.0)},
           {"nan", Variant("nan")},
           {"inf", Variant("inf")},
           {"12 kg", Variant("12 kg")},
           {"1-2", Variant("1-2")},
           {"-", Variant("-")},
           {"", Variant("")},
       }) {
    INFO(row.text);
    CHECK(plainValue(row.text) == row.value);
  }
  // An old meter's degree sign and micro are no UTF-8.
  CHECK(plainValue("\xB5S") == Variant("\xC2\xB5S"));
  CHECK(plainValue("\xC2\xB5S") == Variant("\xC2\xB5S"));
  CHECK(plainText(Variant(0.1f)) == "0.1");
  CHECK(plainText(Variant(true)) == "true");
  CHECK(plainText(Variant("open")) == "open");
}

}  // namespace zunth::conversion_test
