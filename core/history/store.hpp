#pragma once

#include "core/history/timeline.hpp"
#include "core/ua/bytes.hpp"
#include "core/ua/generated/structures.hpp"

#include <optional>
#include <string>

namespace zunth::history {

/// A variable in a store, for as long as the store is open. On disk it is known by its name: its NodeId with the URI of
/// its namespace, as rows and indexes are used again.
using VariableId = std::uint32_t;

struct Record {
  VariableId variable;
  ua::DataValue sample;
};

/// A sample that was changed or taken away, or put in by hand, and by whom (Part 11, 6.5.3).
struct Modified {
  ua::DataValue sample;  // as it was; what was put in
  ua::ModificationInfo info;
};

/// An event that happened, as octets (core/history/kept_event.hpp).
struct KeptEvent {
  ua::DateTime time;
  ua::Bytes octets;
  std::int64_t number = 0;  // in its month's file, given when it is saved; orders those of one time
};

/// What a client does to what is kept (Part 11, 6.8).
struct Edit {
  enum class Kind : std::uint8_t { Insert, Replace, Update, DeleteRange, DeleteTimes, DeleteModified };
  Kind kind;
  std::vector<ua::DataValue> samples{};  // Insert, Replace, Update
  std::vector<ua::DateTime> times{};     // DeleteTimes
  ua::DateTime from{}, to{};             // DeleteRange, DeleteModified: without `to`
  ua::String user{};
  ua::DateTime now{};
};

/// Where history is kept: one thread at a time uses it. What append() takes counts at once for reading, and is safe
/// when flush() has said so.
class Store {
 public:
  virtual ~Store() = default;
  virtual VariableId variable(const std::string& name) = 0;
  /// Of all variables of which anything is kept.
  virtual ua::Result<std::vector<std::string>> names() = 0;
  virtual void append(std::span<const Record> records) = 0;
  /// Makes safe what has come since. When it fails nothing is lost yet: what came is kept and tried again, as long as
  /// there is room for it in memory; what has to be given up is marked as lost. `now` is how far all that is kept was
  /// watched.
  virtual ua::Result<void> flush(ua::DateTime now) = 0;
  /// How far everything was watched when the store was last used; null for a new one.
  virtual ua::DateTime watchedUntil() const = 0;
  /// For as long as the store isn't changed.
  virtual std::unique_ptr<Timeline> timeline(VariableId variable) = 0;
  /// One outcome for each sample or moment; one in all for ranges.
  virtual ua::Result<std::vector<ua::StatusCode>> edit(VariableId variable, const Edit& edit) = 0;
  /// What was changed between two moments, `to` not included; in the order of their samples' times.
  virtual ua::Result<std::vector<Modified>> modified(VariableId variable, ua::DateTime from, ua::DateTime to) = 0;
  /// Puts records of changes there, as they were made elsewhere: when history moves from one store to another.
  virtual ua::Result<void> append(VariableId variable, std::span<const Modified> changes) = 0;
  virtual void append(std::vector<KeptEvent> events) = 0;
  /// Events from a moment on, that included, to another, that excluded, in the direction of time; backwards where `to`
  /// is before `from`. With `place`, from behind that one on.
  virtual ua::Result<std::vector<KeptEvent>> events(ua::DateTime from, ua::DateTime to, std::size_t most,
                                                    const KeptEvent* place) = 0;
  /// Takes away one that events() gave; whether it was still there.
  virtual ua::Result<bool> removeEvent(const KeptEvent& event) = 0;
  /// Gives up what is older, in whole months.
  virtual ua::Result<void> forget(ua::DateTime before) = 0;
  /// Gives up what is older of these variables, by their names, as far as it lies together; sooner than the rest.
  virtual ua::Result<void> forget(std::span<const std::string> variables, ua::DateTime before) = 0;
  /// Gives up the oldest months until the rest takes no more than this; the present one stays.
  virtual ua::Result<void> shrink(std::uint64_t octets) = 0;
  /// Before it nothing was kept; null for an empty store.
  virtual ua::DateTime beginsAt() const = 0;
};

}  // namespace zunth::history
