// What devices cost: frames read, values converted and shown, beside a memcpy of as many octets.
#include "core/space/namespace0.hpp"
#include "service/device/dnp3_application.hpp"
#include "service/device/dnp3_link.hpp"

#include <cstring>

#include "bench/hand.hpp"
#include <benchmark/benchmark.h>
#include <spdlog/spdlog.h>

using namespace zunth;
using namespace zunth::ua;
using namespace zunth::device;
using zunth::bench::Hand;

namespace {

constexpr int kEvents = 80;

/// A fragment with events of analogue inputs, each with its time.
Bytes eventFragment() {
  Bytes out{std::byte{0xE2}, std::byte{0x81}, std::byte{0}, std::byte{0}};
  for (const int octet : {32, 7, 0x28, kEvents, 0}) out.push_back(static_cast<std::byte>(octet));
  for (int i = 0; i < kEvents; ++i)
    for (const int octet : {i, 0, 1, 0, 0, 0xC0, 0x3F, 0xC0, 0xD8, 0xE4, 0xF1, 0x9D, 0x01})
      out.push_back(static_cast<std::byte>(octet));
  return out;
}

void copy(benchmark::State& state, const Bytes& octets) {
  Bytes target(octets.size());
  for (auto _ : state) {
    std::memcpy(target.data(), octets.data(), octets.size());
    benchmark::DoNotOptimize(target.data());
    benchmark::ClobberMemory();
  }
}

void dnp3Floor(benchmark::State& state) { copy(state, eventFragment()); }
BENCHMARK(dnp3Floor)->Name("devices/DNP3: memcpy of the same octets");

void dnp3Events(benchmark::State& state) {
  const Bytes fragment = eventFragment();
  std::uint8_t sequence = 0;
  Bytes wire;
  for (auto& segment : dnp3::segmentsOf(fragment, sequence)) {
    dnp3::Frame frame;
    frame.isFromMaster = false;
    frame.data = std::move(segment);
    const Bytes octets = dnp3::encode(frame);
    wire.insert(wire.end(), octets.begin(), octets.end());
  }
  for (auto _ : state) {
    dnp3::FrameReader frames;
    dnp3::SegmentReader segments;
    frames.feed(wire);
    while (const auto frame = frames.next())
      if (const auto whole = segments.feed(frame->data)) {
        auto read = dnp3::readFragment(*whole);
        if (!read || read->measurements.size() != kEvents) state.SkipWithError("not read");
        benchmark::DoNotOptimize(read->measurements.data());
      }
  }
  state.SetItemsProcessed(state.iterations() * kEvents);
}
BENCHMARK(dnp3Events)->Name("devices/DNP3: 80 events with times, from frames to values");

constexpr std::size_t kPoints = 1'000;

/// A poll of a thousand scaled registers, from the driver to the nodes.
void pollShown(benchmark::State& state) {
  spdlog::set_level(spdlog::level::off);
  space::Space space("urn:fernhollow.example:bench");
  space::loadNamespace0(space);
  space::Owners owners;
  std::vector<std::function<void()>> posted;
  const auto devices = std::make_shared<BoundDevices>(
      space, owners, BoundDevices::Loop{[&](std::function<void()> work) { posted.push_back(std::move(work)); }, [] {}});
  DeviceFile file;
  file.name = "line";
  Bindings bindings;
  std::vector<Point> raw;
  for (std::size_t i = 0; i < kPoints; ++i) {
    Conversion scaled;
    scaled.scale = 0.1;
    raw.push_back({std::to_string(i), BuiltInType::UInt16, false, "input"});
    file.points.push_back({raw.back(), scaled});
    space::NewNode node;
    node.nodeId = NodeId(1, static_cast<std::uint32_t>(i + 1));
    node.nodeClass = NodeClass::Variable;
    node.browseName = {1, String(std::to_string(i))};
    node.traits.dataType = space.at(id::Double);
    const auto added = *space.add(std::move(node));
    space.refer(space.at(id::ObjectsFolder), id::HasComponent, added);
    bindings.variables.push_back({added, 0, i});
  }
  Hand* driver = nullptr;
  file.makeDriver = [&raw, &driver] {
    auto made = std::make_unique<Hand>(raw);
    driver = made.get();
    return made;
  };
  std::vector<DeviceFile> files;
  files.push_back(std::move(file));
  devices->rebind(std::move(files), bindings);
  devices->start();
  std::uint16_t count = 0;
  for (auto _ : state) {
    std::vector<Sample> batch;
    batch.reserve(kPoints);
    ++count;
    for (std::size_t i = 0; i < kPoints; ++i) batch.push_back({i, DataValue(Variant(count), DateTime{count})});
    driver->sink->samples(std::move(batch));
    for (auto& work : std::exchange(posted, {})) work();
  }
  state.SetItemsProcessed(state.iterations() * static_cast<std::int64_t>(kPoints));
}
BENCHMARK(pollShown)->Name("devices/a poll of 1000 scaled points, from the driver to the nodes");

void pollFloor(benchmark::State& state) {
  const std::vector<DataValue> values(kPoints, DataValue(Variant(std::uint16_t{1}), DateTime{1}));
  std::vector<DataValue> target(kPoints);
  for (auto _ : state) {
    target = values;
    benchmark::DoNotOptimize(target.data());
    benchmark::ClobberMemory();
  }
  state.SetItemsProcessed(state.iterations() * static_cast<std::int64_t>(kPoints));
}
BENCHMARK(pollFloor)->Name("devices/1000 values copied");

}  // namespace
