#pragma once

#include "core/history/store.hpp"

#include <memory>
#include <string>

namespace zunth::history {

class PostgresConnection;

/// History in a database of PostgreSQL, as plain rows that others can query, too (docs/history.md). Several servers may
/// share one: each sees what is its own. When the database doesn't answer, calls end with BadCommunicationError, and
/// the store is of no more use but for takeUnsaved().
class PostgresStore final : public Store {
 public:
  /// What is wrong with an address, "postgresql://…" or "host=… dbname=…", before anybody is asked.
  static ua::Result<void> check(const std::string& address);
  /// Connects, and makes the tables when they aren't there. `server` is by what its variables are told from those of
  /// other servers: the ApplicationUri. BadCommunicationError, BadUserAccessDenied, in words.
  static ua::Result<std::unique_ptr<PostgresStore>> open(const std::string& address, std::string server);
  ~PostgresStore() override;

  VariableId variable(const std::string& name) override;
  ua::Result<std::vector<std::string>> names() override;
  void append(std::span<const Record> records) override;
  ua::Result<void> flush(ua::DateTime now) override;
  ua::DateTime watchedUntil() const override;
  std::unique_ptr<Timeline> timeline(VariableId variable) override;
  ua::Result<std::vector<ua::StatusCode>> edit(VariableId variable, const Edit& edit) override;
  ua::Result<std::vector<Modified>> modified(VariableId variable, ua::DateTime from, ua::DateTime to) override;
  ua::Result<void> append(VariableId variable, std::span<const Modified> changes) override;
  void append(std::vector<KeptEvent> events) override;
  ua::Result<std::vector<KeptEvent>> events(ua::DateTime from, ua::DateTime to, std::size_t most,
                                            const KeptEvent* place) override;
  ua::Result<bool> removeEvent(const KeptEvent& event) override;
  ua::Result<void> forget(ua::DateTime before) override;
  ua::Result<void> forget(std::span<const std::string> variables, ua::DateTime before) override;
  /// Nothing: how large a database may become is up to who keeps it.
  ua::Result<void> shrink(std::uint64_t) override { return {}; }
  ua::DateTime beginsAt() const override;

  /// Saves what has waited elsewhere: of two samples of one time, the one that the server got later stays.
  ua::Result<void> catchUp(std::span<const Record> records);
  /// What has come since the last flush that went well, and is the caller's from now on.
  struct Unsaved {
    std::vector<Record> records;
    std::vector<KeptEvent> events;
  };
  Unsaved takeUnsaved();

  /// Seconds after which a call is given up.
  static constexpr int kPatience = 20;

 private:
  class Rows;
  explicit PostgresStore(std::unique_ptr<PostgresConnection> connection);
  ua::Result<void> bring();

  std::unique_ptr<PostgresConnection> connection_;
  Unsaved unsaved_;
};

}  // namespace zunth::history
