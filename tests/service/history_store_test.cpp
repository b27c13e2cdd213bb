#include "core/history/reading.hpp"
#include "core/space/namespace0.hpp"
#include "service/history/archive_thread.hpp"
#include "service/history/embedded_store.hpp"
#include "service/history/recorder.hpp"

#include <csignal>
#include <fstream>
#include <future>
#include <random>

#include "tests/service/process.hpp"
#include <catch2/catch.hpp>
#include <sqlite3.h>
#include <sys/wait.h>

namespace zunth::history_store_test {

using namespace ua;
using namespace history;
namespace fs = std::filesystem;
using Samples = std::vector<DataValue>;

constexpr std::int64_t kSecond = 10'000'000;

DateTime day(const char* text) { return *DateTime::parse(text); }
DateTime later(DateTime from, double seconds) { return {from.ticks + static_cast<std::int64_t>(seconds * kSecond)}; }

struct Folder {
  fs::path path =
      fs::temp_directory_path() / ("zunth-history-" + std::to_string(getpid()) + "-" + std::to_string(++made));
  Folder() { fs::remove_all(path); }
  ~Folder() { fs::remove_all(path); }
  static inline int made = 0;
};

struct Opened {
  explicit Opened(const fs::path& folder) {
    auto opened = EmbeddedStore::open(folder, [this](const std::string& what) { damage.push_back(what); });
    REQUIRE(opened);
    store = std::move(*opened);
  }
  VariableId level = 0;
  void add(const std::string& name, const Samples& samples) {
    const auto id = store->variable(name);
    std::vector<Record> records;
    for (const auto& sample : samples) records.push_back({id, sample});
    store->append(records);
  }
  Samples all(const std::string& name, DateTime from = kBeginning, DateTime to = kEnd) {
    Samples out;
    const auto fine = store->timeline(store->variable(name))->walk(from, to, [&](std::span<const DataValue> some) {
      out.insert(out.end(), some.begin(), some.end());
      return true;
    });
    CHECK(fine);
    return out;
  }
  std::vector<std::string> damage;
  std::unique_ptr<EmbeddedStore> store;
};

Samples ramp(DateTime from, int count, double apart = 1) {
  Samples out;
  for (int i = 0; i < count; ++i) out.emplace_back(Variant(i * 0.5), later(from, i * apart));
  return out;
}

const DateTime kStart = day("2026-03-31T20:00:00Z");

TEST_CASE("samples come back in order, through months, blocks and heads, after any number of starts", "[history]") {
  const Folder folder;
  const Samples samples = ramp(kStart, 20'000, 1.7);  // into the next month
  for (std::size_t at = 0; at < samples.size(); at += 5'000) {
    Opened run(folder.path);
    run.add("level", Samples(samples.begin() + static_cast<long>(at), samples.begin() + static_cast<long>(at) + 5'000));
    run.add("other", {samples[at]});
    const auto before = run.all("level");
    CHECK(before.size() == at + 5'000);
    REQUIRE(run.store->flush(samples[at + 4'999].sourceTimestamp));
    CHECK(run.all("level") == before);
  }
  Opened run(folder.path);
  CHECK(run.all("level") == samples);
  CHECK(run.all("other").size() == 4);
  CHECK(run.all("nothing").empty());
  CHECK(run.store->watchedUntil() == samples.back().sourceTimestamp);
  CHECK(fs::exists(folder.path / "2026-03.sqlite"));
  CHECK(fs::exists(folder.path / "2026-04.sqlite"));
  // Backwards, and pieces of it.
  auto turned = run.all("level", kEnd, kBeginning);
  std::ranges::reverse(turned);
  CHECK(turned == samples);
  const auto piece = run.all("level", samples[8'000].sourceTimestamp, samples[9'000].sourceTimestamp);
  CHECK(piece == Samples(samples.begin() + 8'000, samples.begin() + 9'000));
  const auto back = run.all("level", samples[9'000].sourceTimestamp, samples[8'000].sourceTimestamp);
  CHECK(back.size() == 1'000);
  CHECK(back.front() == samples[9'000]);
  CHECK(run.all("level", samples[77].sourceTimestamp, samples[77].sourceTimestamp) == Samples{samples[77]});
  CHECK(run.damage.empty());
  // Nobody else may read it.
  CHECK((fs::status(folder.path).permissions() & (fs::perms::group_all | fs::perms::others_all)) == fs::perms::none);
}

TEST_CASE("what comes late finds its place, and of one time the last word counts", "[history]") {
  const Folder folder;
  Samples samples = ramp(kStart, 9'000);
  std::mt19937 dice(5);
  {
    Opened run(folder.path);
    auto shuffled = samples;
    std::ranges::shuffle(shuffled, dice);
    for (std::size_t at = 0; at < shuffled.size(); at += 1'500) {
      run.add("level",
              Samples(shuffled.begin() + static_cast<long>(at), shuffled.begin() + static_cast<long>(at) + 1'500));
      REQUIRE(run.store->flush(kStart));
    }
    CHECK(run.all("level") == samples);
    samples[10].value = Variant(99.0);
    run.add("level", {samples[10]});
    CHECK(run.all("level") == samples);
    REQUIRE(run.store->flush(kStart));
  }
  Opened run(folder.path);
  CHECK(run.all("level") == samples);
}

TEST_CASE("history is inserted, replaced, updated and deleted, with a record of who did it", "[history]") {
  const Folder folder;
  const Samples samples = ramp(kStart, 5'000);
  const auto time = [](int i) { return later(kStart, i); };
  const auto with = [&](int i, double value) { return DataValue(Variant(value), later(kStart, i)); };
  Opened run(folder.path);
  run.add("level", samples);
  REQUIRE(run.store->flush(kStart));
  const auto level = run.store->variable("level");
  const auto edit = [&](Edit what) {
    what.user = String("mara");
    what.now = day("2026-05-01T00:00:00Z");
    auto done = run.store->edit(level, what);
    REQUIRE(done);
    return *done;
  };
  using enum Edit::Kind;
  using Codes = std::vector<StatusCode>;
  CHECK(edit({Insert, {with(4'999, 1), with(5'002, 2), with(5'001, 3), with(5'002, 4)}}) ==
        Codes{status::BadEntryExists, status::GoodEntryInserted, status::GoodEntryInserted, status::BadEntryExists});
  CHECK(edit({Replace, {with(7, 70), with(6'000, 1)}}) == Codes{status::GoodEntryReplaced, status::BadNoEntryExists});
  CHECK(edit({Update, {with(8, 80), with(6'000, 1)}}) == Codes{status::GoodEntryReplaced, status::GoodEntryInserted});
  CHECK(edit({DeleteTimes, {}, {time(9), time(9), time(70'000)}}) ==
        Codes{status::Good, status::BadNoEntryExists, status::BadNoEntryExists});
  CHECK(edit({DeleteRange, {}, {}, time(100), time(4'900)}) == Codes{status::Good});
  CHECK(edit({DeleteRange, {}, {}, time(100), time(4'900)}) == Codes{status::GoodNoData});

  const auto check = [&](Opened& in) {
    const auto all = in.all("level");
    CHECK(all.size() == 5'000 + 3 - 1 - 4'800);
    CHECK(all[7].value == Variant(70.0));
    CHECK(all[8].value == Variant(80.0));
    CHECK(all[9].sourceTimestamp == time(10));
    CHECK(all.back().sourceTimestamp == time(6'000));
    const auto modified = in.store->modified(in.store->variable("level"), time(0), time(20));
    REQUIRE(modified);
    REQUIRE(modified->size() == 3);
    CHECK((*modified)[0].sample == samples[7]);
    CHECK((*modified)[0].info.updateType == HistoryUpdateType::Replace);
    CHECK((*modified)[1].info.updateType == HistoryUpdateType::Update);
    CHECK((*modified)[2].sample == samples[9]);
    CHECK((*modified)[2].info.updateType == HistoryUpdateType::Delete);
    CHECK((*modified)[2].info.userName.view() == "mara");
  };
  check(run);
  // What was deleted out of the head stays deleted.
  run.store.reset();
  Opened again(folder.path);
  check(again);
  const Edit forget{DeleteModified, {}, {}, time(0), time(20), {}, {}};
  CHECK(again.store->edit(again.store->variable("level"), forget));
  CHECK(again.store->modified(again.store->variable("level"), time(0), time(20))->empty());
}

TEST_CASE("months that are over are given up as a whole", "[history]") {
  const Folder folder;
  Opened run(folder.path);
  run.add("level", ramp(day("2026-01-15T00:00:00Z"), 10));
  run.add("level", ramp(day("2026-02-15T00:00:00Z"), 10));
  REQUIRE(run.store->flush(kStart));
  CHECK(run.all("level").size() == 20);
  CHECK(run.store->forget(day("2026-01-31T00:00:00Z")));
  CHECK(run.all("level").size() == 20);
  CHECK(run.store->forget(day("2026-02-01T00:00:00Z")));
  CHECK(run.all("level").size() == 10);
  CHECK(!fs::exists(folder.path / "2026-01.sqlite"));
  CHECK(run.store->beginsAt() == day("2026-02-01T00:00:00Z"));
  run.add("level", ramp(day("2026-03-15T00:00:00Z"), 10));
  CHECK(run.store->shrink(1'000'000'000));
  CHECK(run.all("level").size() == 20);
  CHECK(run.store->shrink(1));  // all but the present one
  CHECK(run.all("level").size() == 10);
  CHECK(run.store->beginsAt() == day("2026-03-01T00:00:00Z"));
}

TEST_CASE("some variables are given up sooner than the rest, as far as their samples lie together", "[history]") {
  const Folder folder;
  const auto size = [&] { return fs::file_size(folder.path / "2026-01.sqlite"); };
  {
    Opened first(folder.path);
    for (const char* variable : {"level", "flow"})
      for (const char* begin : {"2026-01-15T00:00:00Z", "2026-02-15T00:00:00Z", "2026-03-15T00:00:00Z"})
        first.add(variable, ramp(day(begin), 9'000));
    REQUIRE(first.store->flush(kStart));
  }
  const auto before = size();
  Opened run(folder.path);
  const std::vector<std::string> names{"flow", "unheard of"};
  CHECK(run.all("flow").size() == 27'000);
  // An hour behind the beginning of February's: those before, and none of which a part is to stay.
  REQUIRE(run.store->forget(names, day("2026-02-15T01:00:00Z")));
  CHECK(run.all("level").size() == 27'000);
  CHECK(run.all("flow").size() == 18'000);
  // A year on, nothing is left of it, and it goes on.
  REQUIRE(run.store->forget(names, day("2027-03-01T00:00:00Z")));
  CHECK(run.all("flow").size() < 9'000);  // of the present month, what waits for its block
  CHECK(run.all("level").size() == 27'000);
  run.add("flow", ramp(day("2026-03-20T00:00:00Z"), 5));
  CHECK(run.all("flow").back().sourceTimestamp > day("2026-03-20T00:00:00Z"));
  run.store.reset();
  CHECK(size() < before);
  Opened again(folder.path);
  CHECK(again.all("level").size() == 27'000);
}

TEST_CASE("a file is read by fifty lines of Python, without us", "[history]") {
  const Folder folder;
  std::map<std::string, Samples> written;
  {
    Opened run(folder.path);
    for (int i = 0; i < 4'500; ++i) {
      const DateTime time = later(kStart, i * 1.5 + i % 3 * 0.001);
      written["double"].emplace_back(Variant(i % 50 * 0.25), time);
      written["root"].emplace_back(Variant(std::sqrt(i)), time);
      written["float"].emplace_back(Variant(static_cast<float>(i) / 3), time);
      written["int"].emplace_back(Variant(std::int32_t{(i % 9 - 4) * 100'000}), time);
      written["bit"].emplace_back(Variant(i % 70 < 30), time);
      written["gaps"].emplace_back(i % 7 ? Variant(1.0 * i) : Variant(), time,
                                   i % 7 ? status::Good : status::BadNoCommunication);
    }
    for (auto& [name, samples] : written) run.add(name, samples);
    REQUIRE(run.store->flush(kStart));
  }
  const auto file = folder.path / "2026-03.sqlite";
  const auto told =
      test::run("/usr/bin/python3 " ZUNTH_SOURCE_DIR "/tests/read_history.py " + file.string(), folder.path);
  CAPTURE(told.error);
  REQUIRE(told.code == 0);
  std::map<std::string, std::size_t> read;
  std::istringstream lines(told.out);
  for (std::string name, time, status, value; lines >> name >> time >> status >> value;) {
    const auto& sample = written.at(name).at(read[name]++);
    REQUIRE(time == std::to_string(sample.sourceTimestamp.ticks));
    REQUIRE(std::stoul(status, nullptr, 16) == sample.status.value);
    double number = 0;
    if (sample.value.type() == BuiltInType::Float)
      REQUIRE(Variant(static_cast<float>(std::stod(value))) == sample.value);
    else if (sample.value.toDouble(number) && sample.value.type() != BuiltInType::Boolean)
      REQUIRE(std::stod(value) == number);
    else
      REQUIRE(value == (sample.value.isNull() ? "None" : *sample.value.get<bool>() ? "True" : "False"));
  }
  for (const auto& [name, samples] : written) CHECK(read[name] == samples.size());
}

TEST_CASE("large values are kept in blocks that can be read", "[history]") {
  const Folder folder;
  Samples samples;
  std::string octets(1 << 20, ' ');
  std::mt19937 dice(11);
  for (char& c : octets) c = static_cast<char>(dice());
  for (int i = 0; i < 80; ++i) {
    octets[0] = static_cast<char>(i);
    samples.emplace_back(Variant(ByteString(octets.data(), octets.size())), later(kStart, i));
  }
  {
    Opened run(folder.path);
    run.add("trend", samples);
    REQUIRE(run.store->flush(kStart));
    const bool isSame = run.all("trend") == samples;
    CHECK(isSame);
  }
  Opened run(folder.path);
  const bool isSame = run.all("trend") == samples;
  CHECK(isSame);
  CHECK(run.damage.empty());
}

// Faults

TEST_CASE("what was acknowledged is there after kill -9 at any moment, and nothing is there twice", "[history]") {
  const Folder folder;
  std::mt19937 dice(static_cast<unsigned>(getpid()));
  std::int64_t acknowledged = 0;
  for (int round = 0; round < 200; ++round) {
    int pipe_[2];
    REQUIRE(pipe(pipe_) == 0);
    const std::int64_t begin = acknowledged;
    const pid_t child = fork();
    if (child == 0) {
      auto opened = EmbeddedStore::open(folder.path, [](const std::string&) { _exit(9); });
      if (!opened) _exit(8);
      const auto level = (*opened)->variable("level");
      for (std::int64_t i = begin;;) {
        std::vector<Record> records;
        for (int k = 0; k < 300; ++k, ++i)
          records.push_back({level, DataValue(Variant(i), later(kStart, static_cast<double>(i)))});
        (*opened)->append(records);
        if (!(*opened)->flush(kStart)) _exit(7);
        if (write(pipe_[1], &i, sizeof i) != sizeof i) _exit(6);
      }
    }
    close(pipe_[1]);
    std::int64_t told = 0;
    for (int i = 0; i < 1 + static_cast<int>(dice() % 3); ++i)
      if (read(pipe_[0], &told, sizeof told) == sizeof told) acknowledged = told;
    usleep(dice() % 3'000);
    kill(child, SIGKILL);
    int state = 0;
    waitpid(child, &state, 0);
    REQUIRE(WIFSIGNALED(state));
    while (read(pipe_[0], &told, sizeof told) == sizeof told) acknowledged = told;
    close(pipe_[0]);
    // What wasn't acknowledged may be there, too; the next child writes the same again.
    if (round % 20 == 19) {
      Opened run(folder.path);
      const auto all = run.all("level");
      REQUIRE(all.size() >= static_cast<std::size_t>(acknowledged));
      for (std::size_t i = 0; i < all.size(); ++i) REQUIRE(all[i].value == Variant(static_cast<std::int64_t>(i)));
      CHECK(run.damage.empty());
    }
  }
}

/// A disk that fails: the n-th write or sync of files, and all that come after it until it is mended.
class FailingDisk {
 public:
  FailingDisk() {
    real() = sqlite3_vfs_find(nullptr);
    vfs_ = *real();
    vfs_.zName = "failing";
    vfs_.szOsFile = static_cast<int>(sizeof(File)) + real()->szOsFile;
    vfs_.xOpen = [](sqlite3_vfs*, sqlite3_filename name, sqlite3_file* file, int flags, int* out) {
      auto* mine = reinterpret_cast<File*>(file);
      mine->real = reinterpret_cast<sqlite3_file*>(mine + 1);
      const int outcome = real()->xOpen(real(), name, mine->real, flags, out);
      static const sqlite3_io_methods methods = methodsOf();
      file->pMethods = outcome == SQLITE_OK ? &methods : nullptr;
      return outcome;
    };
    sqlite3_vfs_register(&vfs_, 1);
  }
  ~FailingDisk() {
    sqlite3_vfs_unregister(&vfs_);
    sqlite3_vfs_register(real(), 1);
  }
  static inline int failAt = -1, calls = 0;

 private:
  struct File {
    sqlite3_file base;
    sqlite3_file* real;
  };
  static sqlite3_vfs*& real() {
    static sqlite3_vfs* vfs = nullptr;
    return vfs;
  }
  static sqlite3_file* of(sqlite3_file* file) { return reinterpret_cast<File*>(file)->real; }
  static bool fails() { return failAt >= 0 && calls++ >= failAt; }
  static sqlite3_io_methods methodsOf() {
    sqlite3_io_methods m{};
    m.iVersion = 1;
    m.xClose = [](sqlite3_file* f) { return of(f)->pMethods->xClose(of(f)); };
    m.xRead = [](sqlite3_file* f, void* to, int n, sqlite3_int64 at) {
      return of(f)->pMethods->xRead(of(f), to, n, at);
    };
    m.xWrite = [](sqlite3_file* f, const void* from, int n, sqlite3_int64 at) {
      return fails() ? SQLITE_FULL : of(f)->pMethods->xWrite(of(f), from, n, at);
    };
    m.xTruncate = [](sqlite3_file* f, sqlite3_int64 n) { return of(f)->pMethods->xTruncate(of(f), n); };
    m.xSync = [](sqlite3_file* f, int flags) {
      return fails() ? SQLITE_IOERR_FSYNC : of(f)->pMethods->xSync(of(f), flags);
    };
    m.xFileSize = [](sqlite3_file* f, sqlite3_int64* n) { return of(f)->pMethods->xFileSize(of(f), n); };
    m.xLock = [](sqlite3_file* f, int l) { return of(f)->pMethods->xLock(of(f), l); };
    m.xUnlock = [](sqlite3_file* f, int l) { return of(f)->pMethods->xUnlock(of(f), l); };
    m.xCheckReservedLock = [](sqlite3_file* f, int* out) { return of(f)->pMethods->xCheckReservedLock(of(f), out); };
    m.xFileControl = [](sqlite3_file* f, int op, void* arg) { return of(f)->pMethods->xFileControl(of(f), op, arg); };
    m.xSectorSize = [](sqlite3_file* f) { return of(f)->pMethods->xSectorSize(of(f)); };
    m.xDeviceCharacteristics = [](sqlite3_file* f) { return of(f)->pMethods->xDeviceCharacteristics(of(f)); };
    return m;
  }
  sqlite3_vfs vfs_;
};

TEST_CASE("whichever write fails, what was acknowledged is there, and the rest comes when the disk is well again",
          "[history]") {
  const FailingDisk disk;
  bool everFailed = true;
  for (int failAt = 0; everFailed; ++failAt) {
    CAPTURE(failAt);
    REQUIRE(failAt < 400);
    const Folder folder;
    std::size_t acknowledged = 0;
    Samples samples;
    everFailed = false;
    {
      FailingDisk::failAt = -1;
      Opened run(folder.path);
      run.store->variable("level");
      FailingDisk::calls = 0;
      FailingDisk::failAt = failAt;
      for (int batch = 0; batch < 5; ++batch) {
        const auto some = ramp(later(kStart, batch * 2'000), 2'000);
        samples.insert(samples.end(), some.begin(), some.end());
        run.add("level", some);
        if (run.store->flush(kStart))
          acknowledged = samples.size();
        else
          everFailed = true;
        const bool isAllThere = run.all("level") == samples;
        CHECK(isAllThere);  // nothing is lost yet
      }
      if (failAt % 2 == 0) {
        // The disk is well again before the end.
        FailingDisk::failAt = -1;
        CHECK(run.store->flush(kStart));
        acknowledged = samples.size();
      }
    }
    FailingDisk::failAt = -1;
    Opened run(folder.path);
    const auto all = run.all("level");
    REQUIRE(all.size() >= acknowledged);
    CHECK(std::equal(all.begin(), all.end(), samples.begin()));
    CHECK(run.damage.empty());
  }
}

TEST_CASE("a damaged block is named, and lost in its place alone", "[history]") {
  const Folder folder;
  const Samples samples = ramp(kStart, 3 * 4'096);
  {
    Opened run(folder.path);
    run.add("level", samples);
    REQUIRE(run.store->flush(kStart));
  }
  sqlite3* database = nullptr;
  REQUIRE(sqlite3_open((folder.path / "2026-03.sqlite").c_str(), &database) == SQLITE_OK);
  REQUIRE(sqlite3_exec(database,
                       "UPDATE blocks SET octets = zeroblob(20) WHERE first = (SELECT first FROM blocks ORDER BY first "
                       "LIMIT 1 OFFSET 1)",
                       nullptr, nullptr, nullptr) == SQLITE_OK);
  sqlite3_close(database);
  Opened run(folder.path);
  const auto all = run.all("level");
  REQUIRE(all.size() == 2 * 4'096 + 1);
  CHECK(all[4'096].status == status::BadDataLost);
  CHECK(all[4'096].sourceTimestamp == samples[4'096].sourceTimestamp);
  REQUIRE(!run.damage.empty());
  CHECK(run.damage.front().find("level") != std::string::npos);
  // Said once, however often it is read.
  CHECK(run.all("level").size() == all.size());
  CHECK(run.damage.size() == 1);
  // An average over it is not good.
  const aggregate::Manner manner;
  const auto* function = aggregate::functionNamed("PercentGood");
  const auto judged =
      readProcessed(*run.store->timeline(run.store->variable("level")),
                    {samples.front().sourceTimestamp, samples.back().sourceTimestamp, 0, function}, manner, {});
  REQUIRE(judged);
  CHECK(aggregate::numberOf(judged->values.front().value) == Approx(200.0 / 3).margin(0.1));
}

TEST_CASE("a file that is none is put aside, and the rest goes on", "[history]") {
  const Folder folder;
  {
    Opened run(folder.path);
    run.add("level", ramp(kStart, 10));
    REQUIRE(run.store->flush(kStart));
  }
  std::ofstream(folder.path / "2026-03.sqlite", std::ios::binary) << std::string(8'192, 'x');
  Opened run(folder.path);
  CHECK(!run.damage.empty());
  CHECK(fs::exists(folder.path / "2026-03.sqlite.damaged"));
  run.add("level", ramp(kStart, 3));
  CHECK(run.store->flush(kStart));
  CHECK(run.all("level").size() == 3);
}

TEST_CASE("what waits for a file that can't be opened is bounded, and each loss is marked", "[history]") {
  const Folder folder;
  Opened run(folder.path);
  fs::create_directories(folder.path / "2026-04.sqlite");
  const DateTime begin = day("2026-04-02T00:00:00Z");
  const auto ends = [&](const std::string& name) {
    const auto all = run.all(name);
    return std::pair(all.size(), all.empty() ? DataValue() : all.back());
  };
  constexpr int kRoom = EmbeddedStore::kMostUnsaved;
  run.add("level", ramp(begin, kRoom, 0.1));
  for (const char* name : {"level", "flow"}) run.add(name, ramp(later(begin, 90'000), 3));
  std::vector<KeptEvent> events(2);
  for (auto& event : events) event = {begin, Bytes(4), 0};
  run.store->append(std::move(events));
  CHECK_FALSE(run.store->flush(begin));
  CHECK_FALSE(run.damage.empty());
  for (const bool isOpen : {false, true}) {
    CAPTURE(isOpen);
    if (isOpen) {
      fs::remove(folder.path / "2026-04.sqlite");
      REQUIRE(run.store->flush(begin));
    }
    for (const auto& [name, size] : {std::pair("level", kRoom + 1), std::pair("flow", 1)}) {
      const auto [count, last] = ends(name);
      CHECK(count == static_cast<std::size_t>(size));
      CHECK(last.status == status::BadDataLost);
      CHECK(last.sourceTimestamp == later(begin, 90'000));
    }
  }
  CHECK(run.store->events(kBeginning, kEnd, 9, nullptr)->size() == 2);
}

// Recording

/// An archive on a thread, whose answers come when they are asked for.
struct Archived {
  explicit Archived(const fs::path& folder, const DateTime& now) {
    auto store = EmbeddedStore::open(folder, [](const std::string&) {});
    REQUIRE(store);
    archive = std::make_unique<ArchiveThread>(
        std::move(*store), [](std::function<void()> work) { work(); }, [](bool, const std::string&) {},
        [&now] { return now; });
  }
  Samples all(const std::string& name) {
    std::promise<Samples> promise;
    const auto id = archive->variable(name);
    archive->perform([&](Store& store) -> std::function<void()> {
      Samples out;
      static_cast<void>(store.timeline(id)->walk(kBeginning, kEnd, [&](std::span<const DataValue> some) {
        out.insert(out.end(), some.begin(), some.end());
        return true;
      }));
      promise.set_value(std::move(out));
      return {};
    });
    return promise.get_future().get();
  }
  std::unique_ptr<ArchiveThread> archive;
};

TEST_CASE("variables with a history are recorded, and what happened between two runs is marked as lost", "[history]") {
  const Folder folder;
  const auto space = std::make_unique<space::Space>(String("urn:fernhollow.example:test"));
  space::loadNamespace0(*space);
  const auto ns = space->addNamespace(String("urn:pond"));
  const auto add = [&](const char* name, bool historizing) {
    space::NewNode node;
    node.nodeId = NodeId(ns, String(name));
    node.nodeClass = NodeClass::Variable;
    node.browseName = {ns, String(name)};
    node.traits.dataType = space->at(id::Double);
    node.traits.historizing = historizing;
    node.value = Variant(1.0);
    const auto added = space->add(node);
    REQUIRE(added);
    space->refer(space->at(id::ObjectsFolder), id::Organizes, *added);
    return *added;
  };
  const auto level = add("level", true), other = add("other", false);
  DateTime now = kStart;
  const auto wallClock = [&] { return now; };
  const auto set = [&](space::NodeIndex node, double value) {
    now = later(now, 1);
    space->setValue(node, DataValue(Variant(value), now));
  };
  const std::string name = "nsu=urn:pond;s=level";
  {
    Archived run(folder.path, now);
    Recorder recorder(*space, *run.archive, wallClock, true);
    recorder.bind({});
    CHECK(recorder.size() == 1);
    set(level, 2);
    set(other, 9);
    set(level, 2);
    set(level, 3);
    const auto all = run.all(name);
    REQUIRE(all.size() == 3);
    CHECK(all[0].value == Variant(1.0));
    CHECK(all[0].sourceTimestamp == kStart);
    CHECK(all[2].value == Variant(3.0));
    CHECK(all[2].serverTimestamp == all[2].sourceTimestamp);
    // A clock that is wrong shows.
    space->setValue(level, DataValue(Variant(4.0), later(now, 3'600)));
    CHECK(run.all(name).back().serverTimestamp == now);
    // One that can't be counts for when it came.
    for (const DateTime wrong : {DateTime{1}, DateTime{INT64_MAX}, DateTime{INT64_MIN}}) {
      now = later(now, 1);
      space->setValue(level, DataValue(Variant(static_cast<double>(wrong.ticks % 1'000)), wrong));
      CHECK(std::ranges::count(run.all(name), now, &DataValue::sourceTimestamp) == 1);
    }
    // A rule counts from when it is made.
    recorder.bind({{"level", {Rule::Kind::Deadband, 5}}});
    set(level, 5);
    const auto count = run.all(name).size();
    set(level, 6);
    CHECK(run.all(name).size() == count);
    // What no longer has a history ends so.
    space->traits(level).historizing = false;
    recorder.bind({});
    CHECK(recorder.size() == 0);
    space->traits(level).historizing = true;
  }
  std::size_t before = 0;
  {
    Archived run(folder.path, now);
    CHECK(!run.archive->watchedBefore().isNull());
    before = run.all(name).size();
    now = later(run.archive->watchedBefore(), 60);
    Recorder recorder(*space, *run.archive, wallClock, true);
    recorder.bind({});
    set(level, 7);
    CHECK(run.all(name).size() == before + 2);  // it had been said that it was lost
  }
  Archived run(folder.path, now);
  before = run.all(name).size();
  const DateTime end = run.archive->watchedBefore();
  now = later(end, 60);
  Recorder recorder(*space, *run.archive, wallClock, true);
  recorder.bind({});
  const auto all = run.all(name);
  CHECK(all.size() == before + 2);
  CHECK(std::ranges::count(all, after(end), &DataValue::sourceTimestamp) == 1);
  const auto gap = std::ranges::find(all, after(end), &DataValue::sourceTimestamp);
  CHECK(gap->status == status::BadDataLost);
}

}  // namespace zunth::history_store_test
