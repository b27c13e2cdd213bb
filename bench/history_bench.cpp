// What history costs: taken in, read back, averaged; beside what the disk and the database cost alone.
#include "core/history/block.hpp"
#include "core/history/reading.hpp"
#include "core/history/variables.hpp"
#include "service/history/archive_thread.hpp"
#include "service/history/embedded_store.hpp"

#include <cmath>
#include <cstdio>
#include <cstring>
#include <random>

#include "bench/loopback.hpp"
#include <benchmark/benchmark.h>
#include <fcntl.h>
#include <sqlite3.h>
#include <unistd.h>

using namespace zunth::ua;
using namespace zunth::history;
namespace aggregate = zunth::aggregate;
namespace bench = zunth::bench;
namespace fs = std::filesystem;

namespace {

constexpr std::int64_t kSecond = 10'000'000;
constexpr std::int64_t kBegin = 134'170'000'000'000'000;  // in March 2026

/// Signals as plants have them: a level that wanders by hundredths, seen each second with a poll's jitter in ms.
class Signal {
 public:
  explicit Signal(unsigned seed) : dice_(seed) {}
  DataValue at(std::int64_t second) {
    level_ += static_cast<double>(static_cast<int>(dice_() % 5) - 2) / 100;
    const std::int64_t jitter = static_cast<std::int64_t>(dice_() % 20) * 10'000;
    DataValue out(Variant(std::round(level_ * 100) / 100), DateTime{kBegin + second * kSecond + jitter});
    out.serverTimestamp = out.sourceTimestamp;
    return out;
  }

 private:
  std::mt19937 dice_;
  double level_ = 17;
};

struct Folder {
  fs::path path = fs::temp_directory_path() / ("zunth-bench-" + std::to_string(getpid()));
  Folder() { fs::remove_all(path); }
  ~Folder() { fs::remove_all(path); }
};

std::unique_ptr<EmbeddedStore> opened(const Folder& folder) {
  return std::move(*EmbeddedStore::open(folder.path, [](const std::string& what) { std::puts(what.c_str()); }));
}

constexpr int kVariables = 5'000, kEach = 100;

/// Half a million samples that come within a second, as drivers bring them: of all variables in turn.
std::vector<Record> secondsOfMany(std::int64_t first) {
  std::vector<Record> out;
  out.reserve(std::size_t{kVariables} * kEach);
  std::vector<Signal> signals;
  for (unsigned i = 0; i < kVariables; ++i) signals.emplace_back(i);
  for (int k = 0; k < kEach; ++k)
    for (VariableId v = 0; v < kVariables; ++v) out.push_back({v, signals[v].at(first + k)});
  return out;
}

void intakeFloorWrite(benchmark::State& state) {
  const Folder folder;
  fs::create_directories(folder.path);
  const int file = ::open((folder.path / "plain").c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
  const std::vector<char> octets(std::size_t{kVariables} * kEach * 21);
  for (auto _ : state) {
    if (::write(file, octets.data(), octets.size()) < 0) state.SkipWithError("not written");
    ::fsync(file);
  }
  ::close(file);
  state.SetItemsProcessed(state.iterations() * kVariables * kEach);
}
BENCHMARK(intakeFloorWrite)->Name("history: write and sync as many octets as 500,000 samples have")->UseRealTime();

void intakeFloorRows(benchmark::State& state) {
  const Folder folder;
  fs::create_directories(folder.path);
  sqlite3* database = nullptr;
  sqlite3_open((folder.path / "rows.sqlite").c_str(), &database);
  sqlite3_exec(database,
               "PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; "
               "CREATE TABLE rows (variable INTEGER, time INTEGER, value REAL, status INTEGER)",
               nullptr, nullptr, nullptr);
  sqlite3_stmt* insert = nullptr;
  sqlite3_prepare_v2(database, "INSERT INTO rows VALUES (?, ?, ?, 0)", -1, &insert, nullptr);
  for (auto _ : state) {
    sqlite3_exec(database, "BEGIN", nullptr, nullptr, nullptr);
    for (int i = 0; i < kVariables * kEach; ++i) {
      sqlite3_bind_int(insert, 1, i % kVariables);
      sqlite3_bind_int64(insert, 2, kBegin + i);
      sqlite3_bind_double(insert, 3, i * 0.25);
      sqlite3_step(insert);
      sqlite3_reset(insert);
    }
    sqlite3_exec(database, "COMMIT", nullptr, nullptr, nullptr);
  }
  sqlite3_finalize(insert);
  sqlite3_close(database);
  state.SetItemsProcessed(state.iterations() * kVariables * kEach);
}
BENCHMARK(intakeFloorRows)->Name("history: 500,000 rows into SQLite")->UseRealTime();

void intake(benchmark::State& state) {
  const Folder folder;
  const auto store = opened(folder);
  for (int v = 0; v < kVariables; ++v) store->variable("signal " + std::to_string(v));
  std::int64_t first = 0;
  for (auto _ : state) {
    state.PauseTiming();
    const auto records = secondsOfMany(first);
    first += kEach;
    state.ResumeTiming();
    store->append(records);
    if (!store->flush(DateTime{kBegin})) state.SkipWithError("not flushed");
  }
  state.SetItemsProcessed(state.iterations() * kVariables * kEach);
}
BENCHMARK(intake)
    ->Name("history: 500,000 samples of 5,000 variables taken in and synced")
    ->UseRealTime()
    ->Iterations(12);

void blockSize(benchmark::State& state) {
  Signal signal(1);
  std::vector<DataValue> samples;
  for (std::size_t i = 0; i < kMostInBlock; ++i) samples.push_back(signal.at(static_cast<std::int64_t>(i)));
  std::vector<DataValue> constant = samples;
  for (auto& sample : constant) sample.value = Variant(4.5);
  std::size_t octets = 0;
  for (auto _ : state) octets = encodeBlock(samples).size();
  state.SetItemsProcessed(state.iterations() * static_cast<std::int64_t>(kMostInBlock));
  state.counters["octets a sample"] = static_cast<double>(octets) / kMostInBlock;
  state.counters["octets, constant"] = static_cast<double>(encodeBlock(constant).size()) / kMostInBlock;
}
BENCHMARK(blockSize)->Name("history: samples into a block");

/// A year of one-second samples, made once.
const Folder& year(std::int64_t seconds) {
  static std::map<std::int64_t, std::unique_ptr<Folder>> made;
  auto& folder = made[seconds];
  if (folder) return *folder;
  folder = std::make_unique<Folder>();
  folder->path += "-" + std::to_string(seconds);
  const auto store = opened(*folder);
  const auto id = store->variable("signal");
  Signal signal(2);
  std::vector<Record> batch;
  for (std::int64_t second = 0; second < seconds; ++second) {
    batch.push_back({id, signal.at(second)});
    if (batch.size() < 100'000 && second + 1 < seconds) continue;
    store->append(batch);
    static_cast<void>(store->flush(DateTime{kBegin}));
    batch.clear();
  }
  return *folder;
}

void rawFloor(benchmark::State& state) {
  const std::vector<DataValue> from(1'000'000, DataValue(Variant(1.0), DateTime{1}));
  std::vector<DataValue> to(from.size());
  for (auto _ : state) {
    std::memcpy(static_cast<void*>(to.data()), from.data(), from.size() * sizeof(DataValue));
    benchmark::ClobberMemory();
  }
  for (auto& value : to) new (&value) DataValue();
}
BENCHMARK(rawFloor)->Name("history: memcpy of a million samples");

void rawRead(benchmark::State& state) {
  const auto store = opened(year(1'000'000));
  const auto timeline = store->timeline(store->variable("signal"));
  for (auto _ : state) {
    std::size_t count = 0;
    std::optional<RawWish> wish = RawWish{DateTime{kBegin}, DateTime{kBegin * 2}};
    while (wish) {
      const auto part = readRaw(*timeline, *wish, {50'000, 1u << 30, 1u << 30});
      count += part->values.size();
      wish = part->rest;
    }
    if (count != 1'000'000) state.SkipWithError("not all");
  }
}
BENCHMARK(rawRead)->Name("history: a million raw samples read in parts")->Unit(benchmark::kMillisecond);

/// The same samples as a variable of a server has them.
const Folder& ofVariable(const std::string& name) {
  static Folder folder;
  folder.path += "-variable";
  const auto store = opened(folder);
  const auto id = store->variable(name);
  Signal signal(2);
  std::vector<Record> batch;
  for (std::int64_t second = 0; second < 1'000'000; ++second) batch.push_back({id, signal.at(second)});
  store->append(batch);
  static_cast<void>(store->flush(DateTime{kBegin}));
  return folder;
}

std::size_t octetsOfMillion = 0;  // in how many answers
int answersOfMillion = 0;

void clientRead(benchmark::State& state) {
  bench::LoopbackServer server(1);
  const auto variable = server.space->find(NodeId(1, 1000));
  static const auto& folder = ofVariable(storedName(*server.space, NodeId(1, 1000)));
  ArchiveThread archive(
      opened(folder), [&](std::function<void()> work) { bench::asio::post(server.thread().loop, std::move(work)); },
      [](bool, const std::string&) {}, [] { return DateTime::from(std::chrono::system_clock::now()); });
  server.thread().run([&] {
    server.space->traits(variable).accessLevel |= AccessLevelType::HistoryRead;
    server.server->serveHistory(archive);
  });
  {
    bench::BlockingClient client(server.url);
    ReadRawModifiedDetails details;
    details.startTime = DateTime{kBegin};
    details.endTime = DateTime{kBegin * 2};
    for (auto _ : state) {
      std::size_t count = 0;
      octetsOfMillion = 0;
      answersOfMillion = 0;
      HistoryReadRequest request;
      request.historyReadDetails = ExtensionObject::of(details);
      request.timestampsToReturn = TimestampsToReturn::Source;
      request.nodesToRead.push_back({NodeId(1, 1000), {}, {}, {}});
      do {
        const auto answer = client.call(request);
        const auto& result = answer.results.front();
        octetsOfMillion += result.historyData.octets().size();
        ++answersOfMillion;
        const auto data = result.historyData.as<HistoryData>();
        if (!data) return state.SkipWithError("no history");
        count += data->dataValues.size();
        request.nodesToRead.front().continuationPoint = result.continuationPoint;
      } while (!request.nodesToRead.front().continuationPoint.empty());
      if (count != 1'000'000) state.SkipWithError("not all");
    }
  }
  server.thread().run([&] { server.server->dropHistory(); });
}
BENCHMARK(clientRead)
    ->Name("history: a million raw samples read by a client over loopback")
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime();

void clientReadFloor(benchmark::State& state) {
  if (answersOfMillion == 0) return state.SkipWithError("run it after what it is the floor of");
  const std::size_t each = octetsOfMillion / static_cast<std::size_t>(answersOfMillion);
  bench::LoopbackEcho echo(100, each);
  bench::EchoClient floor(echo.port(), 100, each);
  for (auto _ : state)
    for (int i = 0; i < answersOfMillion; ++i) floor.exchange();
}
BENCHMARK(clientReadFloor)
    ->Name("history/floor: echo of those answers' octets")
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime();

void averaged(benchmark::State& state, std::int64_t seconds, double width, std::int64_t all) {
  const auto store = opened(year(all));
  const auto timeline = store->timeline(store->variable("signal"));
  const auto* function = aggregate::functionNamed("TimeAverage");
  for (auto _ : state) {
    const ProcessedWish wish{DateTime{kBegin}, DateTime{kBegin + seconds * kSecond},
                             static_cast<std::int64_t>(width) * kSecond, function};
    auto rest = std::optional(wish);
    while (rest) rest = readProcessed(*timeline, *rest, {}, {})->rest;
  }
}
BENCHMARK_CAPTURE(averaged, day, 86'400, 60, 1'000'000)
    ->Name("history: a day of one-second samples averaged to minutes")
    ->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(averaged, year, 31'536'000, 86'400, 31'536'000)
    ->Name("history: a year of one-second samples averaged to days")
    ->Unit(benchmark::kMillisecond)
    ->Iterations(2);

}  // namespace
