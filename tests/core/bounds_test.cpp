// What comes from outside has bounds: numbers, depth, length, steps.
#include "core/channel/json_message.hpp"
#include "core/ua/allowance.hpp"
#include "core/ua/due_heap.hpp"
#include "core/ua/footprint.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/json_parser.hpp"
#include "core/ua/slice.hpp"
#include "core/ua/steps.hpp"
#include "core/ua/structure_codec.hpp"
#include "core/ua/text.hpp"

#include <random>

#include <catch2/catch.hpp>

namespace zunth::bounds_test {

using namespace zunth::ua;

namespace {

/// A structure in a structure in a structure; no reader of one sees how deep it goes.
ExtensionObject nested(int levels) {
  ExtensionObject inner;
  for (int i = 0; i < levels; ++i) {
    EventFilter filter;
    ua::ContentFilterElement element;
    element.filterOperands.push_back(ExtensionObject::of(LiteralOperand{Variant(std::move(inner))}));
    filter.whereClause.elements.push_back(std::move(element));
    inner = ExtensionObject::binary(NodeId(EventFilter::kBinaryId), ByteString(BytesView(encode(filter))));
  }
  return inner;
}

}  // namespace

TEST_CASE("any number of milliseconds is a time", "[bounds]") {
  const double infinite = std::numeric_limits<double>::infinity();
  const Duration century = milliseconds(infinite);
  CHECK(century > std::chrono::hours(24 * 365 * 99));
  // A century from a clock that has run for one is still a moment.
  CHECK(Instant(century) + century > Instant(century));
  for (const double ms : {1e15, 1e300, 1e18, 9.3e12}) CHECK(milliseconds(ms) == century);
  for (const double ms : {-1e300, -infinite}) CHECK(milliseconds(ms) == -century);
  for (const double ms : {std::nan(""), 0.0, 5e-324, 1e-300, 1e-7}) CHECK(milliseconds(ms) == Duration::zero());
  CHECK(milliseconds(1.5) == std::chrono::microseconds(1500));
  CHECK(revised(std::nan(""), 10, 1000) == 10);
  CHECK(revised(-infinite, 10, 1000) == 10);
  CHECK(revised(infinite, 10, 1000) == 1000);
  CHECK(revised(11, 10, 1000) == 11);
}

TEST_CASE("a text is no longer and no deeper than it may be", "[bounds]") {
  CHECK(format(Variant("pressure is fine"), {8, 10}) == "pressure...");
  CHECK(format(Variant("häääh"), {2, 10}) == "h...");  // not within a character
  const std::vector<double> numbers(100'000, 1.25);
  CHECK(format(Variant::array(numbers), {20, 10}).size() <= 24);
  CHECK(format(Variant(ByteString(std::string(1'000'000, 'x').data(), 1'000'000)), {50, 10}).size() <= 53);
  // 8,000 levels are shown as far as anybody reads; nothing runs out of stack.
  const std::string deep = format(Variant(nested(400)));
  CHECK(deep.find("...") != std::string::npos);
  std::vector<Variant> within(1, Variant(1.0));
  for (int i = 0; i < 200; ++i) within = {Variant::array(within)};
  CHECK(format(Variant::array(within)).find("...") != std::string::npos);
}

TEST_CASE("a message takes no more memory than it is worth", "[bounds]") {
  // One octet each on the wire, and 72 in memory.
  Bytes octets;
  BinaryWriter writer(octets);
  writer.write(std::int32_t{900'000});
  octets.resize(octets.size() + 900'000);
  BinaryReader reader(octets);
  (void)reader.next<List<DiagnosticInfo>>();
  CHECK(reader.code() == status::BadEncodingLimitsExceeded);
  Bytes matrix;
  BinaryWriter dimensions(matrix);
  dimensions.write(std::uint8_t{0xC0 | 6});  // an Int32 matrix
  dimensions.write(std::int32_t{1});
  dimensions.write(std::int32_t{7});
  dimensions.write(std::int32_t{50'000});
  for (int i = 0; i < 50'000; ++i) dimensions.write(std::int32_t{1});
  BinaryReader second(matrix);
  (void)second.next<Variant>();
  CHECK(second.code() == status::BadEncodingLimitsExceeded);
  Bytes negative;
  BinaryWriter(negative).write(std::int32_t{-2});
  BinaryReader third(negative);
  (void)third.next<String>();
  CHECK(third.code() == status::BadDecodingError);
}

TEST_CASE("JSON from strangers is read within bounds", "[bounds]") {
  struct Case {
    const char* what;
    std::string text;
    StatusCode code;
  };
  std::string members = "{";
  for (int i = 0; i < 40'000; ++i) members += "\"k" + std::to_string(i) + "\":1,";
  members.back() = '}';
  const std::string deep = std::string(100'000, '[') + std::string(100'000, ']');
  std::string many = "[0";
  for (int i = 0; i < 2'100'000; ++i) many += ",0";
  const std::vector<Case> cases{
      {"nested lists", deep, status::BadEncodingLimitsExceeded},
      {"a list that never ends", std::string(100'000, '['), status::BadEncodingLimitsExceeded},
      {"nested objects",
       [] {
         std::string text;
         for (int i = 0; i < 5'000; ++i) text += "{\"a\":";
         return text;
       }(),
       status::BadEncodingLimitsExceeded},
      {"40,000 members", members, status::BadEncodingLimitsExceeded},
      {"two million values", many + "]", status::BadEncodingLimitsExceeded},
      {"half a text", "\"abc", status::BadDecodingError},
      {"nothing", "", status::BadDecodingError},
      {"two", "1 2", status::BadDecodingError},
      {"octets", "\xFF\xFE", status::BadDecodingError},
  };
  for (const auto& c : cases) {
    INFO(c.what);
    CHECK(parseJson(c.text).code() == c.code);
    CHECK(channel::messageFromJson(c.text).code().isBad());
  }
  CHECK(channel::messageFromJson("{\"TypeId\":422,\"Body\":" + deep + "}").code() == status::BadEncodingLimitsExceeded);
  const std::string within = std::string(90, '[') + std::string(90, ']');
  const auto refused = channel::messageFromJson("{\"TypeId\":422,\"Body\":" + within + "}");
  REQUIRE(!refused);
  CHECK(refused.error().text().size() < 200);
  const auto read = parseJson(R"({"a": [1, {"b": null}, "x"], "c": -2.5, "a": true})");
  REQUIRE(read);
  CHECK(read->dump() == R"({"a":true,"c":-2.5})");  // the last of a name counts
}

TEST_CASE("foreign text moves no cursor and forges no line", "[bounds]") {
  CHECK(shown("Fernhollow Trübung 10 µm €") == "Fernhollow Trübung 10 µm €");
  CHECK(shown("a\nb\r\tc") == "a\\nb\\r\\tc");
  CHECK(shown("\x1b[2J") == "\\x1b[2J");
  CHECK(shown("\xC2\x9B"
              "2J") == "\\x9b2J");  // a control of one character
  CHECK(shown("\xE2\x80\xAE"
              "gnp") == "\\u{202e}gnp");        // text that runs backwards
  CHECK(shown("\xE2\x80\x8B") == "\\u{200b}");  // nothing to see
  CHECK(shown("\xFF\xC0\x80\xED\xA0\x80") == "\\xff\\xc0\\x80\\xed\\xa0\\x80");
  CHECK(shown(std::string_view("\0", 1)) == "\\x00");
  CHECK(shown(std::string(1'000'000, 'x')).size() == 131);
  CHECK(shown("ääää", 3) == "ä...");
  CHECK(cut("ääää", 3) == "ä");
  // Whatever comes: one line, printable.
  std::mt19937 random(7);
  for (int i = 0; i < 2'000; ++i) {
    std::string noise(20, ' ');
    for (char& c : noise) c = static_cast<char>(random());
    for (const char c : shown(noise)) CHECK((static_cast<unsigned char>(c) >= 0x20 && c != 0x7F));
  }
}

TEST_CASE("what falls due comes in its order, whatever goes meanwhile", "[bounds]") {
  struct Thing : Due {
    int number = 0;
  };
  std::vector<std::unique_ptr<Thing>> things;
  DueHeap<Thing> heap;
  std::mt19937 random(11);
  for (int i = 0; i < 500; ++i) {
    things.push_back(std::make_unique<Thing>());
    things.back()->number = i;
    heap.put(*things.back(), Instant(std::chrono::milliseconds(random() % 100)));
  }
  for (int i = 0; i < 200; ++i) heap.put(*things[random() % 500], Instant(std::chrono::milliseconds(random() % 100)));
  for (int i = 0; i < 150; ++i) {
    auto& one = *things[static_cast<std::size_t>(i) * 3];
    heap.remove(one);
    heap.remove(one);
    CHECK(!one.isWaiting());
  }
  CHECK(heap.size() == 350);
  Instant last{};
  int taken = 0;
  while (Thing* next = heap.take(Instant(std::chrono::milliseconds(50)))) {
    CHECK(next->dueAt >= last);
    CHECK(next->dueAt <= Instant(std::chrono::milliseconds(50)));
    CHECK((next->number % 3 != 0 || next->number >= 450));
    last = next->dueAt;
    ++taken;
  }
  CHECK(heap.size() == 350u - static_cast<unsigned>(taken));
  CHECK(heap.next() > Instant(std::chrono::milliseconds(50)));
}

TEST_CASE("a message has no more parts than it may have", "[bounds]") {
  const LocalizedText text{"en", "x"};
  const struct {
    Variant value;
    std::uint32_t parts;
  } cases[] = {
      {Variant(5), 0},
      {Variant("x"), 1},
      {Variant(text), 3},
      {Variant::array({1, 2, 3}), 1},
      {Variant::array({String("x"), String(), String("z")}), 3},
      {Variant::array({text, text}), 5},
      {Variant::array({Variant("x"), Variant(1.5), Variant::array({Variant("z")})}), 4},
      {Variant(NodeId(1, "name")), 2},
      {Variant::array(std::vector<Variant>(40)), 11},
      {Variant::array(std::vector<double>(40)), 1},
      {Variant::array(std::vector<DateTime>(40)), 1},
      {Variant(ExtensionObject::of(Range{0, 1})), 2},
  };
  for (const auto& [value, parts] : cases) {
    CAPTURE(format(value));
    const Bytes octets = encode(value);
    CHECK(decode<Variant>(octets, {.maxParts = parts}).code() == status::Good);
    if (parts > 0) CHECK(decode<Variant>(octets, {.maxParts = parts - 1}).code() == status::BadEncodingLimitsExceeded);
  }
}

TEST_CASE("an allowance is part of a larger one", "[bounds]") {
  Allowance all(1000);
  {
    Allowance one(600, &all), other(600, &all);
    one.hold(500);
    CHECK(!one.isOver());
    CHECK(one.isOver(2));  // than half of it
    other.hold(550);
    CHECK(one.isOver());  // together they hold too much
    other.release(100);
    CHECK(!one.isOver());
    one.hold(200);
    CHECK(one.isOver());
    // Who holds little keeps it, whatever others do.
    Allowance small(600, &all);
    small.hold(30);
    other.hold(200);
    CHECK(all.isOver());
    CHECK(!small.isOver());
    CHECK(other.isOver());
    other.release(200);
    one.moveTo(nullptr);
    CHECK(all.held() == 480);
    one.release(5000);
    CHECK(one.held() == 0);
  }
  CHECK(all.held() == 0);
}

TEST_CASE("a slice is over when its time is", "[bounds]") {
  Instant now{};
  Slice slice([&] { return now; }, std::chrono::milliseconds(2));
  for (int i = 0; i < 100; ++i) CHECK(!slice.isOver());
  now += std::chrono::milliseconds(3);
  int steps = 0;
  while (!slice.isOver()) ++steps;
  CHECK(steps < 16);
  CHECK(slice.lookAgain());
  Slice endless;
  CHECK(!endless.lookAgain());
  Steps few(10);
  for (int i = 0; i < 10; ++i) CHECK(few.take());
  CHECK(!few.take());
  CHECK(few.isOut());
}

TEST_CASE("a value's footprint is about what it holds", "[bounds]") {
  const auto many = Variant::array(std::vector<Variant>(1'000, Variant(String(std::string(100, 'x')))));
  CHECK(footprint(many) > 100'000);
  CHECK(footprint(many, 50'000) > 50'000);
  CHECK(footprint(many, 50'000) < 51'000);
  CHECK(footprint(Variant(1.5)) == 0);
  CHECK(footprint(Variant(String(std::string(1'000, 'x')))) >= 1'000);
  CHECK(footprint(Variant::array(std::vector<double>(1'000))) == 8'000);
  std::vector<String> texts(10, String(std::string(100, 'x')));
  CHECK(footprint(Variant::array(texts)) >= 1'000);
  std::vector<Variant> within{Variant::array(texts), Variant(1)};
  CHECK(footprint(Variant::array(within)) >= 1'000);
}

}  // namespace zunth::bounds_test
