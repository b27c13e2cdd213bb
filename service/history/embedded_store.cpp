#include "service/history/embedded_store.hpp"

#include "core/ua/footprint.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::history {

using namespace ua;

namespace {

constexpr int kLeastMonth = 1601 * 12, kMostMonth = 9999 * 12 + 11;

}  // namespace

EmbeddedStore::MonthNumber EmbeddedStore::monthOf(DateTime time) {
  // What no calendar has room for counts to the ends of ours.
  if (time.ticks <= 0) return kLeastMonth;
  constexpr std::int64_t kMostTicks = 2'650'467'743'990'000'000;  // the end of 9999
  if (time.ticks >= kMostTicks) return kMostMonth;
  const std::chrono::year_month_day day(std::chrono::floor<std::chrono::days>(time.time()));
  return static_cast<int>(day.year()) * 12 + static_cast<int>(static_cast<unsigned>(day.month())) - 1;
}

DateTime EmbeddedStore::begin(MonthNumber month) {
  using namespace std::chrono;
  return DateTime::from(
      sys_days(year(month / 12) / std::chrono::month(static_cast<unsigned>(month % 12 + 1)) / day(1)));
}

std::filesystem::path EmbeddedStore::fileOf(MonthNumber month) const {
  return folder_ / fmt::format("{:04}-{:02}.sqlite", month / 12, month % 12 + 1);
}

Result<std::unique_ptr<EmbeddedStore>> EmbeddedStore::open(std::filesystem::path folder, MonthFile::Damaged damaged) {
  std::error_code error;
  std::filesystem::create_directories(folder, error);
  if (!error) std::filesystem::permissions(folder, std::filesystem::perms::owner_all, error);
  if (error)
    return Error{status::BadUserAccessDenied,
                 fmt::format("the folder of history can't be used: {}: {}", folder.string(), error.message()),
                 {}};
  std::unique_ptr<EmbeddedStore> out(new EmbeddedStore(std::move(folder), std::move(damaged)));
  for (const auto& entry : std::filesystem::directory_iterator(out->folder_, error)) {
    int year = 0, month = 0, length = 0;
    const std::string name = entry.path().filename().string();
    if (std::sscanf(name.c_str(), "%4d-%2d.sqlite%n", &year, &month, &length) == 2 &&
        static_cast<std::size_t>(length) == name.size() && month >= 1 && month <= 12)
      out->months_[year * 12 + month - 1].wasThere = true;
  }
  // What was written last says how far all was watched.
  if (!out->months_.empty())
    if (const auto* last = out->use(out->months_.rbegin()->first)) out->watchedUntil_ = last->watchedUntil();
  return out;
}

EmbeddedStore::~EmbeddedStore() = default;

void EmbeddedStore::tellDamage(const std::string& what) {
  constexpr std::size_t kMostTold = 1'000;
  if (toldDamage_.size() < kMostTold && toldDamage_.insert(what).second) damaged_(what);
}

MonthFile* EmbeddedStore::use(MonthNumber number) {
  Month& month = months_[number];
  month.used = ++uses_;
  if (month.file) return month.file.get();
  if (month.isLost) return nullptr;
  const auto file = fileOf(number);
  auto opened = MonthFile::open(
      file, [this, file](const std::string& what) { tellDamage(fmt::format("{}: {}", file.string(), what)); });
  if (!opened) {
    if (!std::exchange(month.isTold, true)) damaged_(fmt::format("{}: {}", file.string(), opened.error().text()));
    month.isLost = true;
    openError_ = opened.error();
    // A damaged file is put aside for who can mend it, and a new one begun; other reasons may pass.
    if (opened.error().code == status::BadDataEncodingInvalid) {
      std::error_code failed;
      std::filesystem::rename(file, file.string() + ".damaged", failed);
      for (const char* part : {"-wal", "-shm"})
        if (!failed) std::filesystem::remove(file.string() + part, failed);
      month.isLost = static_cast<bool>(failed);
      if (!failed) return use(number);
    }
    return nullptr;
  }
  month.file = std::move(*opened);
  month.isTold = false;
  closeUnused();
  return month.file.get();
}

void EmbeddedStore::closeUnused() {
  const auto isOpen = [](const auto& entry) { return entry.second.file != nullptr; };
  while (static_cast<std::size_t>(std::ranges::count_if(months_, isOpen)) > kMostOpen) {
    Month* oldest = nullptr;
    for (auto& [number, month] : months_)
      if (month.file && !month.file->hasUnsaved() && (!oldest || month.used < oldest->used)) oldest = &month;
    if (!oldest || oldest->used == uses_) return;
    if (oldest->file.get() == lastFile_) lastFile_ = nullptr;
    // Its head is read back when it is opened again, if it can't be put into blocks now.
    static_cast<void>(oldest->file->settle());
    oldest->file.reset();
  }
}

VariableId EmbeddedStore::variable(const std::string& name) {
  const auto [at, isNew] = ids_.try_emplace(name, static_cast<VariableId>(names_.size()));
  if (isNew) {
    names_.push_back(name);
    lastPlaces_.emplace_back();
  }
  return at->second;
}

Result<std::vector<std::string>> EmbeddedStore::names() {
  std::set<std::string> out;
  for (const auto number : monthsBetween(kBeginning, kEnd))
    if (const MonthFile* file = use(number)) out.merge(file->names());
  return std::vector(out.begin(), out.end());
}

void EmbeddedStore::append(std::span<const Record> records) {
  for (const auto& record : records) {
    const DateTime time = record.sample.sourceTimestamp;
    // Nearly all belong to the month of the one before.
    if (!lastFile_ || monthOf(time) != lastMonth_) {
      lastMonth_ = monthOf(time);
      lastFile_ = use(lastMonth_);
    }
    if (!lastFile_) {
      wait(months_[lastMonth_], record);
      continue;
    }
    Place& place = lastPlaces_[record.variable];
    if (place.month != lastMonth_) place = {lastMonth_, lastFile_->place(names_[record.variable])};
    lastFile_->append(place.place, record.sample);
  }
}

/// For the file; what there is no room for is lost, and marked so where it begins.
void EmbeddedStore::wait(Month& month, const Record& record) {
  const std::size_t octets = footprint(record.sample.value);
  if (month.lostSince.contains(record.variable)) return;
  if (waiting_ >= kMostUnsaved || waitingOctets_ + octets > kMostUnsavedOctets) {
    month.lostSince.emplace(record.variable, record.sample.sourceTimestamp);
    return;
  }
  month.waiting.push_back(record);
  ++waiting_;
  waitingOctets_ += octets;
}

/// Tries a file again that couldn't be opened, and gives it what came meanwhile.
Result<void> EmbeddedStore::bringWaiting(MonthNumber number) {
  Month& month = months_[number];
  month.isLost = false;
  if (!use(number)) return openError_;
  auto records = std::exchange(month.waiting, {});
  waiting_ -= records.size();
  for (const auto& record : records) waitingOctets_ -= footprint(record.sample.value);
  for (const auto& [variable, since] : std::exchange(month.lostSince, {}))
    records.push_back({variable, DataValue(Variant(), since, status::BadDataLost)});
  append(records);
  append(std::exchange(month.waitingEvents, {}));
  return {};
}

Result<void> EmbeddedStore::flush(DateTime now) {
  const MonthNumber current = monthOf(now);
  Result<void> outcome;
  std::vector<MonthNumber> closed;
  for (const auto& [number, month] : months_)
    if (month.isLost) closed.push_back(number);
  for (const auto number : closed)
    if (auto fine = bringWaiting(number); !fine) outcome = fine;
  use(current);
  // What was the present month gets no head any more.
  if (const auto last = std::exchange(currentMonth_, current); last != current)
    if (const auto before = months_.find(last); before != months_.end() && before->second.file)
      if (auto fine = before->second.file->settle(); !fine) outcome = fine;
  for (auto& [number, month] : months_) {
    if (!month.file || (number != current && !month.file->hasUnsaved())) continue;
    auto fine = month.file->flush(now);
    if (fine) continue;
    outcome = fine;
    if (month.file->unsavedCount() > kMostUnsaved) {
      const auto lost = month.file->dropUnsaved();
      damaged_(fmt::format("{} samples were lost, as they can't be written: {}", lost, fine.error().cause));
    }
  }
  if (outcome) watchedUntil_ = now;
  return outcome;
}

/// Those that there are, in the direction of time.
std::vector<EmbeddedStore::MonthNumber> EmbeddedStore::monthsBetween(DateTime from, DateTime to) const {
  const MonthNumber first = monthOf(std::min(from, to)), last = monthOf(std::max(from, to));
  std::vector<MonthNumber> out;
  for (auto at = months_.lower_bound(first); at != months_.end() && at->first <= last; ++at) out.push_back(at->first);
  if (to < from) std::ranges::reverse(out);
  return out;
}

void EmbeddedStore::append(std::vector<KeptEvent> events) {
  for (auto& event : events) {
    const MonthNumber number = monthOf(event.time);
    MonthFile* file = use(number);
    auto& waiting = months_[number].waitingEvents;
    if ((file ? file->unsavedEvents() : waiting.size()) >= kMostUnsavedEvents)
      tellDamage("events are lost, as they can't be written");
    else if (file)
      file->append(std::move(event));
    else
      waiting.push_back(std::move(event));
  }
}

Result<std::vector<KeptEvent>> EmbeddedStore::events(DateTime from, DateTime to, std::size_t most,
                                                     const KeptEvent* place) {
  std::vector<KeptEvent> out;
  for (const auto number : monthsBetween(place ? place->time : from, to)) {
    MonthFile* file = use(number);
    if (!file || out.size() >= most) continue;
    // Numbers are a file's own.
    const bool isThere = place && monthOf(place->time) == number;
    auto some = file->events(from, to, most - out.size(), isThere ? place : nullptr);
    if (!some) return some.error();
    std::ranges::move(*some, std::back_inserter(out));
  }
  return out;
}

Result<bool> EmbeddedStore::removeEvent(const KeptEvent& event) {
  MonthFile* file = use(monthOf(event.time));
  return file ? file->removeEvent(event) : Result<bool>(openError_);
}

/// visit(file, place) for each month from one time to another, in the direction of the walk, until it gives false.
template <class Do>
Result<void> EmbeddedStore::eachMonth(VariableId variable, DateTime from, DateTime to, Do&& visit) {
  for (const auto number : monthsBetween(from, to)) {
    MonthFile* file = use(number);
    const auto place = file ? file->find(names_[variable]) : std::nullopt;
    if (file && !place) continue;
    const Result<bool> goesOn = visit(number, file, place.value_or(0));
    if (!goesOn) return goesOn.error();
    if (!*goesOn) break;
  }
  return {};
}

/// A variable's samples through all months.
class EmbeddedStore::Walk final : public Timeline {
 public:
  Walk(EmbeddedStore& store, VariableId variable) : store_(store), variable_(variable) {}
  Result<void> walk(DateTime from, DateTime to, const Visit& visit) const override {
    return store_.eachMonth(variable_, from, to, [&](MonthNumber month, MonthFile* file, std::size_t place) {
      auto goesOn = file ? file->walk(place, from, to, visit) : Result<bool>(status::BadDataLost);
      if (goesOn) return goesOn;
      // What can't be read is lost, and says so; what came since waits in memory.
      std::map<DateTime, DataValue> samples;
      if (store_.months_[month].wasThere)
        samples[begin(month)] = DataValue(Variant(), begin(month), status::BadDataLost);
      for (const auto& record : store_.months_[month].waiting)
        if (record.variable == variable_) samples[record.sample.sourceTimestamp] = record.sample;
      if (const auto lost = store_.months_[month].lostSince.find(variable_);
          lost != store_.months_[month].lostSince.end())
        samples[lost->second] = DataValue(Variant(), lost->second, status::BadDataLost);
      std::vector<DataValue> all;
      for (auto& [time, sample] : samples) all.push_back(std::move(sample));
      return Result<bool>(walkOver(all, from, to, visit));
    });
  }

 private:
  EmbeddedStore& store_;
  const VariableId variable_;
};

std::unique_ptr<Timeline> EmbeddedStore::timeline(VariableId variable) {
  return std::make_unique<Walk>(*this, variable);
}

Result<std::vector<StatusCode>> EmbeddedStore::edit(VariableId variable, const Edit& edit) {
  using enum Edit::Kind;
  std::vector<StatusCode> outcomes;
  if (edit.kind == DeleteRange || edit.kind == DeleteModified) {
    outcomes.push_back(edit.kind == DeleteRange ? status::GoodNoData : status::Good);
    auto fine = eachMonth(variable, edit.from, edit.to, [&](MonthNumber, MonthFile* file, std::size_t place) {
      if (!file) return Result<bool>(status::BadResourceUnavailable);
      auto done = file->edit(place, edit);
      if (!done) return Result<bool>(done.error());
      if (done->front() == status::Good) outcomes.front() = status::Good;
      return Result<bool>(true);
    });
    if (!fine) return fine.error();
    return outcomes;
  }
  // What belongs to one month goes together.
  const bool isTimes = edit.kind == DeleteTimes;
  const std::size_t count = isTimes ? edit.times.size() : edit.samples.size();
  std::map<MonthNumber, std::vector<std::size_t>> byMonth;
  for (std::size_t i = 0; i < count; ++i)
    byMonth[monthOf(isTimes ? edit.times[i] : edit.samples[i].sourceTimestamp)].push_back(i);
  outcomes.assign(count, status::BadNoEntryExists);
  for (const auto& [month, which] : byMonth) {
    const bool mayBegin = edit.kind == Insert || edit.kind == Update;
    if (!mayBegin && !months_.contains(month)) continue;
    MonthFile* file = use(month);
    if (!file) return Error{status::BadResourceUnavailable, "the file of that month can't be used", {}};
    if (!mayBegin && !file->find(names_[variable])) continue;
    Edit part{edit.kind, {}, {}, {}, {}, edit.user, edit.now};
    for (const auto i : which)
      if (isTimes)
        part.times.push_back(edit.times[i]);
      else
        part.samples.push_back(edit.samples[i]);
    auto done = file->edit(file->place(names_[variable]), part);
    if (!done) return done.error();
    for (std::size_t i = 0; i < which.size(); ++i) outcomes[which[i]] = (*done)[i];
  }
  return outcomes;
}

Result<std::vector<Modified>> EmbeddedStore::modified(VariableId variable, DateTime from, DateTime to) {
  std::vector<Modified> out;
  auto fine = eachMonth(variable, from, to, [&](MonthNumber, MonthFile* file, std::size_t place) {
    if (!file) return Result<bool>(true);
    auto some = file->modified(place, from, to);
    if (!some) return Result<bool>(some.error());
    std::ranges::move(*some, std::back_inserter(out));
    return Result<bool>(true);
  });
  if (!fine) return fine.error();
  return out;
}

Result<void> EmbeddedStore::append(VariableId variable, std::span<const Modified> changes) {
  std::map<MonthNumber, std::vector<Modified>> byMonth;
  for (const auto& change : changes) byMonth[monthOf(change.sample.sourceTimestamp)].push_back(change);
  for (const auto& [number, some] : byMonth) {
    MonthFile* file = use(number);
    if (!file) return openError_;
    if (auto fine = file->append(file->place(names_[variable]), some); !fine) return fine;
  }
  return {};
}

Result<void> EmbeddedStore::remove(MonthNumber number) {
  Month& month = months_.at(number);
  if (month.file && month.file.get() == lastFile_) lastFile_ = nullptr;
  month.file.reset();
  std::error_code error;
  const auto file = fileOf(number);
  for (const char* part : {"", "-wal", "-shm"}) std::filesystem::remove(file.string() + part, error);
  if (error) return Error{status::BadUserAccessDenied, fmt::format("{} can't be removed", file.string()), {}};
  months_.erase(number);
  return {};
}

Result<void> EmbeddedStore::forget(DateTime before) {
  while (!months_.empty() && begin(months_.begin()->first + 1) <= before)
    if (auto fine = remove(months_.begin()->first); !fine) return fine;
  return {};
}

Result<void> EmbeddedStore::forget(std::span<const std::string> variables, DateTime before) {
  const auto present = months_.empty() ? 0 : months_.rbegin()->first;
  std::vector<MonthNumber> numbers;
  for (const auto& [number, month] : months_)
    if (begin(number) < before) numbers.push_back(number);
  for (const auto number : numbers) {
    MonthFile* file = use(number);
    if (!file) return openError_;
    if (number != present)
      if (auto fine = file->settle(); !fine) return fine;
    std::int64_t gone = 0;
    for (const auto& name : variables) {
      const auto place = file->find(name);
      if (!place) continue;
      const auto some = file->forget(*place, before);
      if (!some) return some.error();
      gone += *some;
    }
    // What is free in the present one is used again.
    if (gone > 0 && number != present)
      if (auto fine = file->compact(); !fine) return fine;
  }
  return {};
}

Result<void> EmbeddedStore::shrink(std::uint64_t octets) {
  std::uint64_t all = 0;
  std::map<MonthNumber, std::uint64_t> sizes;
  for (const auto& [number, month] : months_)
    for (const char* part : {"", "-wal"}) {
      std::error_code none;
      const auto size = std::filesystem::file_size(fileOf(number).string() + part, none);
      if (!none) sizes[number] += size;
    }
  for (const auto& [number, size] : sizes) all += size;
  while (all > octets && months_.size() > 1) {
    const auto oldest = months_.begin()->first;
    if (auto fine = remove(oldest); !fine) return fine;
    all -= sizes[oldest];
  }
  return {};
}

DateTime EmbeddedStore::beginsAt() const { return months_.empty() ? DateTime() : begin(months_.begin()->first); }

}  // namespace zunth::history
