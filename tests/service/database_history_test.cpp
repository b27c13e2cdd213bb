// History in PostgreSQL: against what the files of the embedded store make of the same, and while the database goes and
// comes.

#include "core/history/kept_event.hpp"
#include "core/history/moving.hpp"
#include "core/space/namespace0.hpp"
#include "service/history/forwarding_store.hpp"
#include "service/history/postgres_rows.hpp"

#include <cmath>
#include <random>

#include "tests/service/database.hpp"
#include "tests/service/plant.hpp"
#include <catch2/catch.hpp>

namespace zunth::database_history_test {

using namespace ua;
using namespace history;
using test::Database;
using Samples = std::vector<DataValue>;

constexpr std::int64_t kSecond = 10'000'000;
const DateTime kStart = *DateTime::parse("2026-03-31T23:59:00Z");  // a minute before another month

DateTime later(double seconds) { return {kStart.ticks + static_cast<std::int64_t>(seconds * kSecond)}; }
DataValue sampleAt(double seconds, Variant value) {
  DataValue out(std::move(value), later(seconds));
  out.serverTimestamp = out.sourceTimestamp;
  return out;
}

template <class Result>
std::string why(const Result& result) {
  return result ? std::string("it went well") : result.error().text();
}

Samples all(Store& store, const std::string& name, DateTime from = kBeginning, DateTime to = kEnd) {
  Samples out;
  const auto fine = store.timeline(store.variable(name))->walk(from, to, [&](std::span<const DataValue> some) {
    out.insert(out.end(), some.begin(), some.end());
    return true;
  });
  INFO(why(fine));
  CHECK(fine);
  return out;
}
void add(Store& store, const std::string& name, const Samples& samples) {
  std::vector<Record> records;
  const auto id = store.variable(name);
  for (const auto& sample : samples) records.push_back({id, sample});
  store.append(records);
}

std::unique_ptr<PostgresStore> opened(const Database& database, const std::string& server = "urn:one") {
  auto store = PostgresStore::open(database.address(), server);
  if (!store) FAIL(why(store));
  return std::move(*store);
}
std::unique_ptr<EmbeddedStore> files(const std::filesystem::path& folder) {
  return std::move(*EmbeddedStore::open(folder, [](const std::string& what) { FAIL(what); }));
}

TEST_CASE("values stand in columns as what they are", "[history][database]") {
  const Variant values[] = {
      Variant(),
      Variant(true),
      Variant(std::int8_t{-128}),
      Variant(std::uint16_t{65'535}),
      Variant(std::int32_t{-7}),
      Variant(INT64_MAX),
      Variant(INT64_MIN),
      Variant(UINT64_MAX),
      Variant(std::int64_t{9'007'199'254'740'992}),
      Variant(0.1f),
      Variant(3.4028235e38f),
      Variant(0.1),
      Variant(-0.0),
      Variant(5e-324),
      Variant(std::numeric_limits<double>::infinity()),
      Variant(String("Grüße \\ \t 'quoted'")),
      Variant(String(std::string_view("a\0b", 3))),
      Variant(DateTime{17}),
      Variant(ByteString(Bytes{std::byte{0}, std::byte{255}, std::byte{'\\'}})),
      Variant::array<double>({1, 2, 3}),
  };
  for (const auto& value : values) {
    const auto row = RowValue::of(value);
    const auto back = row.value();
    REQUIRE(back);
    INFO(row.number.value_or("") << " " << row.exact.value_or(""));
    CHECK(*back == value);
  }
  CHECK(std::isnan(*RowValue::of(Variant(std::nan(""))).value()->get<double>()));
  CHECK(RowValue::of(Variant(0.1f)).number == "0.1");
  CHECK(RowValue::of(Variant(String("a\nb"))).words != "a\nb");
  // What other hands have put there.
  struct {
    int type;
    std::optional<std::string> number, exact;
  } const wrong[] = {{3, "256", {}},    {6, "many", {}},   {77, "1", {}}, {8, "1e300", {}},
                     {12, {}, "\\x0c"}, {12, {}, "\\xzz"}, {3, "nan", {}}};
  for (const auto& each : wrong) {
    RowValue row;
    row.type = each.type;
    row.number = each.number;
    row.exact = each.exact;
    CHECK_FALSE(row.value());
  }
  CHECK(RowTime::of(*DateTime::parse("2026-11-28T06:00:00.1250007Z")).words == "2026-11-28 06:00:00.125000+00");
  CHECK(RowTime::of(*DateTime::parse("2026-11-28T06:00:00.1250007Z")).tick == 7);
  CHECK(RowTime::of(DateTime{-5}).words == "1601-01-01 00:00:00.000000+00");
  CHECK(RowTime::of(kEnd).words == "9999-12-31 23:59:59.999999+00");
}

TEST_CASE("a database keeps what files keep", "[history][database]") {
  const Database database;
  const test::TemporaryFolder folder;
  auto reference = files(folder.path / "files");
  auto store = opened(database);
  auto other = opened(database, "urn:two");
  std::mt19937 dice(11);
  const auto roll = [&](int sides) { return std::uniform_int_distribution<>(0, sides - 1)(dice); };
  const auto same = [&](const std::string& name, DateTime from, DateTime to) {
    const auto expected = all(*reference, name, from, to), got = all(*store, name, from, to);
    INFO(name << " " << from.text() << " to " << to.text() << ": " << got.size() << " for " << expected.size());
    CHECK(got == expected);
  };
  for (int round = 0; round < 60; ++round) {
    const std::string name = roll(3) == 0 ? "b" : "a";
    const auto moment = [&] { return later(roll(200) * 0.6 + roll(4) * 1e-7); };
    if (roll(2) == 0) {
      Samples some;
      for (int i = roll(30); i >= 0; --i) {
        DataValue sample(roll(5) ? Variant(roll(1000) / 8.0) : Variant(String("words " + std::to_string(i))), moment());
        sample.serverTimestamp =
            roll(2) ? sample.sourceTimestamp : DateTime{sample.sourceTimestamp.ticks / 10 * 10 + 70};
        if (roll(6) == 0) sample.status = status::UncertainLastUsableValue;
        some.push_back(std::move(sample));
      }
      add(*reference, name, some);
      add(*store, name, some);
      add(*other, name, {sampleAt(1, Variant(-1.0))});
    } else {
      Edit edit{static_cast<Edit::Kind>(roll(6))};
      edit.user = String("mara");
      edit.now = later(1e6 + round);
      edit.from = moment();
      edit.to = later(200);
      for (int i = roll(4); i >= 0; --i) {
        edit.times.push_back(moment());
        edit.samples.push_back(DataValue(Variant(i * 1.5), edit.times.back()));
      }
      if (edit.kind == Edit::Kind::DeleteTimes) edit.samples.clear();
      if (edit.kind <= Edit::Kind::Update) edit.times.clear();
      if (edit.kind == Edit::Kind::DeleteRange || edit.kind == Edit::Kind::DeleteModified) {
        edit.samples.clear();
        edit.times.clear();
      }
      const auto expected = reference->edit(reference->variable(name), edit);
      const auto got = store->edit(store->variable(name), edit);
      INFO("round " << round << " kind " << static_cast<int>(edit.kind) << " " << why(got));
      REQUIRE(got);
      REQUIRE(expected);
      CHECK(*got == *expected);
    }
    if (roll(4) == 0) {
      REQUIRE(reference->flush(later(round)));
      REQUIRE(store->flush(later(round)));
    }
    const auto from = roll(3) ? moment() : kBeginning, to = roll(3) ? moment() : kEnd;
    same(name, from, to);
    same(name, to, from);
    same(name, from, from);
    const auto expected = reference->modified(reference->variable(name), kBeginning, kEnd);
    const auto got = store->modified(store->variable(name), kBeginning, kEnd);
    REQUIRE(got);
    REQUIRE(expected);
    REQUIRE(got->size() == expected->size());
    for (std::size_t i = 0; i < got->size(); ++i) {
      CHECK((*got)[i].sample == (*expected)[i].sample);
      CHECK((*got)[i].info == (*expected)[i].info);
    }
  }
  REQUIRE(store->flush(later(500)));
  REQUIRE(other->flush(later(400)));
  // A new start; and what is another server's stays apart.
  store = opened(database);
  same("a", kBeginning, kEnd);
  CHECK(store->watchedUntil() == later(500));
  CHECK(store->names().code() == status::Good);
  CHECK(*store->names() == std::vector<std::string>{"a", "b"});
  CHECK(all(*other, "a").size() == 1);
  // Plain rows, for others than us.
  CHECK(database.query("select count(*) from zunth.reading where server = 'urn:one' and variable = 'a'").out ==
        std::to_string(all(*store, "a").size()) + "\n");
  CHECK(database.query("select value, quality from zunth.reading where server = 'urn:two' and variable = 'a'").out ==
        "-1|good\n");
  CHECK(database.query("select count(*) from pg_tables where tablename in ('sample_2026_03', 'sample_2026_04')").out ==
        "2\n");
  // Some may go sooner than the rest.
  const std::vector<std::string> sooner{"b", "unheard of"};
  const auto ofA = all(*store, "a").size();
  REQUIRE(store->forget(sooner, kEnd));
  CHECK(all(*store, "b").empty());
  CHECK(all(*store, "a").size() == ofA);
  CHECK(all(*other, "a").size() == 1);
  // Months that are over go as a whole; a month's table when nobody has anything in it.
  REQUIRE(reference->forget(*DateTime::parse("2026-04-15T00:00:00Z")));
  REQUIRE(store->forget(*DateTime::parse("2026-04-15T00:00:00Z")));
  same("a", kBeginning, kEnd);
  CHECK(all(*other, "a").size() == 1);
  REQUIRE(other->forget(*DateTime::parse("2026-04-15T00:00:00Z")));
  CHECK(database.query("select count(*) from pg_tables where tablename = 'sample_2026_03'").out == "0\n");
  add(*store, "a", {sampleAt(0, Variant(5.0))});
  CHECK(all(*store, "a").front() == sampleAt(0, Variant(5.0)));
}

TEST_CASE("many samples come back in pages, once each", "[history][database]") {
  const Database database;
  auto store = opened(database);
  Samples samples;
  for (int i = 0; i < 20'000; ++i) samples.push_back(sampleAt(i * 0.01, Variant(i)));
  add(*store, "level", samples);
  CHECK(all(*store, "level") == samples);
  auto turned = all(*store, "level", kEnd, kBeginning);
  std::ranges::reverse(turned);
  CHECK(turned == samples);
  int seen = 0;
  CHECK(store->timeline(store->variable("level"))->walk(kBeginning, kEnd, [&](std::span<const DataValue> some) {
    seen += static_cast<int>(some.size());
    return seen < 5'000;
  }));
  CHECK(seen < 10'000);
}

TEST_CASE("what was begun in a transaction that came to nothing is begun anew", "[history][database]") {
  const Database database;
  auto store = opened(database);
  const DateTime january = *DateTime::parse("2027-01-05T00:00:00Z");
  Edit edit{Edit::Kind::Insert};
  edit.samples = {DataValue(Variant(1.0), january)};
  REQUIRE(database.query("alter table zunth.modified rename to away").code == 0);
  CHECK_FALSE(store->edit(store->variable("fresh"), edit));
  REQUIRE(database.query("alter table zunth.away rename to modified").code == 0);
  add(*store, "fresh", edit.samples);
  REQUIRE(store->flush(later(1)));
  CHECK(database.query("select count(*) from zunth.sample_2027_01").out == "1\n");
  CHECK(database.query("select count(*) from zunth.reading where variable = 'fresh'").out == "1\n");
  CHECK(all(*opened(database), "fresh") == edit.samples);
  // Another server takes a month's table away that has nothing in it; it is made again.
  auto other = opened(database, "urn:two");
  Edit remove{Edit::Kind::DeleteTimes};
  remove.times = {january};
  REQUIRE(store->edit(store->variable("fresh"), remove));
  REQUIRE(other->forget(*DateTime::parse("2027-06-01T00:00:00Z")));
  CHECK(database.query("select to_regclass('zunth.sample_2027_01') is null").out == "t\n");
  add(*store, "fresh", edit.samples);
  REQUIRE(store->flush(later(2)));
  CHECK(database.query("select count(*) from zunth.sample_2027_01").out == "1\n");
}

KeptEvent eventAt(const space::Space& space, int i) {
  monitor::Event event(space.at(id::BaseEventType), space.at(id::Server));
  event.add({QualifiedName{0, String("Severity")}}, Variant(std::uint16_t{600}));
  event.add({QualifiedName{0, String("Message")}}, Variant(LocalizedText(String("number " + std::to_string(i)))));
  return {later(i), encodeEvent(space, event)};
}

TEST_CASE("what comes while the database is away is kept in files, and brought there", "[history][database]") {
  Database database;
  const test::TemporaryFolder folder;
  const auto space = std::make_unique<space::Space>(String("urn:fernhollow.example:test"));
  space::loadNamespace0(*space);
  std::vector<std::string> told;
  const auto begin = [&] {
    return std::make_unique<ForwardingStore>([&] { return PostgresStore::open(database.address(), "urn:one"); },
                                             files(folder.path / "waiting"),
                                             [&](bool, const std::string& what) { told.push_back(what); });
  };
  auto store = begin();
  Samples samples;
  int next = 0;
  const auto come = [&](int count) {
    for (const int end = next + count; next < end; ++next) {
      samples.push_back(sampleAt(next, Variant(next * 0.5)));
      add(*store, "level", {samples.back()});
      store->append(std::vector{eventAt(*space, next)});
      if (next % 10 == 0) REQUIRE(store->flush(later(next)));
    }
  };
  const auto events = [&](DateTime from = kBeginning, DateTime to = kEnd) {
    std::vector<std::int64_t> times;
    auto some = store->events(from, to, 100'000, nullptr);
    INFO(why(some));
    CHECK(some);
    if (some)
      for (const auto& event : *some) times.push_back(event.time.ticks);
    return times;
  };
  const auto isWhole = [&] {
    CHECK(all(*store, "level") == samples);
    std::vector<std::int64_t> expected;
    for (const auto& sample : samples) expected.push_back(sample.sourceTimestamp.ticks);
    CHECK(events() == expected);
  };
  come(101);
  CHECK_FALSE(store->isAway());
  isWhole();

  database.stop();
  come(100);
  CHECK(store->isAway());
  REQUIRE(told.size() == 1);
  CHECK(told[0].find("doesn't answer") != std::string::npos);
  // What isn't known isn't nothing: what came since is.
  Samples none;
  const auto reading = store->timeline(store->variable("level"))->walk(kBeginning, kEnd, [](auto) { return true; });
  CHECK(reading.code() == status::BadCommunicationError);
  CHECK(all(*store, "level", later(150), kEnd).size() == 51);
  CHECK(events(later(150), kEnd).size() == 51);
  CHECK_FALSE(store->events(kBeginning, kEnd, 10, nullptr));
  Edit edit{Edit::Kind::Insert};
  edit.samples = {sampleAt(0.5, Variant(1.0))};
  CHECK(store->edit(store->variable("level"), edit).code() == status::BadCommunicationError);

  SECTION("and back") {
    database.start();
    // It is tried again after some seconds, whoever asks.
    for (int i = 0; i < 1'000 && store->isAway(); ++i) {
      ::usleep(20'000);
      REQUIRE(store->flush(later(next)));
    }
    CHECK_FALSE(store->isAway());
    isWhole();
    come(50);
    isWhole();
    while (store->isBehind()) REQUIRE(store->flush(later(next)));
    isWhole();
    CHECK(told.size() == 2);
    CHECK(std::filesystem::is_empty(folder.path / "waiting"));
    CHECK(database.query("select count(*) from zunth.event where message like 'number %' and severity = 600").out ==
          std::to_string(samples.size()) + "\n");
  }
  SECTION("and back, when newer ones of the same times come before the older are brought") {
    const auto got = [](double seconds, double value, double gotAfter) {
      auto sample = sampleAt(seconds, Variant(value));
      sample.serverTimestamp = later(seconds + gotAfter);
      return sample;
    };
    add(*store, "late", {got(110, 1, 0), got(120, 1, 500), got(130, 1, 0)});
    database.start();
    for (int i = 0; i < 1'000 && store->isAway(); ++i) {
      ::usleep(20'000);
      store->timeline(store->variable("late"));
    }
    REQUIRE_FALSE(store->isAway());
    REQUIRE(store->isBehind());
    const Samples late{got(110, 2, 400), got(120, 2, 400), got(140, 2, 0)};
    add(*store, "late", late);
    const auto values = [&] {
      std::vector<double> out;
      for (const auto& sample : all(*store, "late")) out.push_back(*sample.value.get<double>());
      return out;
    };
    const std::vector<double> right{2, 1, 1, 2};
    CHECK(values() == right);
    do REQUIRE(store->flush(later(next)));
    while (store->isBehind());
    CHECK(values() == right);
    isWhole();
  }
  SECTION("and back after another start, in which nothing is taken for known that isn't") {
    REQUIRE(store->flush(later(next)));
    store.reset();
    const auto stopped = later(next);
    store = begin();
    add(*store, "level", {});
    store->variable("level");
    database.start();
    REQUIRE(store->flush(later(next + 100)));
    CHECK_FALSE(store->isAway());
    samples.push_back(DataValue(Variant(), after(stopped), status::BadDataLost));
    CHECK(all(*store, "level") == samples);
    while (store->isBehind()) REQUIRE(store->flush(later(next + 101)));
    CHECK(all(*store, "level") == samples);
  }
}

TEST_CASE("a database that neither answers nor goes is given up", "[history][database]") {
  Database database;
  auto store = opened(database);
  add(*store, "level", {sampleAt(0, Variant(1.0))});
  REQUIRE(store->flush(later(0)));
  // What answers is a process of each connection's own.
  const auto worker =
      std::stoi(database.query("select pid from pg_stat_activity where application_name = 'zunth'").out);
  ::kill(worker, SIGSTOP);
  add(*store, "level", {sampleAt(1, Variant(2.0))});
  const auto begun = std::chrono::steady_clock::now();
  CHECK(store->flush(later(1)).code() == status::BadCommunicationError);
  CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(3 * PostgresStore::kPatience));
  CHECK(store->takeUnsaved().records.size() == 1);
  ::kill(worker, SIGCONT);
}

TEST_CASE("history moves from files to a database and back, once", "[history][database]") {
  const Database database;
  const test::TemporaryFolder folder;
  const auto space = std::make_unique<space::Space>(String("urn:fernhollow.example:test"));
  space::loadNamespace0(*space);
  auto first = files(folder.path / "first"), second = files(folder.path / "second");
  auto store = opened(database);
  for (int i = 0; i < 3'000; ++i) add(*first, i % 3 ? "a" : "b", {sampleAt(i, Variant(i * 0.25))});
  for (int i = 0; i < 20; ++i) first->append(std::vector{eventAt(*space, i)});
  Edit edit{Edit::Kind::Update};
  edit.samples = {sampleAt(1, Variant(99.0))};
  edit.user = String("mara");
  edit.now = later(9'000);
  REQUIRE(first->edit(first->variable("a"), edit));
  const auto move = [](Store& from, Store& to) {
    auto moved = moveHistory(from, to, kStart, [](const Moved&) {});
    INFO(why(moved));
    REQUIRE(moved);
    return *moved;
  };
  const auto once = move(*first, *store);
  CHECK(once.variables == 2);
  CHECK(once.samples == 3'000);
  CHECK(once.changes == 1);
  CHECK(once.events == 20);
  CHECK(move(*first, *store).changes == 0);
  CHECK(move(*first, *store).events == 0);
  move(*store, *second);
  move(*store, *second);
  for (const char* name : {"a", "b"}) {
    CHECK(all(*second, name) == all(*first, name));
    CHECK(second->modified(second->variable(name), kBeginning, kEnd)->size() ==
          first->modified(first->variable(name), kBeginning, kEnd)->size());
  }
  CHECK(second->events(kBeginning, kEnd, 1'000, nullptr)->size() == 20);
  // Each is taken away in its own place, once.
  for (Store* each : {static_cast<Store*>(&*store), static_cast<Store*>(&*second)}) {
    const auto all = each->events(kBeginning, kEnd, 1'000, nullptr);
    REQUIRE(all);
    CHECK(eventIdOf(all->at(7).octets).empty());
    CHECK(*each->removeEvent(all->at(7)));
    CHECK_FALSE(*each->removeEvent(all->at(7)));
    CHECK(each->events(kBeginning, kEnd, 1'000, nullptr)->size() == all->size() - 1);
  }
}

TEST_CASE("a site keeps its history in a database, from when its file says so", "[plant][history][database]") {
  const Database database;
  test::Plant plant(false);
  const auto site = plant.folder.path / "site";
  const auto edit = [&](const std::string& name, const std::string& word, const std::string& by) {
    std::ifstream in(site / name);
    std::string text((std::istreambuf_iterator<char>(in)), {});
    const auto at = text.find(word);
    REQUIRE(at != std::string::npos);
    plant.folder.write("site/" + name, text.replace(at, word.size(), by));
  };
  edit("model/plant.yaml", "pressure: Float kPa 0..50", "pressure: Float kPa 0..50 history");
  edit("site.yaml", "name: Test", "name: Test\nhistory:\n  database: \"" + database.address() + "\"");
  REQUIRE(plant.zunthAlone("apply --site site").code == 0);
  const auto values = [&] {
    const auto told = plant.zunth("history DF1/pressure --output json");
    INFO(told.error);
    return told.code == 0 ? test::Json::parse(told.out).size() : 0;
  };
  for (int i = 0; i < 300 && values() < 5; ++i) ::usleep(50'000);
  CHECK(values() >= 5);
  // What came before the database was first reached is brought there within a second or so.
  const auto rows = [&] {
    return std::stoi(database.query("select count(*) from zunth.reading where variable like '%pressure'").out);
  };
  for (int i = 0; i < 300 && rows() < 5; ++i) ::usleep(50'000);
  CHECK(rows() >= 5);
  // While it runs nothing is moved; then it is, into files.
  CHECK(plant.zunthAlone("history-move site --to files").code != 0);
  CHECK(plant.zunthAlone("check site").code == 0);
  plant.service->stop(SIGTERM);
  const auto moved = plant.zunthAlone("history-move site --to files --output json");
  INFO(moved.error);
  REQUIRE(moved.code == 0);
  CHECK(test::Json::parse(moved.out)["values"].get<int>() >= 5);
  CHECK(std::filesystem::exists(site / "state/history"));
  CHECK(plant.zunthAlone("history-move site --to \"" + database.address() + "\"").code == 2);
  CHECK(plant.zunthAlone("history-move site --to files --output json").code == 0);
  edit("site.yaml", "database: \"", "size: 1 GB\n  database: \"nonsense://");
  const auto check = plant.zunthAlone("check site");
  CHECK(check.code == 1);
  CHECK(check.out.find("is no address of a database") != std::string::npos);
  CHECK(check.out.find("how large a database may become") != std::string::npos);
}

}  // namespace zunth::database_history_test
