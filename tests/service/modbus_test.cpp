#include "service/device/device_file.hpp"
#include "service/device/modbus_points.hpp"

#include <catch2/catch.hpp>

namespace zunth::modbus_test {

using namespace zunth::ua;
using namespace zunth::device::modbus;

namespace {

/// A point and what is made of its values.
struct Made : ModbusPoint {
  device::Conversion conversion;
};

std::optional<Made> point(const std::string& words, model::Findings& findings) {
  device::Conversion conversion;
  auto made = parsePoint({"p", {}}, {words, {"d.yaml", 1, 1, words.size()}}, conversion, findings);
  if (!made) return std::nullopt;
  return Made{*made, conversion};
}

Made point(const std::string& words) {
  model::Findings findings;
  auto made = point(words, findings);
  INFO(words);
  REQUIRE(made);
  return *made;
}

Variant shown(const Made& made, std::vector<std::uint16_t> registers) {
  return *made.conversion.toNode(decode(made.place, registers));
}
Result<std::vector<std::uint16_t>> written(const Made& made, const Variant& value) {
  const auto raw = made.conversion.toDevice(value, made.point.type);
  if (!raw) return raw.error();
  return encode(made.place, *raw);
}

}  // namespace

TEST_CASE("registers become values and values registers, in every order", "[modbus]") {
  struct Case {
    const char* words;
    std::vector<std::uint16_t> registers;
    Variant value;
  };
  const std::vector<Case> cases{
      {"holding 0", {65535}, std::uint16_t{65535}},
      {"holding 0 Int16", {0xFFFE}, std::int16_t{-2}},
      {"holding 0 Int32", {0xFFFF, 0xFFFE}, -2},
      {"holding 0 UInt32", {0x0001, 0x0002}, 65538u},
      {"holding 0 UInt32 low-word-first", {0x0002, 0x0001}, 65538u},
      {"holding 0 UInt32 low-byte-first", {0x0100, 0x0200}, 65538u},
      {"holding 0 Int64", {0xFFFF, 0xFFFF, 0xFFFF, 0xFFFF}, std::int64_t{-1}},
      {"holding 0 UInt64", {0, 0, 1, 0}, std::uint64_t{65536}},
      {"holding 0 Float", {0xC0D0, 0x0000}, -6.5f},
      {"holding 0 Float low-word-first low-byte-first", {0x0000, 0xD0C0}, -6.5f},
      {"holding 0 Double", {0xC01A, 0, 0, 0}, -6.5},
      {"holding 0 UInt16 scale 0.5 offset -40", {100}, 10.0},
      {"holding 0 UInt16 scale 0.1", {18946}, 1894.6},
      {"holding 0 String 3", {0x4648, 0x2D31, 0x0000}, "FH-1"},
      {"holding 0 String 2 low-byte-first", {0x4846, 0x312D}, "FH-1"},
      {"coil 3", {1}, true},
      {"holding 0 Int16[3]", {1, 0xFFFF, 3}, Variant::array({std::int16_t{1}, std::int16_t{-1}, std::int16_t{3}})},
      {"holding 0 Float[2] low-word-first", {0, 0xC0D0, 0, 0x3F80}, Variant::array({-6.5f, 1.0f})},
      {"holding 0 UInt16[2] scale 0.1", {215, 5}, Variant::array({21.5, 0.5})},
      {"holding 0 BCD[2]", {0x0042, 0x9999}, Variant::array({std::uint16_t{42}, std::uint16_t{9999}})},
      {"coil 0 Boolean[3]", {1, 0, 1}, Variant::array({true, false, true})},
      {"holding 0 UInt32 time-in s", {0x6553, 0xF100}, *DateTime::parse("2023-11-14T22:13:20Z")},
  };
  for (const auto& c : cases) {
    INFO(c.words);
    const auto p = point(c.words);
    CHECK(p.place.count == c.registers.size());
    CHECK(shown(p, c.registers) == c.value);
    const auto back = written(p, c.value);
    REQUIRE(back);
    CHECK(*back == c.registers);
  }
  const auto bit = point("input 8 bit 3");
  CHECK(shown(bit, {8}) == Variant(true));
  CHECK(shown(bit, {7}) == Variant(false));
}

TEST_CASE("values that registers can't hold are refused", "[modbus]") {
  CHECK(written(point("holding 0"), Variant(70000.0)).code() == status::BadOutOfRange);
  CHECK(written(point("holding 0 Int16 scale 0.1"), Variant(4000.0)).code() == status::BadOutOfRange);
  CHECK(written(point("holding 0 String 1"), Variant("abc")).code() == status::BadOutOfRange);
  CHECK(written(point("holding 0 String 1"), Variant(5)).code() == status::BadTypeMismatch);
  CHECK(written(point("holding 0"), Variant("abc")).code() == status::BadTypeMismatch);
  const auto row = point("holding 0 Int16[2]");
  CHECK(written(row, Variant(5)).code() == status::BadTypeMismatch);
  CHECK(written(row, Variant::array({1, 2, 3})).code() == status::BadTypeMismatch);
  CHECK(written(row, Variant::array({1, 70'000})).code() == status::BadOutOfRange);
  CHECK(written(point("holding 0"), Variant::array({1})).code() == status::BadTypeMismatch);
}

TEST_CASE("points that make no sense are named", "[modbus]") {
  for (const auto& [words, message] : std::vector<std::pair<std::string, std::string>>{
           {"holdng 0", "there is no table 'holdng'"},
           {"holding", "a point is a table and an address"},
           {"holding 70000", "'70000' is no address"},
           {"holding 0 Flaot", "'Flaot' means nothing here"},
           {"holding 0 String", "a String needs its number of registers, 1 to 125"},
           {"holding 0 bit 16", "a UInt16 has the bits 0 to 15"},
           {"coil 0 Float", "a coil is a Boolean, no Float"},
           {"coil 0 scale 2", "only numbers can be scaled"},
           {"holding 0 scale 0", "'scale' needs a number other than 0"},
           {"holding 65535 Float", "the point ends beyond address 65535"},
           {"holding 0 Float[0]", "'Float[0]' is no array"},
           {"holding 0 Float[x]", "'Float[x]' is no array"},
           {"holding 0 String[2]", "'String[2]' is no array"},
           {"holding 0 Float[63]", "125 registers are read at once at most, and the point has 126"},
           {"coil 0 Boolean[2000]", "1968 bits are written at once at most, and the point has 2000"},
           {"holding 65530 Float[4]", "the point ends beyond address 65535"},
           {"holding 0 UInt16[4] bit 3", "an array has no single bits"}}) {
    INFO(words);
    model::Findings findings;
    CHECK(!point(words, findings));
    REQUIRE(findings.list().size() == 1);
    CHECK(findings.list()[0].message == message);
  }
}

TEST_CASE("neighbours are read together, within the protocol's bounds", "[modbus]") {
  auto requests = [](std::vector<std::string> words, std::uint16_t gap) {
    std::vector<ModbusPoint> points;
    std::vector<device::PointIndex> all;
    for (const auto& w : words) {
      all.push_back(points.size());
      points.push_back(point(w));
    }
    std::vector<std::pair<int, int>> out;
    for (const auto& r : plan(points, all, gap)) out.emplace_back(r.first, r.count);
    return out;
  };
  using Runs = std::vector<std::pair<int, int>>;
  CHECK(requests({"input 2 Float", "input 0 Float", "input 4"}, 0) == Runs{{0, 5}});
  CHECK(requests({"input 0", "input 5"}, 0) == Runs{{0, 1}, {5, 1}});
  CHECK(requests({"input 0", "input 5"}, 4) == Runs{{0, 6}});
  CHECK(requests({"input 0", "holding 1"}, 8) == Runs{{0, 1}, {1, 1}});
  CHECK(requests({"input 0 String 100", "input 100 String 26"}, 0) == Runs{{0, 100}, {100, 26}});
  CHECK(requests({"input 0 String 100", "input 100 String 25"}, 0) == Runs{{0, 125}});
  CHECK(requests({"input 0 Float", "input 1"}, 0) == Runs{{0, 2}});  // overlapping
  CHECK(requests({"coil 0", "coil 1999"}, 2000) == Runs{{0, 2000}});
  CHECK(requests({"input 0 Float[62]", "input 124"}, 0) == Runs{{0, 125}});
  CHECK(requests({"coil 0", "coil 2000"}, 2000) == Runs{{0, 1}, {2000, 1}});
}

TEST_CASE("a device file is read whole, and every mistake in it found", "[modbus]") {
  model::Findings findings;
  const auto fine =
      device::readDeviceFile("d", "devices/d.yaml",
                             "driver: modbus-tcp\nport: 5502\nevery: 250 ms\npoints:\n  a: holding 0\n  b: coil "
                             "1\nactions:\n  go:\n    - a = input n\n    - b = true\n    - output ok = b\n",
                             findings);
  CHECK(findings.list().empty());
  CHECK(fine.every == 250);
  const auto grouped =
      device::readDeviceFile("d", "devices/d.yaml",
                             "driver: modbus-tcp\npoints:\n  a: input 0 bit 3\ngroups:\n  rarely:\n    "
                             "every: 1 min\n    points:\n      b: holding 1 named 0=off 1=on\n      "
                             "'c{1..2}': {point: 'coil {1..2}', every: 50 ms}\n",
                             findings);
  CHECK(findings.list().empty());
  REQUIRE(grouped.points.size() == 4);
  CHECK(grouped.points[3].name() == "c2");
  CHECK(grouped.points[3].every == 50);
  CHECK(grouped.points[0].every == 0);
  CHECK(!grouped.points[0].isWritable());
  CHECK(grouped.points[1].every == 60'000);
  CHECK(grouped.points[1].type() == BuiltInType::String);
  REQUIRE(fine.action("go"));
  CHECK(fine.action("go")->steps.size() == 3);
  device::readDeviceFile("d", "devices/d.yaml",
                         "driver: modbs\nprot: 5\nevery: soon\npoints:\n  a: input 0\n  b: {pont: input 1}\nactions:\n "
                         " go:\n    - a = 1\n   "
                         " - c = 1\n    - nonsense\n  idle:\n",
                         findings);
  std::vector<std::string> messages;
  for (const auto& f : findings.list()) messages.push_back(f.message);
  CHECK(messages == std::vector<std::string>{
                        "there is no driver 'modbs'", "'prot' means nothing here", "'soon' is no beat",
                        "'pont' means nothing here", "the point 'b' says nothing", "the point 'a' can't be written",
                        "there is no point 'c'", "'nonsense' is no step", "the action 'idle' does nothing"});
}

}  // namespace zunth::modbus_test
