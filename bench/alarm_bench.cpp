// What alarms cost: a value that comes to nothing, one that makes an alarm come or go, and listeners with filters;
// beside what a change of a value costs alone.
#include "core/alarm/alarms.hpp"
#include "core/model/build.hpp"
#include "core/monitor/event_delivery.hpp"
#include "core/space/namespace0.hpp"

#include <benchmark/benchmark.h>
#include <fmt/format.h>
#include <malloc.h>

using namespace zunth;
using namespace zunth::ua;

namespace {

constexpr int kAlarms = 10'000;

/// Octets that are allocated, whoever holds them.
std::size_t allocatedOctets() { return mallinfo2().uordblks; }

/// Ten thousand pumps, each with a temperature; with an alarm each, or without.
struct Pumps {
  explicit Pumps(bool withAlarms) : space(String("urn:bench")) {
    space::loadNamespace0(space);
    std::string text = "namespace: http://fernhollow.example/bench\ntypes:\n  Pump:\n    heat: Double 0..100 = 10\n";
    if (withAlarms) text += "    alarms:\n      hot: limit heat high 50 highhigh 80 deadband 1 severity 400 700\n";
    text += fmt::format("objects:\n  Plant:\n    \"P{{1..{}}}\": Pump\n", kAlarms);
    model::Findings findings;
    model::build(space, {{"model/bench.yaml", text}}, findings);
    for (int i = 1; i <= kAlarms; ++i) heats.push_back(space.find(NodeId(2, String(fmt::format("Plant/P{}/heat", i)))));
  }
  void set(double value) {
    for (const auto heat : heats) space.setValue(heat, DataValue(Variant(value), DateTime{134'000'000'000'000'000}));
  }
  space::Space space;
  std::vector<space::NodeIndex> heats;
};

alarm::Alarms::Surroundings surroundings(std::function<void(monitor::Event)> raise) {
  static std::uint64_t lastId = 0;
  return {[] { return std::chrono::steady_clock::now(); }, [] { return DateTime{134'000'000'000'000'000}; },
          [] {
            ++lastId;
            return ByteString(&lastId, sizeof lastId);
          },
          std::move(raise)};
}

/// The floor: a value changes that somebody watches.
void alarmsValueChange(benchmark::State& state) {
  Pumps pumps(false);
  std::size_t seen = 0;
  const auto tap = pumps.space.tap([&](auto changes) { seen += changes.size(); });
  for (const auto heat : pumps.heats) pumps.space.watch(heat, tap, true);
  double value = 10;
  for (auto _ : state) pumps.set(value = value < 20 ? 30 : 10);
  state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations()) * kAlarms);
}
BENCHMARK(alarmsValueChange)
    ->Name("alarms: floor, a value changes that somebody watches")
    ->Unit(benchmark::kMillisecond);

/// Values that change nothing of an alarm.
void alarmsJudged(benchmark::State& state) {
  Pumps pumps(true);
  alarm::Alarms alarms(pumps.space, surroundings([](const monitor::Event&) {}));
  alarms.bind();
  double value = 10;
  for (auto _ : state) pumps.set(value = value < 20 ? 30 : 10);
  state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations()) * kAlarms);
}
BENCHMARK(alarmsJudged)->Name("alarms: a value that changes nothing of its alarm")->Unit(benchmark::kMillisecond);

/// Each value makes its alarm come or go: shown in its nodes, and made an event.
void alarmsTransition(benchmark::State& state) {
  Pumps pumps(true);
  const std::size_t before = allocatedOctets();
  alarm::Alarms alarms(pumps.space, surroundings([](const monitor::Event&) {}));
  alarms.bind();
  double value = 10;
  pumps.set(60);
  pumps.set(10);
  state.counters["octets an alarm"] = static_cast<double>(allocatedOctets() - before) / kAlarms;
  for (auto _ : state) pumps.set(value = value < 20 ? 60 : 10);
  state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations()) * kAlarms);
}
BENCHMARK(alarmsTransition)->Name("alarms: a value that makes its alarm come or go")->Unit(benchmark::kMillisecond);

/// The same heard by ten items, each with twenty fields and a where clause.
void alarmsTransitionHeardByTen(benchmark::State& state) {
  Pumps pumps(true);
  EventFilter filter;
  for (const char* path :
       {"EventId",     "EventType",       "SourceNode",     "SourceName",    "Time",
        "ReceiveTime", "Message",         "Severity",       "ConditionName", "BranchId",
        "Retain",      "EnabledState/Id", "ActiveState/Id", "AckedState/Id", "ConfirmedState/Id",
        "Comment",     "ClientUserId",    "Quality",        "LastSeverity",  "SuppressedOrShelved"}) {
    SimpleAttributeOperand operand;
    operand.attributeId = static_cast<std::uint32_t>(AttributeId::Value);
    std::string_view rest = path;
    while (!rest.empty()) {
      const auto slash = std::min(rest.find('/'), rest.size());
      operand.browsePath.push_back({0, String(rest.substr(0, slash))});
      rest.remove_prefix(std::min(slash + 1, rest.size()));
    }
    filter.selectClauses.push_back(operand);
  }
  EventFilterResult result;
  const auto selector = monitor::EventSelector::from(pumps.space, filter, result);
  std::size_t fields = 0;
  alarm::Alarms alarms(pumps.space, surroundings([&](const monitor::Event& event) {
                         for (int i = 0; i < 10; ++i)
                           if (selector->wants(pumps.space, event))
                             fields += selector->select(pumps.space, event).size();
                       }));
  alarms.bind();
  double value = 10;
  for (auto _ : state) pumps.set(value = value < 20 ? 60 : 10);
  state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations()) * kAlarms);
}
BENCHMARK(alarmsTransitionHeardByTen)
    ->Name("alarms: the same, heard by ten items with twenty fields")
    ->Unit(benchmark::kMillisecond);

/// All ten thousand are active: a refresh of one client, all of it.
void alarmsRefresh(benchmark::State& state) {
  Pumps pumps(true);
  alarm::Alarms alarms(pumps.space, surroundings([](const monitor::Event&) {}));
  alarms.bind();
  pumps.set(60);
  for (auto _ : state)
    for (const auto node : alarms.retained()) benchmark::DoNotOptimize(alarms.standing(node));
  state.SetItemsProcessed(static_cast<std::int64_t>(state.iterations()) * kAlarms);
}
BENCHMARK(alarmsRefresh)->Name("alarms: 10,000 told again to one client")->Unit(benchmark::kMillisecond);

}  // namespace
