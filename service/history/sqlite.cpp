#include "service/history/sqlite.hpp"

#include <string>

#include <fmt/format.h>
#include <sqlite3.h>

namespace zunth::history {

using namespace ua;

namespace {

Error errorOf(sqlite3* database, int outcome) {
  const std::string words = database ? sqlite3_errmsg(database) : sqlite3_errstr(outcome);
  switch (outcome & 0xFF) {
    case SQLITE_FULL: return {status::BadOutOfMemory, "the disk is full: " + words, "make room on the disk"};
    case SQLITE_CORRUPT:
    case SQLITE_NOTADB: return {status::BadDataEncodingInvalid, "the file of history is damaged: " + words, {}};
    case SQLITE_PERM:
    case SQLITE_READONLY:
    case SQLITE_CANTOPEN:
    case SQLITE_AUTH: return {status::BadUserAccessDenied, "the file of history can't be used: " + words, {}};
    default: return {status::BadResourceUnavailable, "the file of history: " + words, {}};
  }
}

Error errorOf(sqlite3_stmt* statement, int outcome) { return errorOf(sqlite3_db_handle(statement), outcome); }

}  // namespace

void Statement::Finalize::operator()(sqlite3_stmt* statement) const { sqlite3_finalize(statement); }
void Database::Close::operator()(sqlite3* database) const { sqlite3_close(database); }

Result<bool> Statement::step() {
  const int outcome = sqlite3_step(statement_.get());
  if (outcome == SQLITE_ROW) return true;
  if (outcome == SQLITE_DONE) return false;
  Error error = errorOf(statement_.get(), outcome);
  reset();
  return error;
}

Result<void> Statement::run() {
  const auto done = step();
  reset();
  if (!done) return done.error();
  return {};
}

void Statement::reset() {
  sqlite3_reset(statement_.get());
  sqlite3_clear_bindings(statement_.get());
}

std::int64_t Statement::number(int column) const { return sqlite3_column_int64(statement_.get(), column); }

std::string_view Statement::text(int column) const {
  const auto* from = reinterpret_cast<const char*>(sqlite3_column_text(statement_.get(), column));
  return {from ? from : "", static_cast<std::size_t>(sqlite3_column_bytes(statement_.get(), column))};
}

BytesView Statement::octets(int column) const {
  const auto* from = static_cast<const std::byte*>(sqlite3_column_blob(statement_.get(), column));
  return {from, static_cast<std::size_t>(sqlite3_column_bytes(statement_.get(), column))};
}

void Statement::set(int at, std::int64_t value) { sqlite3_bind_int64(statement_.get(), at, value); }

void Statement::set(int at, std::string_view value) {
  sqlite3_bind_text64(statement_.get(), at, value.data(), value.size(), SQLITE_TRANSIENT, SQLITE_UTF8);
}

void Statement::set(int at, BytesView value) {
  sqlite3_bind_blob64(statement_.get(), at, value.data(), value.size(), SQLITE_TRANSIENT);
}

Result<Database> Database::open(const std::filesystem::path& file) {
  Database out;
  sqlite3* opened = nullptr;
  const int outcome =
      sqlite3_open_v2(file.c_str(), &opened, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_NOMUTEX, nullptr);
  out.database_.reset(opened);
  if (outcome != SQLITE_OK) return errorOf(opened, outcome);
  // One process has it: no other is waited for, and nothing is shared.
  if (auto fine = out.execute("PRAGMA locking_mode = EXCLUSIVE; PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; "
                              "PRAGMA journal_size_limit = 67108864; PRAGMA cache_size = -8192");
      !fine)
    return fine.error();
  return out;
}

Result<void> Database::execute(const char* sql) {
  const int outcome = sqlite3_exec(database_.get(), sql, nullptr, nullptr, nullptr);
  if (outcome != SQLITE_OK) return errorOf(database_.get(), outcome);
  return {};
}

Result<Statement> Database::prepare(std::string_view sql) {
  Statement out;
  sqlite3_stmt* made = nullptr;
  const int outcome = sqlite3_prepare_v3(database_.get(), sql.data(), static_cast<int>(sql.size()),
                                         SQLITE_PREPARE_PERSISTENT, &made, nullptr);
  out.statement_.reset(made);
  if (outcome != SQLITE_OK) return errorOf(database_.get(), outcome);
  return out;
}

Result<std::int64_t> Database::number(std::string_view sql) {
  auto statement = prepare(sql);
  if (!statement) return statement.error();
  const auto row = statement->step();
  if (!row) return row.error();
  return *row ? statement->number(0) : 0;
}

std::int64_t Database::changed() const { return sqlite3_changes64(database_.get()); }
std::int64_t Database::lastRow() const { return sqlite3_last_insert_rowid(database_.get()); }

Result<Transaction> Transaction::begin(Database& database) {
  if (auto fine = database.execute("BEGIN IMMEDIATE"); !fine) return fine.error();
  return Transaction(database);
}

Transaction::~Transaction() {
  // Where a failure has rolled it back already, there is nothing to take back.
  if (database_) static_cast<void>(database_->execute("ROLLBACK"));
}

Result<void> Transaction::commit() {
  auto fine = database_->execute("COMMIT");
  if (fine) database_ = nullptr;
  return fine;
}

}  // namespace zunth::history
