#pragma once

#include "service/history/month_file.hpp"

#include <map>
#include <set>

namespace zunth::history {

/// History in a folder, a file a month: nothing to install, and readable after years (docs/history.md).
class EmbeddedStore final : public Store {
 public:
  /// Opens the folder, or makes it; nobody else may read it. `damaged` is told, in words, of what can't be read: it
  /// stands as lost where it was.
  static ua::Result<std::unique_ptr<EmbeddedStore>> open(std::filesystem::path folder, MonthFile::Damaged damaged);
  ~EmbeddedStore() override;

  VariableId variable(const std::string& name) override;
  ua::Result<std::vector<std::string>> names() override;
  void append(std::span<const Record> records) override;
  ua::Result<void> flush(ua::DateTime now) override;
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
  ua::Result<void> shrink(std::uint64_t octets) override;
  ua::DateTime beginsAt() const override;

  /// Samples that wait to be saved, at most, and octets of their values; then what came last is given up, and marked
  /// as lost. Of events, it is told.
  static constexpr std::size_t kMostUnsaved = 500'000, kMostUnsavedOctets = 256u << 20, kMostUnsavedEvents = 100'000;
  /// Files that are open at once, for reading old months.
  static constexpr std::size_t kMostOpen = 6;

 private:
  class Walk;
  /// Months since year 0, so that the next one is one more.
  using MonthNumber = int;
  struct Month {
    std::unique_ptr<MonthFile> file;  // null while it is closed
    std::uint64_t used = 0;
    bool isLost = false;            // it can't be opened, and is tried again at the next flush
    bool wasThere = false;          // before this start: what can't be read of it is lost
    bool isTold = false;            // that it can't be opened
    std::vector<Record> waiting{};  // what came meanwhile, in order of coming
    std::vector<KeptEvent> waitingEvents{};
    std::map<VariableId, ua::DateTime> lostSince{};  // of variables whose samples found no room there
  };

  EmbeddedStore(std::filesystem::path folder, MonthFile::Damaged damaged)
      : folder_(std::move(folder)), damaged_(std::move(damaged)) {}
  static MonthNumber monthOf(ua::DateTime time);
  static ua::DateTime begin(MonthNumber month);
  std::filesystem::path fileOf(MonthNumber month) const;
  void wait(Month& month, const Record& record);
  ua::Result<void> bringWaiting(MonthNumber month);
  /// nullptr when it can't be opened.
  MonthFile* use(MonthNumber month);
  void closeUnused();
  ua::Result<void> remove(MonthNumber month);
  std::vector<MonthNumber> monthsBetween(ua::DateTime from, ua::DateTime to) const;
  template <class Do>
  ua::Result<void> eachMonth(VariableId variable, ua::DateTime from, ua::DateTime to, Do&& visit);

  std::filesystem::path folder_;
  /// Once for each damage: what is read again and again finds it again and again.
  void tellDamage(const std::string& what);
  MonthFile::Damaged damaged_;
  std::set<std::string> toldDamage_;
  std::vector<std::string> names_;  // by VariableId
  std::unordered_map<std::string, VariableId> ids_;
  std::map<MonthNumber, Month> months_;
  struct Place {
    MonthNumber month = INT32_MIN;
    std::size_t place = 0;
  };
  std::vector<Place> lastPlaces_;  // by VariableId, where the last sample went
  MonthFile* lastFile_ = nullptr;
  MonthNumber lastMonth_ = INT32_MIN;
  MonthNumber currentMonth_ = INT32_MIN;  // at the last flush
  std::size_t waiting_ = 0;               // of all months
  std::size_t waitingOctets_ = 0;         // of their values
  ua::Error openError_;                   // of the last file that couldn't be
  std::uint64_t uses_ = 0;
  ua::DateTime watchedUntil_;
};

}  // namespace zunth::history
