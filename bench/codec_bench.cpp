// Encoding and decoding alone, beside a memcpy of the same octets.
#include "core/ua/generated/structures.hpp"
#include "service/net/allocation.hpp"

#include <benchmark/benchmark.h>
#include <spdlog/spdlog.h>

using namespace zunth::ua;

namespace {

ReadResponse response(int values) {
  ReadResponse out;
  for (int i = 0; i < values; ++i) {
    DataValue value(Variant(i * 0.5), DateTime{133'000'000'000'000'000 + i});
    value.serverTimestamp = DateTime{133'000'000'000'000'000};
    out.results.push_back(std::move(value));
  }
  return out;
}

void copyFloor(benchmark::State& state) {
  const Bytes octets = encode(response(1000));
  Bytes to(octets.size());
  for (auto _ : state) {
    std::memcpy(to.data(), octets.data(), octets.size());
    benchmark::ClobberMemory();
  }
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(octets.size()));
}
BENCHMARK(copyFloor)->Name("codec/floor: memcpy of a 1000-value Read response");

void encodeRead(benchmark::State& state) {
  const ReadResponse message = response(1000);
  Bytes out;
  for (auto _ : state) {
    out.clear();
    BinaryWriter(out).write(message);
    benchmark::DoNotOptimize(out.data());
  }
  state.SetItemsProcessed(state.iterations() * 1000);
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(out.size()));
}
BENCHMARK(encodeRead)->Name("codec/encode a 1000-value Read response");

void decodeRead(benchmark::State& state) {
  const Bytes octets = encode(response(1000));
  for (auto _ : state) benchmark::DoNotOptimize(decode<ReadResponse>(octets));
  state.SetItemsProcessed(state.iterations() * 1000);
  state.SetBytesProcessed(state.iterations() * static_cast<std::int64_t>(octets.size()));
}
BENCHMARK(decodeRead)->Name("codec/decode a 1000-value Read response");

}  // namespace

int main(int argc, char** argv) {
  zunth::net::keepFreedMemory();  // as zunthd does
  spdlog::set_level(spdlog::level::warn);
  benchmark::Initialize(&argc, argv);
  if (benchmark::ReportUnrecognizedArguments(argc, argv)) return 2;
  benchmark::RunSpecifiedBenchmarks();
}
