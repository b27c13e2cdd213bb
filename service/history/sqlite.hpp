#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/result.hpp"

#include <filesystem>
#include <memory>
#include <string_view>

struct sqlite3;
struct sqlite3_stmt;

namespace zunth::history {

class Database;

/// A statement of SQL, made once and run many times. What was read is copied out before the next step.
class Statement {
 public:
  Statement() = default;
  template <class... Values>
  Statement& bind(const Values&... values) {
    int at = 0;
    (set(++at, values), ...);
    return *this;
  }
  /// True while there is a row.
  ua::Result<bool> step();
  /// Runs it to its end, for what gives no rows.
  ua::Result<void> run();
  /// For the next time; also lets go of what was locked.
  void reset();

  std::int64_t number(int column) const;
  std::string_view text(int column) const;
  ua::BytesView octets(int column) const;

 private:
  friend class Database;
  struct Finalize {
    void operator()(sqlite3_stmt* statement) const;
  };
  void set(int at, std::int64_t value);
  void set(int at, std::string_view value);
  void set(int at, ua::BytesView value);

  std::unique_ptr<sqlite3_stmt, Finalize> statement_;
};

/// One file of SQLite, in WAL mode; what is committed is synced. Used by one thread at a time.
class Database {
 public:
  /// Makes the file when it isn't there. BadUserAccessDenied, BadDataEncodingInvalid for a file that is no database.
  static ua::Result<Database> open(const std::filesystem::path& file);

  ua::Result<void> execute(const char* sql);
  ua::Result<Statement> prepare(std::string_view sql);
  /// The one number that a query gives; 0 for none.
  ua::Result<std::int64_t> number(std::string_view sql);
  std::int64_t lastRow() const;
  /// Rows that the last statement changed.
  std::int64_t changed() const;

 private:
  struct Close {
    void operator()(sqlite3* database) const;
  };
  std::unique_ptr<sqlite3, Close> database_;
};

/// Takes back what was done since, unless it is committed.
class Transaction {
 public:
  static ua::Result<Transaction> begin(Database& database);
  Transaction(Transaction&& other) noexcept : database_(std::exchange(other.database_, nullptr)) {}
  Transaction& operator=(Transaction&&) = delete;
  ~Transaction();
  ua::Result<void> commit();

 private:
  explicit Transaction(Database& database) : database_(&database) {}
  Database* database_;
};

}  // namespace zunth::history
