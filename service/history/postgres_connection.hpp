#pragma once

#include "core/history/store.hpp"
#include "core/ua/foreign.hpp"
#include "service/history/patience.hpp"

#include <set>
#include <string>
#include <unordered_map>

#include <fmt/format.h>
#include <pqxx/connection>
#include <pqxx/except>
#include <pqxx/result>
#include <pqxx/stream_to>
#include <pqxx/transaction>

namespace zunth::history {

/// A connection to a database of PostgreSQL with the tables of history: what it has prepared, and by which numbers the
/// database knows things. Used by one thread at a time; its calls throw as libpqxx does, but for transact().
class PostgresConnection {
 public:
  using MonthNumber = int;  // since year 0

  /// Connects, and makes the tables when they aren't there.
  PostgresConnection(const std::string& address, std::string server, int patience);

  /// Does something with the database; what it throws becomes an Error: BadCommunicationError where it doesn't answer.
  template <class Do>
  static auto attempt(Do&& work) -> decltype(work()) {
    try {
      return work();
    } catch (const std::exception& problem) {
      return errorOf(problem);
    }
  }
  /// Runs `work(transaction)` in a transaction that is committed at its end.
  template <class Work>
  auto transact(Work&& work) -> decltype(work(std::declval<pqxx::work&>())) {
    return attempt([&]() -> decltype(work(std::declval<pqxx::work&>())) {
      const Patience::Turn turn(patience_);
      // Numbers that were given in a transaction which came to nothing are nobody's.
      for (const auto id : newRows_) variables_[id].row = 0;
      newRows_.clear();
      pqxx::work transaction(database_);
      auto out = work(transaction);
      if (!out) return out;
      transaction.commit();
      newRows_.clear();
      return out;
    });
  }

  VariableId variable(const std::string& name);
  /// The database's number of a variable, given when it has none.
  std::int64_t row(pqxx::work& transaction, VariableId id);
  /// A sample takes the place of one of the same time; of one that the server got later, unless it gives way to that.
  void put(pqxx::work& transaction, std::span<const Record> records, bool givesWay = false);
  void put(pqxx::work& transaction, std::span<const KeptEvent> events);
  ua::DateTime earliest(pqxx::work& transaction);

  std::int64_t server() const { return server_; }
  ua::DateTime beginsAt() const { return beginsAt_; }
  void beginAt(ua::DateTime time) { beginsAt_ = time; }

 private:
  struct Variable {
    std::string name;
    std::int64_t row = 0;  // 0 before it is asked for
  };
  static ua::Error errorOf(const std::exception& problem);
  void makeTables();
  std::int64_t idOfServer(std::string server);
  void prepare();
  void makeMonths(pqxx::work& transaction, const std::set<MonthNumber>& months);

  pqxx::connection database_;
  Patience patience_;
  std::int64_t server_ = 0;
  std::vector<Variable> variables_;  // by VariableId
  std::unordered_map<std::string, VariableId> ids_;
  std::vector<VariableId> newRows_;  // asked for in this transaction
  ua::DateTime beginsAt_;
};

/// For who makes something that is there once only: nobody else does at the same time, until the transaction ends.
void lockTables(pqxx::work& transaction);

}  // namespace zunth::history
