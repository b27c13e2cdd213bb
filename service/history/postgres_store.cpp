#include "service/history/postgres_store.hpp"

#include "core/history/editing.hpp"
#include "core/ua/foreign.hpp"
#include "service/history/postgres_connection.hpp"
#include "service/history/postgres_samples.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <libpq-fe.h>

namespace zunth::history {

using namespace ua;

namespace {

constexpr std::size_t kPage = 4096;

DateTime withRow(DateTime time) { return std::clamp(time, kFirstRow, kLastRow); }

}  // namespace

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
  return PostgresConnection::attempt([&]() -> Result<std::unique_ptr<PostgresStore>> {
    auto connection = std::make_unique<PostgresConnection>(completed(address), std::move(server), kPatience);
    return std::unique_ptr<PostgresStore>(new PostgresStore(std::move(connection)));
  });
}

PostgresStore::PostgresStore(std::unique_ptr<PostgresConnection> connection) : connection_(std::move(connection)) {}

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

Result<void> PostgresStore::catchUp(std::span<const Record> records) {
  return connection_->transact([&](pqxx::work& transaction) -> Result<void> {
    connection_->put(transaction, records, true);
    return {};
  });
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
  Rows(PostgresConnection& connection, Result<void> brought, VariableId variable)
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

  PostgresConnection& connection_;
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
  const auto rows = transaction.exec(fmt::format(
      "with gone as (delete from zunth.sample using (select distinct variable, time, tick from incoming) as "
      "named where sample.variable = named.variable and sample.time = named.time and sample.tick = named.tick "
      "returning sample.*) select {} from gone order by time, tick",
      sampleColumns("gone")));
  for (const auto& row : rows) out.push_back(sampleOf(row));
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
        fmt::format(
            "select {}, kind, (extract(epoch from made) * 1000000)::bigint, made_by from zunth.modified where "
            "variable = $1 and (time, tick) >= ($2, $3) and (time, tick) < ($4, $5) order by time, tick, number",
            sampleColumns("modified")),
        connection_->row(transaction, variable), begin.words, begin.tick, end.words, to > kLastRow ? 10 : end.tick);
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

Result<bool> PostgresStore::removeEvent(const KeptEvent& event) {
  return connection_->transact([&](pqxx::work& transaction) -> Result<bool> {
    const auto time = RowTime::of(event.time);
    const auto gone =
        transaction.exec_params("delete from zunth.event where server = $1 and time = $2 and tick = $3 and number = $4",
                                connection_->server(), time.words, time.tick, event.number);
    return gone.affected_rows() > 0;
  });
}

Result<void> PostgresStore::forget(std::span<const std::string> variables, DateTime before) {
  if (auto fine = bring(); !fine) return fine.error();
  return connection_->transact([&](pqxx::work& transaction) -> Result<void> {
    constexpr std::size_t kAtOnce = 500;  // names in one statement
    for (std::size_t from = 0; from < variables.size(); from += kAtOnce) {
      std::string names;
      for (const auto& name : variables.subspan(from, std::min(kAtOnce, variables.size() - from)))
        names += (names.empty() ? "" : ", ") + transaction.quote(name);
      for (const char* table : {"sample", "modified"})
        transaction.exec_params0(fmt::format("delete from zunth.{} where time < $1 and variable in (select id from "
                                             "zunth.variable where server = $2 and name in ({}))",
                                             table, names),
                                 RowTime::of(before).words, connection_->server());
    }
    return {};
  });
}

Result<void> PostgresStore::forget(DateTime before) {
  if (auto fine = bring(); !fine) return fine.error();
  return connection_->transact([&](pqxx::work& transaction) -> Result<void> {
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
    lockTables(transaction);
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
}

}  // namespace zunth::history
