#include "service/history/postgres_store.hpp"

#include "core/history/editing.hpp"
#include "core/history/kept_event.hpp"
#include "core/ua/foreign.hpp"
#include "service/history/patience.hpp"
#include "service/history/postgres_rows.hpp"

#include <algorithm>
#include <charconv>
#include <optional>
#include <set>
#include <unordered_map>

#include <fmt/format.h>
#include <libpq-fe.h>
#include <pqxx/connection>
#include <pqxx/result>
#include <pqxx/stream_to>
#include <pqxx/transaction>
#include <sys/socket.h>

namespace zunth::history {

using namespace ua;

namespace {

/// One that nobody else takes: what is made only once is made under it.
constexpr const char* kLock = "select pg_advisory_xact_lock(5061990417)";
constexpr int kLayout = 1;
constexpr std::size_t kPage = 4096;

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

constexpr const char* kPutEvents = R"sql(
insert into zunth.event (server, time, tick, digest, type, source, severity, message, octets)
  select {}, time, tick, md5(octets), type, source, severity, message, octets from incoming_event
on conflict do nothing
)sql";

#define ZUNTH_SAMPLE(table)                                                                                         \
  "(extract(epoch from " table ".time) * 1000000)::bigint, " table ".tick, " table ".type, " table ".value, " table \
  ".exact, " table ".status, (extract(epoch from " table ".server_time) * 1000000)::bigint"

const std::vector<std::string> kIncomingColumns{"number", "variable", "time",  "tick",   "type",
                                                "value",  "words",    "exact", "status", "server_time"};

/// Does something with the database; what it throws becomes an Error.
template <class Do>
auto attempt(Do&& work) -> decltype(work()) {
  try {
    return work();
  } catch (const pqxx::broken_connection& problem) {
    return Error{status::BadCommunicationError,
                 fmt::format("the database of history doesn't answer: {}", shown(problem.what())),
                 {}};
  } catch (const pqxx::in_doubt_error&) {
    return Error{status::BadCommunicationError, "the database of history went away in the middle of a commit", {}};
  } catch (const std::exception& problem) {
    return Error{status::BadResourceUnavailable, fmt::format("the database of history: {}", shown(problem.what())), {}};
  }
}

const char* orNull(const std::optional<std::string>& text) { return text ? text->c_str() : nullptr; }

std::int64_t whole(const pqxx::field& field) {
  std::int64_t out = 0;
  if (!field.is_null()) std::from_chars(field.c_str(), field.c_str() + field.size(), out);
  return out;
}

std::optional<std::string> textOf(const pqxx::field& field) {
  if (field.is_null()) return std::nullopt;
  return std::string(field.c_str(), field.size());
}

std::optional<std::string> rowTimeOf(DateTime time) {
  if (time.isNull()) return std::nullopt;
  return RowTime::of(time).words;
}

/// A row of ZUNTH_SAMPLE from a column on. What can't be read any more is lost, and says so.
DataValue sampleOf(const pqxx::row& row, int column = 0) {
  DataValue out;
  out.sourceTimestamp = timeFrom(whole(row[column]), static_cast<int>(whole(row[column + 1])));
  out.status = StatusCode(static_cast<std::uint32_t>(whole(row[column + 5])));
  if (!row[column + 6].is_null()) {
    out.serverTimestamp = timeFrom(whole(row[column + 6]), 0);
    // Where they are the same but for what has no room, they are the same.
    if (whole(row[column + 6]) == whole(row[column])) out.serverTimestamp = out.sourceTimestamp;
  }
  RowValue value;
  value.type = static_cast<int>(whole(row[column + 2]));
  value.number = textOf(row[column + 3]);
  value.exact = textOf(row[column + 4]);
  auto read = value.value();
  if (!read) return DataValue(Variant(), out.sourceTimestamp, status::BadDataLost);
  out.value = std::move(*read);
  return out;
}

DateTime withRow(DateTime time) { return std::clamp(time, kFirstRow, kLastRow); }

/// Sends rows of samples to `incoming`.
class Incoming {
 public:
  explicit Incoming(pqxx::work& transaction) : stream_(transaction, "incoming", kIncomingColumns) {}
  void add(std::int64_t variable, const DataValue& sample) {
    const auto time = RowTime::of(sample.sourceTimestamp);
    const auto value = RowValue::of(sample.value);
    const auto serverTime = rowTimeOf(sample.serverTimestamp);
    stream_ << std::make_tuple(number_++, variable, time.words, time.tick, value.type, orNull(value.number),
                               orNull(value.words), orNull(value.exact), std::int64_t{sample.status.value},
                               orNull(serverTime));
  }
  void done() { stream_.complete(); }

 private:
  pqxx::stream_to stream_;
  int number_ = 0;
};

using MonthNumber = int;  // since year 0

}  // namespace

/// A connection, what it has prepared, and by which numbers the database knows things.
class PostgresStore::Connection {
 public:
  Connection(const std::string& address, std::string server) : database_(address), patience_(kPatience) {
    // It would come again by itself, without what was prepared; later versions of the library never do.
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wdeprecated-declarations"
    database_.inhibit_reactivation(true);
#pragma GCC diagnostic pop
    patience_.guard(database_.sock());
    database_.set_client_encoding("UTF8");
    makeTables();
    server_ = idOfServer(std::move(server));
    prepare();
    pqxx::work transaction(database_);
    transaction.exec(kIncoming);
    beginsAt_ = earliest(transaction);
    transaction.commit();
  }

  /// Runs `work(transaction)` in a transaction that is committed at its end.
  template <class Work>
  auto transact(Work&& work) -> decltype(work(std::declval<pqxx::work&>())) {
    return attempt([&]() -> decltype(work(std::declval<pqxx::work&>())) {
      const Patience::Turn turn(patience_);
      pqxx::work transaction(database_);
      auto out = work(transaction);
      if (!out) return out;
      transaction.commit();
      months_.insert(newMonths_.begin(), newMonths_.end());
      newMonths_.clear();
      return out;
    });
  }

  VariableId variable(const std::string& name) {
    const auto [at, isNew] = ids_.try_emplace(name, static_cast<VariableId>(variables_.size()));
    if (isNew) variables_.push_back({name});
    return at->second;
  }
  /// The database's number of a variable, given when it has none.
  std::int64_t row(pqxx::work& transaction, VariableId id) {
    auto& variable = variables_[id];
    if (variable.row == 0)
      variable.row = transaction.exec_prepared1("variable", server_, variable.name)[0].as<std::int64_t>();
    return variable.row;
  }

  void put(pqxx::work& transaction, std::span<const Record> records) {
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
    transaction.exec0(kPutSamples);
    transaction.exec0("delete from incoming");
    if (beginsAt_.isNull() || earliest < beginsAt_) beginsAt_ = earliest;
  }

  void put(pqxx::work& transaction, std::span<const KeptEvent> events) {
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

  DateTime earliest(pqxx::work& transaction) {
    const auto row = transaction.exec_params1(
        "select (extract(epoch from min(first)) * 1000000)::bigint from (select (select min(time) from zunth.sample "
        "where sample.variable = variable.id) as first from zunth.variable where server = $1) as firsts",
        server_);
    return row[0].is_null() ? DateTime() : timeFrom(whole(row[0]), 0);
  }

  std::int64_t server() const { return server_; }
  DateTime beginsAt() const { return beginsAt_; }
  void beginAt(DateTime time) { beginsAt_ = time; }
  std::optional<VariableId> isKnown(const std::string& name) const {
    const auto at = ids_.find(name);
    return at == ids_.end() ? std::nullopt : std::optional(at->second);
  }
  void forgetMonths() { months_.clear(); }

 private:
  struct Variable {
    std::string name;
    std::int64_t row = 0;  // 0 before it is asked for
  };

  static MonthNumber monthOf(DateTime time) {
    const auto words = RowTime::of(time).words;
    int year = 0, month = 0;
    std::from_chars(words.data(), words.data() + 4, year);
    std::from_chars(words.data() + 5, words.data() + 7, month);
    return year * 12 + month - 1;
  }

  void makeTables() {
    const Patience::Turn turn(patience_);
    pqxx::work transaction(database_);
    transaction.exec1(kLock);
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

  std::int64_t idOfServer(std::string server) {
    const Patience::Turn turn(patience_);
    pqxx::work transaction(database_);
    transaction.exec_params0("insert into zunth.server (name) values ($1) on conflict do nothing", server);
    const auto id =
        transaction.exec_params1("select id from zunth.server where name = $1", server)[0].as<std::int64_t>();
    transaction.commit();
    return id;
  }

  void prepare() {
    database_.prepare("variable",
                      "with made as (insert into zunth.variable (server, name) values ($1, $2) on conflict do nothing "
                      "returning id) select id from made union all select id from zunth.variable where server = $1 "
                      "and name = $2 limit 1");
    // Rows can't be compared as a whole to find partitions, so the time stands there once more.
    for (const bool isBackward : {false, true})
      database_.prepare(
          isBackward ? "backward" : "forward",
          fmt::format("select " ZUNTH_SAMPLE(
                          "sample") " from zunth.sample where variable = $1 and "
                                    "time {0}= $2 and time {1}= $4 and (time, tick) {0}= ($2, $3) and (time, tick) {1} "
                                    "($4, $5) order by time {2}, tick {2} limit $6",
                      isBackward ? "<" : ">", isBackward ? ">" : "<", isBackward ? "desc" : "asc"));
    for (const bool isBackward : {false, true})
      database_.prepare(isBackward ? "events_backward" : "events_forward",
                        fmt::format("select (extract(epoch from time) * 1000000)::bigint, tick, octets, number from "
                                    "zunth.event where server = $1 and time {0}= $2 and time {1}= $4 and (time, tick) "
                                    "{0}= ($2, $3) and (time, tick) {1} ($4, $5) and (time, tick, number) {0} ($6, $7, "
                                    "$8) order by time {2}, tick {2}, number {2} limit $9",
                                    isBackward ? "<" : ">", isBackward ? ">" : "<", isBackward ? "desc" : "asc"));
  }

  void makeMonths(pqxx::work& transaction, const std::set<MonthNumber>& months) {
    constexpr MonthNumber kFirst = 1970 * 12, kLast = 2200 * 12;
    for (const auto month : months) {
      if (month < kFirst || month >= kLast || months_.contains(month)) continue;
      transaction.exec1(kLock);
      for (const char* table : {"sample", "event"})
        transaction.exec0(
            fmt::format("create table if not exists zunth.{0}_{1:04}_{2:02} partition of zunth.{0} for values from "
                        "('{1:04}-{2:02}-01 00:00:00+00') to ('{3:04}-{4:02}-01 00:00:00+00')",
                        table, month / 12, month % 12 + 1, (month + 1) / 12, (month + 1) % 12 + 1));
      newMonths_.insert(month);
    }
  }

  pqxx::connection database_;
  Patience patience_;
  std::int64_t server_ = 0;
  std::vector<Variable> variables_;  // by VariableId
  std::unordered_map<std::string, VariableId> ids_;
  std::set<MonthNumber> months_, newMonths_;  // that have their tables; those that get them in this transaction
  DateTime beginsAt_;
};

Result<void> PostgresStore::check(const std::string& address) {
  char* problem = nullptr;
  const std::unique_ptr<PQconninfoOption, decltype(&PQconninfoFree)> options(PQconninfoParse(address.c_str(), &problem),
                                                                             PQconninfoFree);
  const std::unique_ptr<char, decltype(&PQfreemem)> words(problem, PQfreemem);
  if (options) return {};
  return Error{status::BadInvalidArgument, problem ? shown(problem) : "it can't be read",
               "as in: postgresql://zunth@db.example/plant"};
}

namespace {

/// The address as libpq takes it, with what it doesn't say.
std::string completed(const std::string& address) {
  const std::unique_ptr<PQconninfoOption, decltype(&PQconninfoFree)> options(PQconninfoParse(address.c_str(), nullptr),
                                                                             PQconninfoFree);
  std::string out = "connect_timeout=3 tcp_user_timeout=20000 application_name=zunth";
  for (const auto* option = options.get(); option && option->keyword; ++option) {
    if (!option->val) continue;
    out += fmt::format(" {}='", option->keyword);
    for (const char c : std::string_view(option->val)) {
      if (c == '\'' || c == '\\') out += '\\';
      out += c;
    }
    out += '\'';
  }
  return out;
}

}  // namespace

Result<std::unique_ptr<PostgresStore>> PostgresStore::open(const std::string& address, std::string server) {
  if (auto fine = check(address); !fine) return fine.error();
  return attempt([&]() -> Result<std::unique_ptr<PostgresStore>> {
    auto connection = std::make_unique<Connection>(completed(address), std::move(server));
    return std::unique_ptr<PostgresStore>(new PostgresStore(std::move(connection)));
  });
}

PostgresStore::PostgresStore(std::unique_ptr<Connection> connection) : connection_(std::move(connection)) {}

PostgresStore::~PostgresStore() = default;

VariableId PostgresStore::variable(const std::string& name) { return connection_->variable(name); }

Result<std::vector<std::string>> PostgresStore::names() {
  if (auto fine = bring(); !fine) return fine.error();
  return connection_->transact([&](pqxx::work& transaction) -> Result<std::vector<std::string>> {
    std::vector<std::string> out;
    for (const auto& row : transaction.exec_params("select name from zunth.variable where server = $1 order by name",
                                                   connection_->server()))
      out.push_back(row[0].as<std::string>());
    return out;
  });
}

void PostgresStore::append(std::span<const Record> records) {
  unsaved_.records.insert(unsaved_.records.end(), records.begin(), records.end());
}

void PostgresStore::append(std::vector<KeptEvent> events) {
  std::ranges::move(events, std::back_inserter(unsaved_.events));
}

PostgresStore::Unsaved PostgresStore::takeUnsaved() { return std::exchange(unsaved_, {}); }

/// Sends what has come, so that it is seen.
Result<void> PostgresStore::bring() {
  if (unsaved_.records.empty() && unsaved_.events.empty()) return {};
  auto fine = connection_->transact([&](pqxx::work& transaction) -> Result<void> {
    connection_->put(transaction, unsaved_.records);
    connection_->put(transaction, unsaved_.events);
    return {};
  });
  if (fine) unsaved_ = {};
  return fine;
}

Result<void> PostgresStore::flush(DateTime now) {
  auto fine = connection_->transact([&](pqxx::work& transaction) -> Result<void> {
    connection_->put(transaction, unsaved_.records);
    connection_->put(transaction, unsaved_.events);
    transaction.exec_params0("update zunth.server set watched_until = $1 where id = $2", now.ticks,
                             connection_->server());
    return {};
  });
  if (fine) unsaved_ = {};
  return fine;
}

DateTime PostgresStore::watchedUntil() const {
  const auto out = connection_->transact([&](pqxx::work& transaction) -> Result<DateTime> {
    return DateTime{whole(
        transaction.exec_params1("select watched_until from zunth.server where id = $1", connection_->server())[0])};
  });
  return out ? *out : DateTime();
}

DateTime PostgresStore::beginsAt() const { return connection_->beginsAt(); }

/// A variable's rows, a page at a time.
class PostgresStore::Rows final : public Timeline {
 public:
  Rows(Connection& connection, Result<void> brought, VariableId variable)
      : connection_(connection), brought_(std::move(brought)), variable_(variable) {}

  Result<void> walk(DateTime from, DateTime to, const Visit& visit) const override {
    if (!brought_) return brought_;
    const bool isBackward = to < from;
    if (from == to) to = after(to);
    if (isBackward ? from < kFirstRow : to <= kFirstRow) return {};
    from = withRow(from);
    // What is excluded there is before all that there is, or behind it.
    const auto end = to < kFirstRow  ? RowTime{RowTime::of(kFirstRow).words, -1}
                     : to > kLastRow ? RowTime{RowTime::of(kLastRow).words, 10}
                                     : RowTime::of(to);
    for (bool isFirst = true;; isFirst = false) {
      auto page = read(isBackward, from, end);
      if (!page) return page.error();
      const bool isLast = page->size() < kPage;
      if (!isFirst && !page->empty()) page->erase(page->begin());  // where the one before ended
      if (!page->empty() && !visit(*page)) return {};
      if (isLast || page->empty()) return {};
      from = page->back().sourceTimestamp;
    }
  }

 private:
  Result<std::vector<DataValue>> read(bool isBackward, DateTime from, const RowTime& end) const {
    return connection_.transact([&](pqxx::work& transaction) -> Result<std::vector<DataValue>> {
      const auto begin = RowTime::of(from);
      const auto rows =
          transaction.exec_prepared(isBackward ? "backward" : "forward", connection_.row(transaction, variable_),
                                    begin.words, begin.tick, end.words, end.tick, kPage);
      std::vector<DataValue> out;
      out.reserve(rows.size());
      for (const auto& row : rows) out.push_back(sampleOf(row));
      return out;
    });
  }

  Connection& connection_;
  const Result<void> brought_;
  const VariableId variable_;
};

std::unique_ptr<Timeline> PostgresStore::timeline(VariableId variable) {
  return std::make_unique<Rows>(*connection_, bring(), variable);
}

namespace {

void addModified(pqxx::work& transaction, std::int64_t variable, std::span<const Modified> changes) {
  if (changes.empty()) return;
  pqxx::stream_to stream(transaction, "zunth.modified",
                         std::vector<std::string>{"variable", "time", "tick", "type", "value", "words", "exact",
                                                  "status", "server_time", "kind", "made", "made_by"});
  for (const auto& change : changes) {
    const auto time = RowTime::of(change.sample.sourceTimestamp);
    const auto value = RowValue::of(change.sample.value);
    const auto serverTime = rowTimeOf(change.sample.serverTimestamp);
    stream << std::make_tuple(variable, time.words, time.tick, value.type, orNull(value.number), orNull(value.words),
                              orNull(value.exact), std::int64_t{change.sample.status.value}, orNull(serverTime),
                              static_cast<int>(change.info.updateType), RowTime::of(change.info.modificationTime).words,
                              shown(change.info.userName.view()));
  }
  stream.complete();
}

/// Deletes a range, with a record of each sample.
Result<std::vector<StatusCode>> deleteRange(pqxx::work& transaction, std::int64_t variable, const Edit& edit) {
  const auto from = RowTime::of(edit.from), to = RowTime::of(edit.to);
  const auto gone = transaction.exec_params(
      "with gone as (delete from zunth.sample where variable = $1 and time >= $2 and time <= $4 and (time, tick) >= "
      "($2, $3) and (time, tick) < ($4, $5) returning *) insert into zunth.modified (variable, time, tick, type, "
      "value, "
      "words, exact, status, server_time, kind, made, made_by) select gone.*, $6, $7, $8 from gone order by time, tick",
      variable, from.words, from.tick, to.words, to.tick, static_cast<int>(HistoryUpdateType::Delete),
      RowTime::of(edit.now).words, shown(edit.user.view()));
  return std::vector<StatusCode>{gone.affected_rows() > 0 ? status::Good : status::GoodNoData};
}

/// What stands at the moments that an edit names, and is taken away for what will.
std::vector<DataValue> takeNamed(pqxx::work& transaction, std::int64_t variable, const Edit& edit) {
  Incoming incoming(transaction);
  for (const auto& sample : edit.samples) incoming.add(variable, DataValue(Variant(), sample.sourceTimestamp));
  for (const auto time : edit.times) incoming.add(variable, DataValue(Variant(), time));
  incoming.done();
  std::vector<DataValue> out;
  for (const auto& row :
       transaction.exec("with gone as (delete from zunth.sample using (select distinct variable, time, "
                        "tick from incoming) as named where sample.variable = named.variable and "
                        "sample.time = named.time and sample.tick = named.tick returning sample.*) "
                        "select " ZUNTH_SAMPLE("gone") " from gone order by time, tick"))
    out.push_back(sampleOf(row));
  transaction.exec0("delete from incoming");
  return out;
}

}  // namespace

Result<std::vector<StatusCode>> PostgresStore::edit(VariableId variable, const Edit& edit) {
  if (auto fine = bring(); !fine) return fine.error();
  const auto hasRow = [](DateTime time) { return time >= kFirstRow && time <= kLastRow; };
  for (const auto& sample : edit.samples)
    if (!hasRow(sample.sourceTimestamp))
      return Error{status::BadOutOfRange, "samples have times from 1601 to 9999", {}};
  return connection_->transact([&](pqxx::work& transaction) -> Result<std::vector<StatusCode>> {
    const auto row = connection_->row(transaction, variable);
    if (edit.kind == Edit::Kind::DeleteRange) return deleteRange(transaction, row, edit);
    if (edit.kind == Edit::Kind::DeleteModified) {
      const auto from = RowTime::of(edit.from), to = RowTime::of(edit.to);
      transaction.exec_params0(
          "delete from zunth.modified where variable = $1 and (time, tick) >= ($2, $3) and (time, tick) < ($4, $5)",
          row, from.words, from.tick, to.words, to.tick);
      return std::vector<StatusCode>{status::Good};
    }
    auto samples = takeNamed(transaction, row, edit);
    std::vector<Modified> changes;
    auto outcomes = applyEdit(samples, edit, [&](const DataValue& sample, HistoryUpdateType how) -> Result<void> {
      auto& change = changes.emplace_back();
      change.sample = sample;
      change.info.updateType = how;
      change.info.modificationTime = edit.now;
      change.info.userName = edit.user;
      return {};
    });
    if (!outcomes) return outcomes;
    std::vector<Record> records;
    for (auto& sample : samples) records.push_back({variable, std::move(sample)});
    connection_->put(transaction, records);
    addModified(transaction, row, changes);
    return outcomes;
  });
}

Result<void> PostgresStore::append(VariableId variable, std::span<const Modified> changes) {
  return connection_->transact([&](pqxx::work& transaction) -> Result<void> {
    addModified(transaction, connection_->row(transaction, variable), changes);
    return {};
  });
}

Result<std::vector<Modified>> PostgresStore::modified(VariableId variable, DateTime from, DateTime to) {
  if (auto fine = bring(); !fine) return fine.error();
  return connection_->transact([&](pqxx::work& transaction) -> Result<std::vector<Modified>> {
    const auto begin = RowTime::of(from), end = RowTime::of(to);
    const auto rows = transaction.exec_params(
        "select " ZUNTH_SAMPLE("modified") ", kind, (extract(epoch from made) * 1000000)::bigint, made_by from "
        "zunth.modified where variable = $1 and (time, tick) >= ($2, $3) and (time, tick) < ($4, $5) order by time, "
        "tick, number",
        connection_->row(transaction, variable), begin.words, begin.tick, end.words,
        to > kLastRow ? 10 : end.tick);
    std::vector<Modified> out;
    for (const auto& row : rows) {
      auto& one = out.emplace_back();
      one.sample = sampleOf(row);
      one.info.updateType = static_cast<HistoryUpdateType>(whole(row[7]));
      one.info.modificationTime = timeFrom(whole(row[8]), 0);
      one.info.userName = String(row[9].c_str());
    }
    return out;
  });
}

Result<std::vector<KeptEvent>> PostgresStore::events(DateTime from, DateTime to, std::size_t most,
                                                     const KeptEvent* place) {
  if (auto fine = bring(); !fine) return fine.error();
  const bool isBackward = to < from;
  if (from == to) to = after(to);
  return connection_->transact([&](pqxx::work& transaction) -> Result<std::vector<KeptEvent>> {
    const auto begin = RowTime::of(from), end = RowTime::of(to);
    const auto behind = RowTime::of(place ? place->time : isBackward ? kLastRow : kFirstRow);
    const std::int64_t number = place ? place->number : isBackward ? INT64_MAX : -1;
    const auto rows = transaction.exec_prepared(isBackward ? "events_backward" : "events_forward",
                                                connection_->server(), begin.words, begin.tick, end.words,
                                                to > kLastRow ? 10 : end.tick, behind.words, behind.tick, number, most);
    std::vector<KeptEvent> out;
    for (const auto& row : rows)
      if (auto octets = octetsOf({row[2].c_str(), row[2].size()}))
        out.push_back({timeFrom(whole(row[0]), static_cast<int>(whole(row[1]))), std::move(*octets), whole(row[3])});
    return out;
  });
}

Result<void> PostgresStore::forget(DateTime before) {
  if (auto fine = bring(); !fine) return fine.error();
  auto fine = connection_->transact([&](pqxx::work& transaction) -> Result<void> {
    // Whole months; those of other servers may be kept for longer, so a month's table goes when nothing is in it.
    const auto limit = transaction
                           .exec_params1(
                               "select date_trunc('month', $1::timestamptz at time zone 'UTC') at time "
                               "zone 'UTC'",
                               RowTime::of(before).words)[0]
                           .as<std::string>();
    transaction.exec_params0(
        "delete from zunth.sample where time < $1 and variable in (select id from zunth.variable "
        "where server = $2)",
        limit, connection_->server());
    transaction.exec_params0(
        "delete from zunth.modified where time < $1 and variable in (select id from "
        "zunth.variable where server = $2)",
        limit, connection_->server());
    transaction.exec_params0("delete from zunth.event where time < $1 and server = $2", limit, connection_->server());
    transaction.exec1(kLock);
    const auto months = transaction.exec_params(
        "select relname from pg_class join pg_namespace on pg_namespace.oid = relnamespace where nspname = 'zunth' and "
        "relkind = 'r' and relname ~ '^(sample|event)_[0-9]{4}_[0-9]{2}$' and right(relname, 7) < "
        "to_char($1::timestamptz at time zone 'UTC', 'YYYY_MM')",
        limit);
    for (const auto& row : months) {
      const auto table = row[0].as<std::string>();
      if (transaction.exec1(fmt::format("select exists (select from zunth.{})", table))[0].as<bool>()) continue;
      transaction.exec0(fmt::format("drop table zunth.{}", table));
    }
    connection_->beginAt(connection_->earliest(transaction));
    return {};
  });
  connection_->forgetMonths();
  return fine;
}

}  // namespace zunth::history
