#include "service/history/postgres_connection.hpp"

#include "core/history/kept_event.hpp"
#include "core/history/timeline.hpp"
#include "service/history/postgres_samples.hpp"

#include <algorithm>
#include <charconv>

namespace zunth::history {

using namespace ua;

namespace {

/// One that nobody else takes: what is made only once is made under it.
constexpr const char* kLock = "select pg_advisory_xact_lock(5061990417)";
constexpr int kLayout = 1;

constexpr const char* kRowTables = R"sql(
create schema if not exists zunth;
create table if not exists zunth.layout (version integer primary key);
create table if not exists zunth.server (id serial primary key, name text not null unique, watched_until bigint);
create table if not exists zunth.variable (
  id serial primary key, server integer not null references zunth.server, name text not null, unique (server, name));
create table if not exists zunth.sample (
  variable integer not null, time timestamptz not null, tick smallint not null, type smallint not null,
  value double precision, words text, exact bytea, status bigint not null, server_time timestamptz,
  primary key (variable, time, tick)) partition by range (time);
create table if not exists zunth.sample_other partition of zunth.sample default;
create table if not exists zunth.modified (
  number bigserial primary key, variable integer not null, time timestamptz not null, tick smallint not null,
  type smallint not null, value double precision, words text, exact bytea, status bigint not null,
  server_time timestamptz, kind smallint not null, made timestamptz not null, made_by text not null);
create index if not exists modified_when on zunth.modified (variable, time, tick, number);
create table if not exists zunth.event (
  server integer not null, time timestamptz not null, tick smallint not null, digest text not null,
  number bigserial, type text, source text, severity integer, message text, octets bytea not null,
  primary key (server, time, tick, digest)) partition by range (time);
create table if not exists zunth.event_other partition of zunth.event default;
create or replace view zunth.reading as
  select server.name as server, variable.name as variable, sample.time, sample.value, sample.words,
    case sample.status >> 30 when 0 then 'good' when 1 then 'uncertain' else 'bad' end as quality, sample.status
  from zunth.sample join zunth.variable on variable.id = sample.variable join zunth.server on server.id = variable.server;
)sql";

/// Of a connection's own: what comes in is copied here first, and then put where it belongs.
constexpr const char* kIncoming = R"sql(
create temporary table incoming (
  number integer, variable integer, time timestamptz, tick smallint, type smallint, value double precision, words text,
  exact bytea, status bigint, server_time timestamptz) on commit delete rows;
create temporary table incoming_event (
  time timestamptz, tick smallint, octets bytea, type text, source text, severity integer, message text)
  on commit delete rows;
)sql";

constexpr const char* kPutSamples = R"sql(
insert into zunth.sample (variable, time, tick, type, value, words, exact, status, server_time)
  select distinct on (variable, time, tick) variable, time, tick, type, value, words, exact, status, server_time
  from incoming order by variable, time, tick, number desc
on conflict (variable, time, tick) do update set type = excluded.type, value = excluded.value, words = excluded.words,
  exact = excluded.exact, status = excluded.status, server_time = excluded.server_time
)sql";

/// Gives way to what the server got later.
constexpr const char* kUnlessNewer =
    "where coalesce(excluded.server_time, excluded.time) >= coalesce(sample.server_time, sample.time)";

constexpr const char* kPutEvents = R"sql(
insert into zunth.event (server, time, tick, digest, type, source, severity, message, octets)
  select {}, time, tick, md5(octets), type, source, severity, message, octets from incoming_event
on conflict do nothing
)sql";

PostgresConnection::MonthNumber monthOf(DateTime time) {
  const auto words = RowTime::of(time).words;
  int year = 0, month = 0;
  std::from_chars(words.data(), words.data() + 4, year);
  std::from_chars(words.data() + 5, words.data() + 7, month);
  return year * 12 + month - 1;
}

}  // namespace

void lockTables(pqxx::work& transaction) { transaction.exec1(kLock); }

Error PostgresConnection::errorOf(const std::exception& problem) {
  if (dynamic_cast<const pqxx::in_doubt_error*>(&problem))
    return {status::BadCommunicationError, "the database of history went away in the middle of a commit", {}};
  if (dynamic_cast<const pqxx::broken_connection*>(&problem))
    return {status::BadCommunicationError,
            fmt::format("the database of history doesn't answer: {}", shown(problem.what())),
            {}};
  return {status::BadResourceUnavailable, fmt::format("the database of history: {}", shown(problem.what())), {}};
}

PostgresConnection::PostgresConnection(const std::string& address, std::string server, int patience)
    : database_(address), patience_(patience) {
  // It would come again by itself, without what was prepared; later versions of the library never do.
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wdeprecated-declarations"
  database_.inhibit_reactivation(true);
#pragma GCC diagnostic pop
  patience_.guard(database_.sock());
  const Patience::Turn turn(patience_);
  database_.set_client_encoding("UTF8");
  makeTables();
  server_ = idOfServer(std::move(server));
  prepare();
  pqxx::work transaction(database_);
  transaction.exec(kIncoming);
  beginsAt_ = earliest(transaction);
  transaction.commit();
}

VariableId PostgresConnection::variable(const std::string& name) {
  const auto [at, isNew] = ids_.try_emplace(name, static_cast<VariableId>(variables_.size()));
  if (isNew) variables_.push_back({name});
  return at->second;
}

std::int64_t PostgresConnection::row(pqxx::work& transaction, VariableId id) {
  auto& variable = variables_[id];
  if (variable.row == 0) {
    variable.row = transaction.exec_prepared1("variable", server_, variable.name)[0].as<std::int64_t>();
    newRows_.push_back(id);
  }
  return variable.row;
}

void PostgresConnection::put(pqxx::work& transaction, std::span<const Record> records, bool givesWay) {
  if (records.empty()) return;
  std::set<MonthNumber> months;
  DateTime earliest = kEnd;
  for (const auto& record : records) {
    months.insert(monthOf(record.sample.sourceTimestamp));
    earliest = std::min(earliest, record.sample.sourceTimestamp);
    row(transaction, record.variable);
  }
  makeMonths(transaction, months);
  Incoming incoming(transaction);
  for (const auto& record : records) incoming.add(variables_[record.variable].row, record.sample);
  incoming.done();
  transaction.exec0(givesWay ? std::string(kPutSamples) + kUnlessNewer : kPutSamples);
  transaction.exec0("delete from incoming");
  if (beginsAt_.isNull() || earliest < beginsAt_) beginsAt_ = earliest;
}

void PostgresConnection::put(pqxx::work& transaction, std::span<const KeptEvent> events) {
  if (events.empty()) return;
  std::set<MonthNumber> months;
  for (const auto& event : events) months.insert(monthOf(event.time));
  makeMonths(transaction, months);
  pqxx::stream_to stream(transaction, "incoming_event",
                         std::vector<std::string>{"time", "tick", "octets", "type", "source", "severity", "message"});
  for (const auto& event : events) {
    const auto time = RowTime::of(event.time);
    const auto words = wordsOf(event.octets);
    stream << std::make_tuple(time.words, time.tick, hexOf(event.octets), words.type, words.source, words.severity,
                              words.message);
  }
  stream.complete();
  transaction.exec0(fmt::format(kPutEvents, server_));
  transaction.exec0("delete from incoming_event");
}

DateTime PostgresConnection::earliest(pqxx::work& transaction) {
  const auto row = transaction.exec_params1(
      "select (extract(epoch from min(first)) * 1000000)::bigint from (select (select min(time) from zunth.sample "
      "where sample.variable = variable.id) as first from zunth.variable where server = $1) as firsts",
      server_);
  return row[0].is_null() ? DateTime() : timeFrom(whole(row[0]), 0);
}

void PostgresConnection::makeTables() {
  pqxx::work transaction(database_);
  lockTables(transaction);
  // Only who may make tables can ask for them when they are there.
  if (transaction.exec1("select to_regclass('zunth.reading') is null")[0].as<bool>()) {
    transaction.exec(kRowTables);
    transaction.exec_params0("insert into zunth.layout values ($1) on conflict do nothing", kLayout);
  }
  const auto layout = transaction.exec1("select max(version) from zunth.layout")[0].as<int>();
  if (layout != kLayout)
    throw pqxx::failure(fmt::format("its tables have layout {}, and this program knows {}", layout, kLayout));
  transaction.commit();
}

std::int64_t PostgresConnection::idOfServer(std::string server) {
  pqxx::work transaction(database_);
  transaction.exec_params0("insert into zunth.server (name) values ($1) on conflict do nothing", server);
  const auto id = transaction.exec_params1("select id from zunth.server where name = $1", server)[0].as<std::int64_t>();
  transaction.commit();
  return id;
}

void PostgresConnection::prepare() {
  database_.prepare("variable",
                    "with made as (insert into zunth.variable (server, name) values ($1, $2) on conflict do nothing "
                    "returning id) select id from made union all select id from zunth.variable where server = $1 "
                    "and name = $2 limit 1");
  // Rows can't be compared as a whole to find partitions, so the time stands there once more.
  for (const bool isBackward : {false, true})
    database_.prepare(
        isBackward ? "backward" : "forward",
        fmt::format(
            "select {3} from zunth.sample where variable = $1 and time {0}= $2 and time {1}= $4 and (time, tick) "
            "{0}= ($2, $3) and (time, tick) {1} ($4, $5) order by time {2}, tick {2} limit $6",
            isBackward ? "<" : ">", isBackward ? ">" : "<", isBackward ? "desc" : "asc", sampleColumns("sample")));
  for (const bool isBackward : {false, true})
    database_.prepare(isBackward ? "events_backward" : "events_forward",
                      fmt::format("select (extract(epoch from time) * 1000000)::bigint, tick, octets, number from "
                                  "zunth.event where server = $1 and time {0}= $2 and time {1}= $4 and (time, tick) "
                                  "{0}= ($2, $3) and (time, tick) {1} ($4, $5) and (time, tick, number) {0} ($6, $7, "
                                  "$8) order by time {2}, tick {2}, number {2} limit $9",
                                  isBackward ? "<" : ">", isBackward ? ">" : "<", isBackward ? "desc" : "asc"));
}

void PostgresConnection::makeMonths(pqxx::work& transaction, const std::set<MonthNumber>& months) {
  constexpr MonthNumber kFirst = 1970 * 12, kLast = 2200 * 12;
  for (const auto month : months) {
    if (month < kFirst || month >= kLast) continue;
    // Looked up each time: another server may have dropped it, as it had nothing in it.
    const auto there = fmt::format(
        "select to_regclass('zunth.sample_{0:04}_{1:02}') is not null and to_regclass('zunth.event_{0:04}_{1:02}') is "
        "not "
        "null",
        month / 12, month % 12 + 1);
    if (transaction.exec1(there)[0].as<bool>()) continue;
    lockTables(transaction);
    for (const char* table : {"sample", "event"})
      transaction.exec0(
          fmt::format("create table if not exists zunth.{0}_{1:04}_{2:02} partition of zunth.{0} for values from "
                      "('{1:04}-{2:02}-01 00:00:00+00') to ('{3:04}-{4:02}-01 00:00:00+00')",
                      table, month / 12, month % 12 + 1, (month + 1) / 12, (month + 1) % 12 + 1));
  }
}

}  // namespace zunth::history
