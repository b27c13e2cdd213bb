#pragma once

#include "service/history/embedded_store.hpp"
#include "service/history/postgres_store.hpp"

#include <chrono>

namespace zunth::history {

/// History in a database, with a folder of files at hand that takes what comes while the database is away, and brings
/// it there when it is back. What is in neither yet is read as not known, with an error: never as nothing.
class ForwardingStore final : public Store {
 public:
  using Reach = std::function<ua::Result<std::unique_ptr<PostgresStore>>()>;
  /// `reach` connects; it is asked when the store is first used, and again every few seconds while the database is
  /// away. `told` gets in words that it went, and that it is back.
  ForwardingStore(Reach reach, std::unique_ptr<EmbeddedStore> files,
                  std::function<void(bool isGood, const std::string&)> told);

  VariableId variable(const std::string& name) override;
  ua::Result<std::vector<std::string>> names() override;
  void append(std::span<const Record> records) override;
  ua::Result<void> flush(ua::DateTime now) override;
  /// Null before the first flush: where nothing was recorded before that is marked once the database is reached.
  ua::DateTime watchedUntil() const override { return watchedUntil_; }
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
  ua::Result<void> shrink(std::uint64_t) override { return {}; }
  ua::DateTime beginsAt() const override { return beginsAt_; }

  bool isAway() const { return database_ == nullptr; }
  /// Whether the files still have what the database hasn't.
  bool isBehind() const { return isBehind_; }

 private:
  using Clock = std::chrono::steady_clock;
  void reach();
  void lose(const ua::Error& why);
  template <class Do>
  auto with(Do&& work) -> decltype(work(std::declval<PostgresStore&>()));
  bool isAtHand(ua::DateTime from, ua::DateTime to) const;
  void markGap(ua::DateTime end);
  ua::Result<void> bring(Clock::time_point until);
  ua::Result<void> bringEvents();
  ua::Result<void> bringSamples(Clock::time_point until);

  Reach reach_;
  std::unique_ptr<EmbeddedStore> files_;
  const std::function<void(bool, const std::string&)> told_;
  std::unique_ptr<PostgresStore> database_;  // null while it is away
  ua::Error away_;                           // why
  Clock::time_point tryAt_{};
  std::vector<std::string> names_;  // by VariableId
  std::unordered_map<std::string, VariableId> ids_;
  bool isBehind_ = false;
  // What of the files is still to be brought.
  std::optional<std::vector<VariableId>> toBring_;  // whose samples; nothing before it was looked at
  ua::DateTime broughtUntil_ = kBeginning;          // of the last of them
  bool areEventsBrought_ = false;
  bool hasBeenReached_ = false;
  ua::DateTime filesWatched_;  // until when the files were watched at the start
  ua::DateTime savedUntil_;    // by the last flush that went well, in the database
  ua::DateTime watchedUntil_, beginsAt_;
};

}  // namespace zunth::history
