#include "core/history/block.hpp"
#include "core/history/keeping.hpp"
#include "core/history/kept_event.hpp"
#include "core/history/reading.hpp"
#include "core/history/variables.hpp"
#include "core/space/namespace0.hpp"

#include <cmath>
#include <random>

#include <catch2/catch.hpp>

namespace zunth::history_test {

using namespace ua;
using namespace history;
using Samples = std::vector<DataValue>;

constexpr std::int64_t kSecond = 10'000'000;
const std::int64_t kNoon = 134'000'000'000'000'000;

DateTime at(double seconds) { return {kNoon + static_cast<std::int64_t>(seconds * kSecond)}; }

template <class Value>
DataValue sample(double seconds, Value value, StatusCode status = status::Good) {
  return DataValue(Variant(std::move(value)), at(seconds), status);
}
DataValue lost(double seconds) { return DataValue(Variant(), at(seconds), status::BadDataLost); }

// Blocks

TEST_CASE("blocks give back what was put in, whatever it is", "[history]") {
  const auto each = [](const std::vector<Variant>& values, auto change) {
    Samples out;
    for (std::size_t i = 0; i < values.size(); ++i) {
      out.push_back(sample(static_cast<double>(i), 0));
      out.back().value = values[i];
      change(out.back(), i);
    }
    return out;
  };
  const auto plain = [](DataValue&, std::size_t) {};
  const double inf = HUGE_VAL;
  const struct {
    const char* name;
    Samples samples;
  } cases[] = {
      {"decimals", each({1.5, 1.25, -3.125, 0.1, 1e9 + 0.3}, plain)},
      {"doubles that are no decimals", each({std::sqrt(2.0), 1e300, -0.0, inf, -inf, 5e-324}, plain)},
      {"floats", each({0.1f, 17.3f, -0.0f, 1e30f}, plain)},
      {"large whole doubles", each({1e15, 1e15 - 1, 9.007199254740993e15, 0.5}, plain)},
      {"integers", each({INT64_MIN, INT64_MAX, std::int64_t{0}}, plain)},
      {"unsigned", each({UINT64_MAX, std::uint64_t{0}, UINT64_MAX - 1}, plain)},
      {"bits", each({true, true, false, true}, plain)},
      {"small", each({std::int8_t{-128}, std::int8_t{127}}, plain)},
      {"words", each({"on", "off", ""}, plain)},
      {"arrays", each({Variant::array({1.0, 2.0}), Variant()}, plain)},
      {"types that change", each({1.0, "two", std::int32_t{3}}, plain)},
      {"nothing", each({Variant(), Variant()}, plain)},
      {"gaps and statuses", each({1.0, Variant(), 3.0, Variant()},
                                 [](DataValue& v, std::size_t i) {
                                   v.status = i % 2 ? status::BadNoCommunication : status::UncertainSubNormal;
                                 })},
      {"server times", each({1.0, 2.0, 3.0},
                            [](DataValue& v, std::size_t i) {
                              v.serverTimestamp = {v.sourceTimestamp.ticks + static_cast<std::int64_t>(i) * 1'000'000};
                            })},
      {"the same server times",
       each({1.0, 2.0}, [](DataValue& v, std::size_t) { v.serverTimestamp = v.sourceTimestamp; })},
      {"times of all kinds", each({1.0, 2.0, 3.0, 4.0},
                                  [](DataValue& v, std::size_t i) {
                                    const std::int64_t ticks[] = {INT64_MIN + 2, -1, 7, INT64_MAX - 1};
                                    v.sourceTimestamp.ticks = ticks[i];
                                  })},
  };
  for (const auto& each_ : cases) {
    CAPTURE(each_.name);
    const auto back = decodeBlock(encodeBlock(each_.samples));
    REQUIRE(back);
    REQUIRE(back->size() == each_.samples.size());
    for (std::size_t i = 0; i < back->size(); ++i) {
      CHECK((*back)[i] == each_.samples[i]);
      if (const double* value = each_.samples[i].value.get<double>())
        CHECK(std::signbit(*(*back)[i].value.get<double>()) == std::signbit(*value));
    }
  }
}

TEST_CASE("a slow signal takes three octets a sample at most, a constant one nearly nothing", "[history]") {
  std::mt19937 dice(1);
  Samples slow, constant;
  double level = 17;
  for (std::size_t i = 0; i < kMostInBlock; ++i) {
    level += static_cast<double>(static_cast<int>(dice() % 5) - 2) / 100;
    const double jitter = static_cast<double>(dice() % 40) / 1000;
    slow.push_back(sample(static_cast<double>(i) + jitter, std::round(level * 100) / 100));
    slow.back().sourceTimestamp.ticks -= slow.back().sourceTimestamp.ticks % 10'000;
    constant.push_back(sample(static_cast<double>(i), 4.5));
  }
  CHECK(encodeBlock(slow).size() < 3 * kMostInBlock);
  CHECK(encodeBlock(constant).size() < kMostInBlock / 20);
}

TEST_CASE("a block that was damaged anywhere is refused", "[history]") {
  Samples samples;
  for (int i = 0; i < 50; ++i) samples.push_back(sample(i * 1.5, i % 7 * 0.25));
  const Bytes good = encodeBlock(samples);
  for (std::size_t i = 0; i < good.size(); ++i)
    for (const auto bit : {1, 128}) {
      Bytes bad = good;
      bad[i] ^= static_cast<std::byte>(bit);
      const auto back = decodeBlock(bad);
      CHECK((!back || *back == samples));  // the frame's header has bits that mean nothing
    }
  for (std::size_t size = 0; size < good.size(); ++size) CHECK(!decodeBlock({good.data(), size}));
}

// Reading

const Samples kDay{sample(10, 1.0), sample(20, 2.0), sample(30, 3.0), sample(40, 4.0), sample(50, 5.0)};

std::vector<double> times(const Samples& samples) {
  std::vector<double> out;
  for (const auto& s : samples)
    out.push_back(static_cast<double>(s.sourceTimestamp.ticks - kNoon) / kSecond * (s.status.isBad() ? -1 : 1));
  return out;
}

TEST_CASE("raw values are read by start, end and number", "[history]") {
  // Part 11, 6.4.3: times of what comes, in its order; negative where a bound is missing.
  const DateTime none;
  const struct {
    DateTime start, end;
    std::uint32_t most;
    bool withBounds;
    std::vector<double> wanted;
  } cases[] = {
      {at(20), at(40), 0, false, {20, 30}},
      {at(15), at(45), 0, false, {20, 30, 40}},
      {at(15), at(45), 0, true, {10, 20, 30, 40, 50}},
      {at(20), at(40), 0, true, {20, 30, 40}},
      {at(0), at(25), 0, true, {-0.0, 10, 20, 30}},
      {at(45), at(90), 0, true, {40, 50, -90}},
      {at(60), at(90), 0, false, {}},
      {at(40), at(20), 0, false, {40, 30}},
      {at(45), at(15), 0, true, {50, 40, 30, 20, 10}},
      {at(40), at(20), 0, true, {40, 30, 20}},
      {at(15), none, 2, false, {20, 30}},
      {at(15), none, 3, true, {10, 20, 30}},
      {none, at(45), 2, false, {40, 30}},
      {none, at(45), 9, false, {40, 30, 20, 10}},
      {at(30), at(30), 0, false, {30}},
      {at(30), at(30), 0, true, {30}},
      {at(35), at(35), 0, false, {}},
      {at(35), at(35), 0, true, {30, 40}},
  };
  const HeldTimeline timeline(kDay);
  for (const auto& each : cases) {
    CAPTURE(times({DataValue(Variant(), each.start), DataValue(Variant(), each.end)}), each.most, each.withBounds);
    // Whole, and in parts of each size.
    for (const std::size_t size : {100, 1, 2, 3}) {
      CAPTURE(size);
      Samples all;
      std::optional<RawWish> wish = RawWish{each.start, each.end, each.most, each.withBounds};
      for (int parts = 0; wish; ++parts) {
        REQUIRE(parts < 20);
        auto part = readRaw(timeline, *wish, {size, 1 << 20, 1 << 20});
        REQUIRE(part);
        CHECK(part->values.size() <= size);
        all.insert(all.end(), part->values.begin(), part->values.end());
        wish = part->rest;
      }
      CHECK(times(all) == each.wanted);
    }
  }
  CHECK(readRaw(timeline, {at(1), none}, {}).code() == status::BadHistoryOperationInvalid);
  CHECK(readRaw(timeline, {none, none, 5}, {}).code() == status::BadHistoryOperationInvalid);
}

TEST_CASE("values at moments are found or calculated, part by part", "[history]") {
  Samples samples = kDay;
  samples[2] = lost(30);
  const HeldTimeline timeline(samples);
  const aggregate::Manner manner;
  Samples all;
  std::optional<AtTimeWish> wish = AtTimeWish{{at(20), at(25), at(30), at(5), at(60)}};
  while (wish) {
    auto part = readAtTime(timeline, *wish, manner, {2, 1 << 20, 1 << 20});
    REQUIRE(part);
    all.insert(all.end(), part->values.begin(), part->values.end());
    wish = part->rest;
  }
  REQUIRE(all.size() == 5);
  CHECK(all[0].value == Variant(2.0));
  CHECK(all[0].status.condition() == status::Good);
  CHECK(all[1].value == Variant(2.5));
  CHECK(all[1].status.condition() == status::UncertainDataSubNormal);
  CHECK(all[2].value == Variant(3.0));  // between 20 and 40
  CHECK(all[3].status == status::BadNoData);
  CHECK(all[4].value == Variant(5.0));
  const auto simple = readAtTime(timeline, {{at(25), at(30), at(35)}, true}, manner, {});
  CHECK(simple->values[0].value == Variant(2.0));
  CHECK(simple->values[1].status.condition() == status::BadDataLost);
  CHECK(simple->values[2].status == status::BadNoData);
}

TEST_CASE("aggregates come in parts that are the whole, whichever way time runs", "[history]") {
  const HeldTimeline timeline(kDay);
  const auto* function = aggregate::functionNamed("TimeAverage");
  for (const bool isBackward : {false, true}) {
    const ProcessedWish whole{at(isBackward ? 57 : 3), at(isBackward ? 3 : 57), 4 * kSecond, function};
    const auto once = readProcessed(timeline, whole, {}, {});
    REQUIRE(once);
    CHECK(once->values.size() == 14);
    for (const std::size_t size : {1, 3, 5}) {
      Samples all;
      std::optional<ProcessedWish> wish = whole;
      while (wish) {
        auto part = readProcessed(timeline, *wish, {}, {size, 1 << 20, 1});
        REQUIRE(part);
        REQUIRE(!part->values.empty());
        all.insert(all.end(), part->values.begin(), part->values.end());
        wish = part->rest;
      }
      CHECK(all == once->values);
    }
  }
}

// Events

TEST_CASE("an event comes back with its fields, also when its namespaces have other numbers", "[history]") {
  const auto made = [](bool isTurned) {
    auto space = std::make_unique<space::Space>(String("urn:fernhollow.example:test"));
    space::loadNamespace0(*space);
    if (isTurned) space->addNamespace(String("urn:other"));
    space::NewNode node;
    node.nodeId = NodeId(space->addNamespace(String("urn:pond")), String("pond"));
    node.browseName = {1, String("pond")};
    REQUIRE(space->add(node));
    return space;
  };
  const auto before = made(false), later = made(true);
  const auto pond = before->find(NodeId(2, String("pond")));
  monitor::Event event(before->at(id::AlarmConditionType), pond);
  event.set("Severity", std::uint16_t{700})
      .set("ActiveState/Id", true)
      .set("Message", LocalizedText(String("it rose")))
      .set("SourceNode", before->nodeId(pond))
      .set("Others", Variant::array({before->nodeId(pond), NodeId(1, 5u), NodeId(id::Server)}))
      .set(monitor::Event::Path{{2, String("depth")}}, QualifiedName{2, String("pond")});
  const Bytes octets = encodeEvent(*before, event);
  const auto back = decodeEvent(*later, octets);
  REQUIRE(back);
  CHECK(back->type() == later->at(id::AlarmConditionType));
  CHECK(back->node() == later->find(NodeId(3, String("pond"))));
  CHECK(back->size() == event.size());
  for (const char* name : {"Severity", "Message"})
    CHECK(back->field({{0, String(name)}}) == event.field({{0, String(name)}}));
  // Ids are of the namespaces that they were of, whatever their numbers are by now.
  CHECK(back->field({{0, "SourceNode"}}) == Variant(NodeId(3, String("pond"))));
  CHECK(back->field({{0, "Others"}}) == Variant::array({NodeId(3, String("pond")), NodeId(1, 5u), NodeId(id::Server)}));
  CHECK(back->field({{3, "depth"}}) == Variant(QualifiedName{3, String("pond")}));
  const auto elsewhere = std::make_unique<space::Space>(String("urn:fernhollow.example:test"));
  space::loadNamespace0(*elsewhere);
  const auto strange = decodeEvent(*elsewhere, octets);
  REQUIRE(strange);
  CHECK(strange->field({{0, "SourceNode"}}).get<NodeId>()->namespaceIndex() == 0xFFFF);
  // As they were kept before: without the namespaces.
  Bytes old;
  BinaryWriter writer(old);
  writer.write(std::uint8_t{1});
  writer.write(String("i=2915"));
  writer.write(String("nsu=urn:pond;s=pond"));
  writer.write(std::uint32_t{1});
  writer.write(List<QualifiedName>{{0, String("SourceNode")}});
  writer.write(Variant(NodeId(2, String("pond"))));
  REQUIRE(decodeEvent(*before, old));
  CHECK(decodeEvent(*before, old)->field({{0, "SourceNode"}}) == Variant(NodeId(2, String("pond"))));
  later->remove(back->node());
  CHECK(decodeEvent(*later, octets)->node() == space::kNoNode);
  for (std::size_t size = 0; size < octets.size(); ++size) CHECK(!decodeEvent(*later, {octets.data(), size}));
}

// Keeping

Samples kept(const Rule& rule, const Samples& samples) {
  Keeper keeper(rule);
  Samples out;
  for (const auto& s : samples) keeper.take(s, [&](const DataValue& k) { out.push_back(k); });
  if (auto last = keeper.finish()) out.push_back(*last);
  return out;
}

TEST_CASE("what is kept follows its rule", "[history]") {
  const Samples ramp{sample(0, 0.0), sample(1, 1.0), sample(2, 2.0), sample(3, 3.0), sample(4, 9.0), sample(5, 9.0)};
  using enum Rule::Kind;
  CHECK(times(kept({EveryChange}, ramp)) == std::vector<double>{0, 1, 2, 3, 4});
  CHECK(times(kept({EveryChange, 0, 1'000}, ramp)) == std::vector<double>{0, 1, 2, 3, 4, 5});
  CHECK(times(kept({Deadband, 2.5}, ramp)) == std::vector<double>{0, 3, 4});
  CHECK(times(kept({Deadband, 2.5, 2'000}, ramp)) == std::vector<double>{0, 2, 4});
  // The corners of the line, and the end.
  CHECK(times(kept({SwingingDoor, 0.1}, ramp)) == std::vector<double>{0, 3, 4, 5});
  // A status is always kept, with what was before it.
  const Samples broken{sample(0, 1.0), sample(1, 1.01), lost(2), lost(3), sample(4, 1.0)};
  CHECK(times(kept({SwingingDoor, 5}, broken)) == std::vector<double>{0, 1, -2, 4});
  CHECK(times(kept({Deadband, 5}, broken)) == std::vector<double>{0, -2, 4});
  // What comes late is kept, and changes nothing.
  const Samples late{sample(5, 1.0), sample(2, 7.0), sample(6, 1.0), sample(7, 2.0)};
  CHECK(times(kept({EveryChange}, late)) == std::vector<double>{5, 2, 7});
  // Words and bits have no distance.
  const Samples words{sample(0, "on"), sample(1, "on"), sample(2, "off")};
  CHECK(times(kept({SwingingDoor, 5}, words)) == std::vector<double>{0, 2});
}

TEST_CASE("a swinging door never misses a value by more than its width", "[history]") {
  std::mt19937 dice(3);
  Samples walk;
  double level = 0;
  for (int i = 0; i < 2000; ++i) {
    level += static_cast<double>(static_cast<int>(dice() % 201) - 100) / 50;
    walk.push_back(sample(i + static_cast<double>(dice() % 900) / 1000, level));
  }
  const double width = 3;
  const auto out = kept({Rule::Kind::SwingingDoor, width}, walk);
  CHECK(out.size() < walk.size() / 2);
  const HeldTimeline timeline(out);
  for (const auto& s : walk) {
    const auto back = readAtTime(timeline, {{s.sourceTimestamp}}, {}, {});
    const double off = aggregate::numberOf(back->values[0].value) - aggregate::numberOf(s.value);
    REQUIRE(std::fabs(off) <= width * 1.0001);
  }
}

TEST_CASE("patterns mean paths", "[history]") {
  const struct {
    const char *pattern, *path;
    bool fits;
  } cases[] = {
      {"Hatchery/Intake/DF1/pressure", "Hatchery/Intake/DF1/pressure", true},
      {"Hatchery/*/DF1/pressure", "Hatchery/Intake/DF1/pressure", true},
      {"Hatchery/*/pressure", "Hatchery/Intake/DF1/pressure", false},
      {"Hatchery/**/pressure", "Hatchery/Intake/DF1/pressure", true},
      {"**/pressure", "Hatchery/Intake/DF1/pressure", true},
      {"**", "Hatchery/Intake", true},
      {"**/DF*/p*e", "Hatchery/Intake/DF1/pressure", true},
      {"**/DF*/p*x", "Hatchery/Intake/DF1/pressure", false},
      {"Hatchery/**", "Hatchery", true},
      {"", "Hatchery", false},
      {"*a*a*a*a*a*a*b", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", false},
      {"**/**/**/**/**/x", "a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a/a", false},
  };
  for (const auto& each : cases) {
    CAPTURE(each.pattern, each.path);
    CHECK(matchesPath(each.pattern, each.path) == each.fits);
  }
}

}  // namespace zunth::history_test
