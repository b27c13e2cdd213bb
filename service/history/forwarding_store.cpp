#include "service/history/forwarding_store.hpp"

#include "core/history/merged_timeline.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::history {

using namespace ua;

namespace {

constexpr auto kPause = std::chrono::seconds(5);            // from one try to reach the database to the next
constexpr auto kBringing = std::chrono::milliseconds(400);  // of each flush: who asks for history waits no longer
constexpr std::size_t kAtOnce = 20'000;

/// A stretch of time of which nothing can be said now.
class Unknown final : public Timeline {
 public:
  Unknown(std::unique_ptr<Timeline> atHand, std::function<bool(DateTime, DateTime)> isAtHand, Error why)
      : atHand_(std::move(atHand)), isAtHand_(std::move(isAtHand)), why_(std::move(why)) {}
  Result<void> walk(DateTime from, DateTime to, const Visit& visit) const override {
    if (!isAtHand_(from, to)) return why_;
    return atHand_->walk(from, to, visit);
  }

 private:
  std::unique_ptr<Timeline> atHand_;
  std::function<bool(DateTime, DateTime)> isAtHand_;
  Error why_;
};

}  // namespace

ForwardingStore::ForwardingStore(Reach reach, std::unique_ptr<EmbeddedStore> files,
                                 std::function<void(bool, const std::string&)> told)
    : reach_(std::move(reach)), files_(std::move(files)), told_(std::move(told)) {
  isBehind_ = !files_->beginsAt().isNull();
  filesWatched_ = files_->watchedUntil();
}

void ForwardingStore::reach() {
  if (database_ || Clock::now() < tryAt_) return;
  auto reached = reach_();
  tryAt_ = Clock::now() + kPause;
  if (!reached) {
    if (away_.cause.empty()) told_(false, reached.error().text());
    away_ = reached.error();
    if (away_.cause.empty()) away_.cause = "the database of history can't be reached";
    return;
  }
  database_ = std::move(*reached);
  for (const auto& name : names_) database_->variable(name);
  beginsAt_ = database_->beginsAt();
  if (!away_.cause.empty()) told_(true, "the database of history is there again");
  away_ = {};
  savedUntil_ = std::max(savedUntil_, database_->watchedUntil());
  const auto end = std::max(filesWatched_, savedUntil_);
  if (!std::exchange(hasBeenReached_, true) && !end.isNull()) markGap(end);
}

/// What it has not taken goes to the files.
void ForwardingStore::lose(const Error& why) {
  if (!database_) return;
  auto unsaved = database_->takeUnsaved();
  database_.reset();
  away_ = why;
  told_(false, fmt::format("{}; what comes is kept in files", why.text()));
  tryAt_ = Clock::now() + kPause;
  toBring_.reset();
  areEventsBrought_ = false;
  isBehind_ = true;
  files_->append(unsaved.records);
  files_->append(std::move(unsaved.events));
}

template <class Do>
auto ForwardingStore::with(Do&& work) -> decltype(work(std::declval<PostgresStore&>())) {
  reach();
  if (!database_) return away_;
  auto out = work(*database_);
  if (!out && out.code() == status::BadCommunicationError) lose(out.error());
  return out;
}

VariableId ForwardingStore::variable(const std::string& name) {
  const auto [at, isNew] = ids_.try_emplace(name, static_cast<VariableId>(names_.size()));
  if (isNew) {
    // All count alike, as they hear of names in the same order.
    names_.push_back(name);
    files_->variable(name);
    if (database_) database_->variable(name);
  }
  return at->second;
}

Result<std::vector<std::string>> ForwardingStore::names() {
  auto out = with([](PostgresStore& store) { return store.names(); });
  if (!out || !isBehind_) return out;
  auto more = files_->names();
  if (!more) return more;
  for (auto& name : *more)
    if (std::ranges::find(*out, name) == out->end()) out->push_back(std::move(name));
  return out;
}

void ForwardingStore::append(std::span<const Record> records) {
  if (database_) return database_->append(records);
  isBehind_ |= !records.empty();
  files_->append(records);
}

void ForwardingStore::append(std::vector<KeptEvent> events) {
  if (database_) return database_->append(std::move(events));
  isBehind_ |= !events.empty();
  files_->append(std::move(events));
}

Result<void> ForwardingStore::flush(DateTime now) {
  reach();
  if (database_) {
    auto fine = database_->flush(now);
    if (fine) {
      watchedUntil_ = savedUntil_ = now;
      beginsAt_ = database_->beginsAt();
      if (isBehind_)
        if (auto brought = bring(Clock::now() + kBringing); !brought) lose(brought.error());
      return {};
    }
    lose(fine.error());
  }
  isBehind_ = true;
  auto fine = files_->flush(now);
  if (fine) watchedUntil_ = now;
  return fine;
}

/// From when the last run ended on, what was there before is not known to go on: as Recorder does, where that could be
/// asked at once.
void ForwardingStore::markGap(DateTime end) {
  std::vector<Record> lost;
  for (VariableId variable = 0; variable < names_.size(); ++variable) {
    std::optional<DataValue> last;
    const auto fine = timeline(variable)->walk(end, kBeginning, [&](std::span<const DataValue> samples) {
      last = samples.front();
      return false;
    });
    if (fine && last && last->status != status::BadDataLost)
      lost.push_back({variable, DataValue(Variant(), after(end), status::BadDataLost)});
  }
  append(lost);
}

Result<void> ForwardingStore::bring(Clock::time_point until) {
  if (!toBring_) {
    auto names = files_->names();
    if (!names) return names.error();
    toBring_.emplace();
    broughtUntil_ = kBeginning;
    for (const auto& name : *names) toBring_->push_back(variable(name));
  }
  if (!areEventsBrought_)
    if (auto fine = bringEvents(); !fine) return fine;
  if (auto fine = bringSamples(until); !fine) return fine;
  if (!toBring_->empty()) return {};
  // All of it is safe in the database; what the files had is there twice, and read once.
  toBring_.reset();
  areEventsBrought_ = false;
  isBehind_ = false;
  return files_->forget(kEnd);
}

Result<void> ForwardingStore::bringEvents() {
  std::optional<KeptEvent> last;
  for (;;) {
    auto some = files_->events(kBeginning, kEnd, kAtOnce, last ? &*last : nullptr);
    if (!some) return some.error();
    if (some->empty()) break;
    last = some->back();
    const bool isLast = some->size() < kAtOnce;
    database_->append(std::move(*some));
    if (auto fine = database_->flush(savedUntil_); !fine) return fine;
    if (isLast) break;
  }
  areEventsBrought_ = true;
  return {};
}

Result<void> ForwardingStore::bringSamples(Clock::time_point until) {
  while (!toBring_->empty() && Clock::now() < until) {
    const auto variable = toBring_->back();
    std::vector<Record> records;
    auto fine = files_->timeline(variable)->walk(broughtUntil_, kEnd, [&](std::span<const DataValue> some) {
      for (const auto& sample : some) records.push_back({variable, sample});
      return records.size() < kAtOnce;
    });
    if (!fine) return fine;
    if (records.empty()) {
      toBring_->pop_back();
      broughtUntil_ = kBeginning;
      continue;
    }
    broughtUntil_ = after(records.back().sample.sourceTimestamp);
    fine = database_->catchUp(records);
    if (!fine) return fine;
  }
  return {};
}

/// While the database is away: what came since is in the files.
bool ForwardingStore::isAtHand(DateTime from, DateTime to) const {
  return !savedUntil_.isNull() && std::min(from, to) > savedUntil_;
}

std::unique_ptr<Timeline> ForwardingStore::timeline(VariableId variable) {
  reach();
  if (!database_)
    return std::make_unique<Unknown>(
        files_->timeline(variable), [this](DateTime from, DateTime to) { return isAtHand(from, to); }, away_);
  auto out = database_->timeline(variable);
  if (!isBehind_) return out;
  return std::make_unique<MergedTimeline>(std::move(out), files_->timeline(variable));
}

Result<std::vector<StatusCode>> ForwardingStore::edit(VariableId variable, const Edit& edit) {
  reach();
  while (database_ && isBehind_)
    if (auto fine = bring(Clock::time_point::max()); !fine) {
      lose(fine.error());
      return fine.error();
    }
  return with([&](PostgresStore& store) { return store.edit(variable, edit); });
}

Result<std::vector<Modified>> ForwardingStore::modified(VariableId variable, DateTime from, DateTime to) {
  return with([&](PostgresStore& store) { return store.modified(variable, from, to); });
}

Result<void> ForwardingStore::append(VariableId variable, std::span<const Modified> changes) {
  return with([&](PostgresStore& store) { return store.append(variable, changes); });
}

Result<std::vector<KeptEvent>> ForwardingStore::events(DateTime from, DateTime to, std::size_t most,
                                                       const KeptEvent* place) {
  reach();
  if (!database_ && isAtHand(from, to)) return files_->events(from, to, most, place);
  if (database_ && isBehind_ && !areEventsBrought_)
    if (auto fine = bringEvents(); !fine) {
      lose(fine.error());
      return fine.error();
    }
  return with([&](PostgresStore& store) { return store.events(from, to, most, place); });
}

Result<bool> ForwardingStore::removeEvent(const KeptEvent& event) {
  reach();
  // What still lies in the files would come back from there.
  while (database_ && isBehind_)
    if (auto fine = bring(Clock::time_point::max()); !fine) {
      lose(fine.error());
      return fine.error();
    }
  return with([&](PostgresStore& store) { return store.removeEvent(event); });
}

Result<void> ForwardingStore::forget(DateTime before) {
  return with([&](PostgresStore& store) { return store.forget(before); });
}

Result<void> ForwardingStore::forget(std::span<const std::string> variables, DateTime before) {
  return with([&](PostgresStore& store) { return store.forget(variables, before); });
}

}  // namespace zunth::history
