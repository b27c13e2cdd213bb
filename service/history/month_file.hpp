#pragma once

#include "core/history/store.hpp"
#include "service/history/sqlite.hpp"

#include <functional>
#include <list>
#include <set>
#include <unordered_map>

namespace zunth::history {

/// One month's file: compressed blocks of samples, a head of what isn't in a block yet, and what was changed by hand.
/// docs/history.md has its tables. What it holds in memory is the head, which a start reads back.
class MonthFile {
 public:
  /// Told of what can't be read, in words.
  using Damaged = std::function<void(const std::string&)>;
  static ua::Result<std::unique_ptr<MonthFile>> open(const std::filesystem::path& file, Damaged damaged);

  /// A variable's place, made when it isn't known.
  std::size_t place(const std::string& name);
  /// Nothing when the file has nothing of it.
  std::optional<std::size_t> find(const std::string& name) const;
  void append(std::size_t place, const ua::DataValue& sample);
  /// Of all that it knows.
  std::set<std::string> names() const;
  /// Records of changes that were made elsewhere.
  ua::Result<void> append(std::size_t place, std::span<const Modified> changes);
  void append(KeptEvent event) { unsavedEvents_.push_back(std::move(event)); }
  std::size_t unsavedEvents() const { return unsavedEvents_.size(); }
  bool hasUnsaved() const { return !unsaved_.empty() || !unsavedNames_.empty() || !unsavedEvents_.empty(); }
  /// Saves what has come, and puts heads that are long or old into blocks. Nothing has changed when it fails.
  ua::Result<void> flush(ua::DateTime now);
  /// Puts all that is in heads into blocks: the month is over.
  ua::Result<void> settle();
  /// Gives up what isn't saved, as there is no room for more: where it was, BadDataLost stands. How much it was.
  std::size_t dropUnsaved();
  /// How far everything was watched when the file was last written.
  ua::DateTime watchedUntil() const { return watchedUntil_; }

  /// As Timeline::walk(). False when `visit` ended it.
  ua::Result<bool> walk(std::size_t place, ua::DateTime from, ua::DateTime to, const Timeline::Visit& visit);
  ua::Result<std::vector<ua::StatusCode>> edit(std::size_t place, const Edit& edit);
  ua::Result<std::vector<Modified>> modified(std::size_t place, ua::DateTime from, ua::DateTime to);
  /// As Store::events(). What isn't saved yet is saved first.
  ua::Result<std::vector<KeptEvent>> events(ua::DateTime from, ua::DateTime to, std::size_t most,
                                            const KeptEvent* place);
  ua::Result<bool> removeEvent(const KeptEvent& event);

  /// Gives up the blocks of a variable that ended before, and what was changed in them; how many.
  ua::Result<std::int64_t> forget(std::size_t place, ua::DateTime before);
  /// Gives back to the disk what isn't used of the file any more, when that is a quarter of it.
  ua::Result<void> compact();

  /// Samples that are held in memory, of all variables.
  std::size_t headSize() const { return headSize_; }
  std::size_t unsavedCount() const { return unsavedTimes_.size(); }

  /// Seconds, that is flushes, after which a head goes into a block.
  static constexpr std::int64_t kOldHead = 3600;
  static constexpr std::size_t kMostInHeads = 1'000'000, kMostHeadOctets = 64u << 20;

 private:
  using Samples = std::vector<ua::DataValue>;
  struct Variable {
    std::string name;
    std::int64_t row = 0;       // in the file; 0 before it is saved
    Samples head{};             // in order of time
    std::int64_t headFrom = 0;  // from which row of the head on its samples there count
    std::int64_t oldest = 0;    // row of the head that holds the oldest of `head`
  };
  struct Statements {
    Statement addVariable, addHead, dropHeads, headFrom, watched, blocksForward, blocksBackward, blocksOver, lastBlocks,
        addBlock, dropBlock, dropOldBlocks, dropOldModified, addModified, modified, dropModified, addEvent, dropEvent,
        eventsForward, eventsBackward;
  };
  struct Block {
    std::int64_t first;
    std::shared_ptr<const Samples> samples;  // null when it is damaged
  };

  MonthFile(Database database, Damaged damaged) : database_(std::move(database)), damaged_(std::move(damaged)) {}
  ua::Result<void> prepare();
  ua::Result<void> load();
  void loadHead(std::int64_t row, ua::BytesView octets);
  void hold(std::size_t place, const ua::DataValue& sample, std::int64_t row);
  ua::Result<void> save(ua::DateTime now);
  /// The row of the head after the one that a transaction under way adds, if it adds one.
  std::int64_t rowAfter() const { return unsaved_.empty() ? nextRow_ : nextRow_ + 1; }
  std::vector<std::size_t> toCut() const;
  ua::Result<void> cut(const Variable& variable);
  ua::Result<std::vector<Block>> blocksToJoin(const Variable& variable, const Samples& samples);
  ua::Result<void> addBlocks(const Variable& variable, std::span<const ua::DataValue> samples);
  void saved(std::span<const std::size_t> cut);
  std::shared_ptr<const Samples> decoded(std::int64_t variable, std::int64_t first, ua::BytesView octets);
  ua::Result<void> note(const Variable& variable, const Modified& change);
  ua::Result<void> rewrite(std::size_t place, ua::DateTime from, ua::DateTime to,
                           const std::function<ua::Result<void>(Samples&)>& change);

  Database database_;
  Damaged damaged_;
  Statements sql_;
  std::vector<Variable> variables_;
  std::unordered_map<std::string, std::size_t> places_;
  std::vector<std::size_t> unsavedNames_;
  ua::Bytes unsaved_;                                                 // of the next row of the head
  std::vector<std::pair<std::uint32_t, ua::DateTime>> unsavedTimes_;  // of what is in it, and whose
  std::vector<KeptEvent> unsavedEvents_;
  std::int64_t nextRow_ = 1;                   // of the head
  std::size_t headSize_ = 0, headOctets_ = 0;  // of all variables; octets beside the samples themselves
  ua::DateTime watchedUntil_;
  struct Cached {
    std::int64_t variable, first;
    std::shared_ptr<const Samples> samples;
  };
  std::list<Cached> cache_;  // of blocks, the last used first
};

}  // namespace zunth::history
