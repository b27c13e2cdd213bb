#include "service/history/month_file.hpp"

#include "core/history/block.hpp"
#include "core/history/editing.hpp"
#include "core/history/varint.hpp"
#include "core/ua/binary_reader.hpp"
#include "core/ua/footprint.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <zstd.h>

namespace zunth::history {

using namespace ua;

namespace {

constexpr int kFormat = 1;
constexpr const char* kTables = R"(
  CREATE TABLE variables (id INTEGER PRIMARY KEY, name TEXT UNIQUE NOT NULL, head_from INTEGER NOT NULL DEFAULT 0);
  CREATE TABLE blocks (variable INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, count INTEGER NOT NULL,
                       octets BLOB NOT NULL, PRIMARY KEY (variable, first));
  CREATE TABLE head (row INTEGER PRIMARY KEY, octets BLOB NOT NULL);
  CREATE TABLE modified (variable INTEGER NOT NULL, time INTEGER NOT NULL, number INTEGER NOT NULL, sample BLOB NOT NULL,
                         kind INTEGER NOT NULL, made INTEGER NOT NULL, user TEXT NOT NULL,
                         PRIMARY KEY (variable, time, number));
  CREATE TABLE events (number INTEGER PRIMARY KEY, time INTEGER NOT NULL, octets BLOB NOT NULL);
  CREATE INDEX events_by_time ON events (time, number);
  CREATE TABLE facts (name TEXT PRIMARY KEY, value INTEGER NOT NULL);
  INSERT INTO facts VALUES ('watched until', 0);
)";
/// Blocks with fewer are joined, when so many of them have come.
constexpr std::int64_t kSmall = kMostInBlock / 2, kMostSmall = 8;
/// Heads that are put into blocks in one go, when it is their age that asks for it.
constexpr std::size_t kMostAtOnce = 2000;
constexpr std::size_t kMostCached = 8;

template <class T>
BytesView viewOf(const T& octets) {
  return {octets.data(), octets.size()};
}

/// What the sample may not carry into a block.
DataValue plain(DataValue sample) {
  sample.sourcePicoseconds = sample.serverPicoseconds = 0;
  return sample;
}

/// Puts samples over others; of two with the same time the later ones stay. Both are in order.
std::vector<DataValue> merged(std::span<const DataValue> under, std::span<const DataValue> over) {
  std::vector<DataValue> out;
  out.reserve(under.size() + over.size());
  std::ranges::set_union(over, under, std::back_inserter(out), {}, &DataValue::sourceTimestamp,
                         &DataValue::sourceTimestamp);
  return out;
}

}  // namespace

Result<std::unique_ptr<MonthFile>> MonthFile::open(const std::filesystem::path& file, Damaged damaged) {
  auto database = Database::open(file);
  if (!database) return database.error();
  const auto format = database->number("PRAGMA user_version");
  if (!format) return format.error();
  if (*format > kFormat)
    return Error{
        status::BadNotSupported, fmt::format("{} was written by a newer version of this program", file.string()), {}};
  if (*format == 0) {
    auto transaction = Transaction::begin(*database);
    if (!transaction) return transaction.error();
    for (const std::string& sql : {std::string(kTables), fmt::format("PRAGMA user_version = {}", kFormat)})
      if (auto fine = database->execute(sql.c_str()); !fine) return fine.error();
    if (auto fine = transaction->commit(); !fine) return fine.error();
  }
  std::unique_ptr<MonthFile> out(new MonthFile(std::move(*database), std::move(damaged)));
  if (auto fine = out->prepare(); !fine) return fine.error();
  if (auto fine = out->load(); !fine) return fine.error();
  return out;
}

Result<void> MonthFile::prepare() {
  const std::pair<Statement*, const char*> all[] = {
      {&sql_.addVariable, "INSERT INTO variables (name, head_from) VALUES (?, 0)"},
      {&sql_.addHead, "INSERT INTO head (row, octets) VALUES (?, ?)"},
      {&sql_.dropHeads, "DELETE FROM head WHERE row < ?"},
      {&sql_.headFrom, "UPDATE variables SET head_from = ? WHERE id = ?"},
      {&sql_.watched, "UPDATE facts SET value = ? WHERE name = 'watched until'"},
      // From the block that the walk begins in.
      {&sql_.blocksForward,
       "SELECT first, octets FROM blocks WHERE variable = ?1 AND first < ?3 AND last >= ?2 AND first >= "
       "coalesce((SELECT max(first) FROM blocks WHERE variable = ?1 AND first <= ?2), ?2) ORDER BY first"},
      {&sql_.blocksBackward,
       "SELECT first, octets FROM blocks WHERE variable = ?1 AND first <= ?2 AND last > ?3 ORDER BY first DESC"},
      {&sql_.blocksOver,
       "SELECT first, octets FROM blocks WHERE variable = ? AND last >= ? AND first <= ? ORDER BY first"},
      {&sql_.lastBlocks,
       "SELECT first, last, count, octets FROM blocks WHERE variable = ? ORDER BY first DESC LIMIT 8"},
      {&sql_.addBlock, "INSERT OR REPLACE INTO blocks (variable, first, last, count, octets) VALUES (?, ?, ?, ?, ?)"},
      {&sql_.dropOldBlocks, "DELETE FROM blocks WHERE variable = ? AND last < ?"},
      {&sql_.dropOldModified, "DELETE FROM modified WHERE variable = ? AND time < ?"},
      {&sql_.dropBlock, "DELETE FROM blocks WHERE variable = ? AND first = ?"},
      {&sql_.addModified,
       "INSERT INTO modified SELECT ?1, ?2, 1 + coalesce((SELECT max(number) FROM modified WHERE variable = ?1 AND "
       "time = ?2), 0), ?3, ?4, ?5, ?6"},
      {&sql_.modified,
       "SELECT sample, kind, made, user FROM modified WHERE variable = ? AND time >= ? AND time < ? ORDER BY time, "
       "number"},
      {&sql_.addEvent, "INSERT INTO events (time, octets) VALUES (?, ?)"},
      {&sql_.dropEvent, "DELETE FROM events WHERE time = ? AND number = ?"},
      {&sql_.eventsForward,
       "SELECT time, number, octets FROM events WHERE time >= ?1 AND time < ?2 AND (time, number) > (?3, ?4) "
       "ORDER BY time, number LIMIT ?5"},
      {&sql_.eventsBackward,
       "SELECT time, number, octets FROM events WHERE time <= ?1 AND time > ?2 AND (time, number) < (?3, ?4) "
       "ORDER BY time DESC, number DESC LIMIT ?5"},
      {&sql_.dropModified, "DELETE FROM modified WHERE variable = ? AND time >= ? AND time < ?"}};
  for (const auto& [statement, sql] : all) {
    auto made = database_.prepare(sql);
    if (!made) return made.error();
    *statement = std::move(*made);
  }
  return {};
}

/// Reads what a start needs: the names, and the head.
Result<void> MonthFile::load() {
  auto watched = database_.number("SELECT value FROM facts WHERE name = 'watched until'");
  if (!watched) return watched.error();
  watchedUntil_.ticks = *watched;
  auto names = database_.prepare("SELECT id, name, head_from FROM variables ORDER BY id");
  if (!names) return names.error();
  for (;;) {
    const auto row = names->step();
    if (!row) return row.error();
    if (!*row) break;
    places_.emplace(names->text(1), variables_.size());
    variables_.push_back({std::string(names->text(1)), names->number(0), {}, names->number(2)});
    nextRow_ = std::max(nextRow_, variables_.back().headFrom);
  }
  auto heads = database_.prepare("SELECT row, octets FROM head ORDER BY row");
  if (!heads) return heads.error();
  for (;;) {
    const auto row = heads->step();
    if (!row) return row.error();
    if (!*row) break;
    loadHead(heads->number(0), heads->octets(1));
    nextRow_ = heads->number(0) + 1;
  }
  return {};
}

void MonthFile::loadHead(std::int64_t row, BytesView octets) {
  const auto broken = [&] { damaged_(fmt::format("row {} of the head is damaged", row)); };
  constexpr std::size_t kMost = 1u << 30;
  const auto size = ZSTD_getFrameContentSize(octets.data(), octets.size());
  if (size == ZSTD_CONTENTSIZE_UNKNOWN || size == ZSTD_CONTENTSIZE_ERROR || size > kMost) return broken();
  Bytes plain(size);
  if (ZSTD_isError(ZSTD_decompress(plain.data(), plain.size(), octets.data(), octets.size()))) return broken();
  std::unordered_map<std::int64_t, std::size_t> places;
  for (std::size_t i = 0; i < variables_.size(); ++i) places.emplace(variables_[i].row, i);
  BinaryReader reader(plain);
  while (reader.remaining() > 0) {
    const auto id = reader.next<std::uint32_t>();
    const auto sample = reader.next<DataValue>();
    const auto place = places.find(id);
    if (!reader.ok() || place == places.end()) return broken();
    if (row >= variables_[place->second].headFrom) hold(place->second, sample, row);
  }
}

std::optional<std::size_t> MonthFile::find(const std::string& name) const {
  const auto found = places_.find(name);
  return found == places_.end() ? std::nullopt : std::optional(found->second);
}

std::size_t MonthFile::place(const std::string& name) {
  const auto [at, isNew] = places_.try_emplace(name, variables_.size());
  if (isNew) {
    // Its number is known before it is saved: nobody else writes to the file.
    const std::int64_t row = variables_.empty() ? 1 : variables_.back().row + 1;
    variables_.push_back({name, row});
    unsavedNames_.push_back(at->second);
  }
  return at->second;
}

/// Puts a sample into the head, where its time belongs.
void MonthFile::hold(std::size_t place, const DataValue& sample, std::int64_t row) {
  auto& variable = variables_[place];
  auto& head = variable.head;
  headOctets_ += footprint(sample.value);
  if (head.empty()) variable.oldest = row;
  if (head.empty() || head.back().sourceTimestamp < sample.sourceTimestamp) {
    head.push_back(sample);
    ++headSize_;
    return;
  }
  const auto at = std::ranges::lower_bound(head, sample.sourceTimestamp, {}, &DataValue::sourceTimestamp);
  if (at->sourceTimestamp == sample.sourceTimestamp) {
    *at = sample;
  } else {
    head.insert(at, sample);
    ++headSize_;
  }
}

void MonthFile::append(std::size_t place, const DataValue& sample) {
  const DataValue kept = plain(sample);
  hold(place, kept, nextRow_);
  BinaryWriter writer(unsaved_);
  writer.write(static_cast<std::uint32_t>(variables_[place].row));
  writer.write(kept);
  unsavedTimes_.emplace_back(place, kept.sourceTimestamp);
}

std::size_t MonthFile::dropUnsaved() {
  const auto lost = std::exchange(unsavedTimes_, {});
  unsaved_.clear();
  unsavedEvents_.clear();
  std::unordered_map<std::size_t, DateTime> first;
  for (const auto& [place, time] : lost) {
    auto& head = variables_[place].head;
    const auto at = std::ranges::lower_bound(head, time, {}, &DataValue::sourceTimestamp);
    if (at != head.end() && at->sourceTimestamp == time) {
      head.erase(at);
      --headSize_;
    }
    auto& earliest = first.try_emplace(place, time).first->second;
    earliest = std::min(earliest, time);
  }
  for (const auto& [place, time] : first) append(place, DataValue(Variant(), time, status::BadDataLost));
  return lost.size();
}

/// Which heads are to become blocks now: those that fill one, those that are old, and the longest where all together
/// are too long.
std::vector<std::size_t> MonthFile::toCut() const {
  std::vector<std::size_t> out;
  std::size_t longEnough = kMostInBlock, old = 0;
  if (headSize_ > kMostInHeads) {
    const auto used = std::ranges::count_if(variables_, [](const Variable& v) { return !v.head.empty(); });
    longEnough = std::min(kMostInBlock, headSize_ / static_cast<std::size_t>(used));
  }
  // Large values are few: all of them go.
  if (headOctets_ > kMostHeadOctets) longEnough = 1;
  for (std::size_t i = 0; i < variables_.size(); ++i) {
    const auto& variable = variables_[i];
    if (variable.head.empty()) continue;
    const bool isOld = nextRow_ - variable.oldest > kOldHead && old < kMostAtOnce;
    old += isOld;
    if (isOld || variable.head.size() >= longEnough) out.push_back(i);
  }
  return out;
}

Result<void> MonthFile::flush(DateTime now) {
  const auto cutNow = toCut();
  auto transaction = Transaction::begin(database_);
  if (!transaction) return transaction.error();
  if (auto fine = save(now); !fine) return fine;
  for (const auto i : cutNow)
    if (auto fine = cut(variables_[i]); !fine) return fine;
  if (!cutNow.empty()) {
    std::int64_t oldest = rowAfter();
    for (std::size_t i = 0, at = 0; i < variables_.size(); ++i) {
      const bool isCut = at < cutNow.size() && cutNow[at] == i;
      at += isCut;
      if (!isCut && !variables_[i].head.empty()) oldest = std::min(oldest, variables_[i].oldest);
    }
    if (auto fine = sql_.dropHeads.bind(oldest).run(); !fine) return fine;
  }
  if (auto fine = transaction->commit(); !fine) return fine;
  saved(cutNow);
  watchedUntil_ = now;
  return {};
}

Result<void> MonthFile::settle() {
  std::vector<std::size_t> all;
  for (std::size_t i = 0; i < variables_.size(); ++i)
    if (!variables_[i].head.empty()) all.push_back(i);
  auto transaction = Transaction::begin(database_);
  if (!transaction) return transaction.error();
  if (auto fine = save(watchedUntil_); !fine) return fine;
  for (const auto i : all)
    if (auto fine = cut(variables_[i]); !fine) return fine;
  if (auto fine = sql_.dropHeads.bind(rowAfter()).run(); !fine) return fine;
  if (auto fine = transaction->commit(); !fine) return fine;
  saved(all);
  return {};
}

/// Names and the next row of the head, within a transaction.
Result<void> MonthFile::save(DateTime now) {
  for (const auto i : unsavedNames_)
    if (auto fine = sql_.addVariable.bind(std::string_view(variables_[i].name)).run(); !fine) return fine;
  if (!unsaved_.empty()) {
    constexpr int kLevel = 1;
    thread_local const std::unique_ptr<ZSTD_CCtx, std::size_t (*)(ZSTD_CCtx*)> context(ZSTD_createCCtx(),
                                                                                       ZSTD_freeCCtx);
    ZSTD_CCtx_setParameter(context.get(), ZSTD_c_compressionLevel, kLevel);
    ZSTD_CCtx_setParameter(context.get(), ZSTD_c_checksumFlag, 1);
    Bytes packed(ZSTD_compressBound(unsaved_.size()));
    packed.resize(ZSTD_compress2(context.get(), packed.data(), packed.size(), unsaved_.data(), unsaved_.size()));
    if (auto fine = sql_.addHead.bind(nextRow_, viewOf(packed)).run(); !fine) return fine;
  }
  for (const auto& event : unsavedEvents_)
    if (auto fine = sql_.addEvent.bind(event.time.ticks, viewOf(event.octets)).run(); !fine) return fine;
  return sql_.watched.bind(now.ticks).run();
}

/// Takes note of what a transaction has made of the file.
void MonthFile::saved(std::span<const std::size_t> cut) {
  unsavedNames_.clear();
  if (!unsaved_.empty()) ++nextRow_;
  unsaved_.clear();
  unsavedTimes_.clear();
  unsavedEvents_.clear();
  for (const auto i : cut) {
    headSize_ -= variables_[i].head.size();
    for (const auto& sample : variables_[i].head) headOctets_ -= std::min(headOctets_, footprint(sample.value));
    variables_[i].head = {};
    variables_[i].headFrom = nextRow_;
  }
  if (!cut.empty()) cache_.clear();
}

/// Puts a variable's head into blocks, within a transaction.
Result<void> MonthFile::cut(const Variable& variable) {
  auto old = blocksToJoin(variable, variable.head);
  if (!old) return old.error();
  Samples samples;
  for (const auto& block : *old) {
    if (!block.samples) continue;
    samples = merged(samples, *block.samples);
    if (auto fine = sql_.dropBlock.bind(variable.row, block.first).run(); !fine) return fine;
  }
  if (auto fine = addBlocks(variable, merged(samples, variable.head)); !fine) return fine;
  return sql_.headFrom.bind(rowAfter(), variable.row).run();
}

Result<void> MonthFile::addBlocks(const Variable& variable, std::span<const DataValue> samples) {
  constexpr std::size_t kMostOctets = 8u << 20;
  for (std::size_t at = 0; at < samples.size();) {
    std::size_t count = 0;
    for (std::size_t octets = 0; at + count < samples.size() && count < kMostInBlock && octets <= kMostOctets; ++count)
      octets += footprint(samples[at + count].value);
    const auto part = samples.subspan(at, count);
    const Bytes octets = encodeBlock(part);
    if (auto fine = sql_.addBlock
                        .bind(variable.row, part.front().sourceTimestamp.ticks, part.back().sourceTimestamp.ticks,
                              static_cast<std::int64_t>(part.size()), viewOf(octets))
                        .run();
        !fine)
      return fine;
    at += count;
  }
  return {};
}

/// The blocks that these samples lie in; where they come after all, the last ones, when too many of them are small.
Result<std::vector<MonthFile::Block>> MonthFile::blocksToJoin(const Variable& variable, const Samples& samples) {
  std::vector<Block> out;
  auto& over =
      sql_.blocksOver.bind(variable.row, samples.front().sourceTimestamp.ticks, samples.back().sourceTimestamp.ticks);
  for (;;) {
    const auto row = over.step();
    if (!row) return row.error();
    if (!*row) break;
    out.push_back({over.number(0), decoded(variable.row, over.number(0), over.octets(1))});
  }
  over.reset();
  if (!out.empty()) return out;
  auto& last = sql_.lastBlocks.bind(variable.row);
  for (;;) {
    const auto row = last.step();
    if (!row) return row.error();
    const bool isAfter = *row && last.number(1) < samples.front().sourceTimestamp.ticks;
    if (!isAfter || last.number(2) >= kSmall) break;
    out.push_back({last.number(0), decoded(variable.row, last.number(0), last.octets(3))});
  }
  last.reset();
  if (static_cast<std::int64_t>(out.size()) < kMostSmall) out.clear();
  return out;
}

/// Null when it is damaged.
std::shared_ptr<const MonthFile::Samples> MonthFile::decoded(std::int64_t variable, std::int64_t first,
                                                             BytesView octets) {
  for (auto at = cache_.begin(); at != cache_.end(); ++at)
    if (at->variable == variable && at->first == first) {
      cache_.splice(cache_.begin(), cache_, at);
      return at->samples;
    }
  auto samples = decodeBlock(octets);
  if (!samples) {
    const auto named = std::ranges::find(variables_, variable, &Variable::row);
    damaged_(fmt::format("the block of {} from {}: {}", named == variables_.end() ? "?" : named->name,
                         DateTime{first}.text(), samples.error().cause));
    return nullptr;
  }
  cache_.push_front({variable, first, std::make_shared<const Samples>(std::move(*samples))});
  if (cache_.size() > kMostCached) cache_.pop_back();
  return cache_.front().samples;
}

Result<bool> MonthFile::walk(std::size_t place, DateTime from, DateTime to, const Timeline::Visit& visit) {
  const auto& variable = variables_[place];
  const bool isBackward = to < from;
  if (from == to) to = after(to);
  // What of the head hasn't been shown yet; each block takes with it what belongs before its far end.
  std::span<const DataValue> head = variable.head;
  const auto since = [](std::span<const DataValue> samples, DateTime t) {
    return static_cast<std::size_t>(std::ranges::lower_bound(samples, t, {}, &DataValue::sourceTimestamp) -
                                    samples.begin());
  };
  auto& blocks = (isBackward ? sql_.blocksBackward : sql_.blocksForward).bind(variable.row, from.ticks, to.ticks);
  for (;;) {
    const auto row = blocks.step();
    if (!row) return row.error();
    if (!*row) break;
    const DateTime first{blocks.number(0)};
    auto samples = decoded(variable.row, first.ticks, blocks.octets(1));
    if (!samples) samples = std::make_shared<const Samples>(1, DataValue(Variant(), first, status::BadDataLost));
    std::span<const DataValue> piece = *samples;
    Samples both;
    const std::size_t split =
        isBackward ? since(head, piece.front().sourceTimestamp) : since(head, after(piece.back().sourceTimestamp));
    const auto mine = isBackward ? head.subspan(split) : head.first(split);
    head = isBackward ? head.first(split) : head.subspan(split);
    if (!mine.empty()) {
      both = merged(piece, mine);
      piece = both;
    }
    if (!walkOver(piece, from, to, visit)) {
      blocks.reset();
      return false;
    }
  }
  blocks.reset();
  return walkOver(head, from, to, visit);
}

/// Changes the samples of a range, all of which are in blocks, within a transaction.
Result<void> MonthFile::rewrite(std::size_t place, DateTime from, DateTime to,
                                const std::function<Result<void>(Samples&)>& change) {
  const auto& variable = variables_[place];
  Samples samples;
  auto& over = sql_.blocksOver.bind(variable.row, from.ticks, to.ticks);
  std::vector<std::int64_t> old;
  for (;;) {
    const auto row = over.step();
    if (!row) return row.error();
    if (!*row) break;
    const auto block = decoded(variable.row, over.number(0), over.octets(1));
    if (!block) continue;
    old.push_back(over.number(0));
    samples.insert(samples.end(), block->begin(), block->end());
  }
  over.reset();
  if (auto fine = change(samples); !fine) return fine;
  for (const auto first : old)
    if (auto fine = sql_.dropBlock.bind(variable.row, first).run(); !fine) return fine;
  // A block may have another content under the same key from now on.
  cache_.clear();
  return addBlocks(variable, samples);
}

Result<void> MonthFile::note(const Variable& variable, const Modified& change) {
  Bytes octets;
  BinaryWriter(octets).write(plain(change.sample));
  return sql_.addModified
      .bind(variable.row, change.sample.sourceTimestamp.ticks, viewOf(octets),
            static_cast<std::int64_t>(change.info.updateType), change.info.modificationTime.ticks,
            change.info.userName.view())
      .run();
}

Result<void> MonthFile::append(std::size_t place, std::span<const Modified> changes) {
  auto transaction = Transaction::begin(database_);
  if (!transaction) return transaction.error();
  auto fine = save(watchedUntil_);
  for (auto change = changes.begin(); fine && change != changes.end(); ++change)
    fine = note(variables_[place], *change);
  if (fine) fine = transaction->commit();
  if (fine) saved({});
  return fine;
}

std::set<std::string> MonthFile::names() const {
  std::set<std::string> out;
  for (const auto& variable : variables_) out.insert(variable.name);
  return out;
}

Result<std::vector<StatusCode>> MonthFile::edit(std::size_t place, const Edit& edit) {
  const auto& variable = variables_[place];
  const bool isInHead = !variable.head.empty();
  Result<std::vector<StatusCode>> outcomes = std::vector<StatusCode>{status::Good};
  auto transaction = Transaction::begin(database_);
  if (!transaction) return transaction.error();
  // What is in the head goes into blocks first, so that a start doesn't bring back what was taken away.
  if (auto fine = save(watchedUntil_); !fine) return fine.error();
  if (isInHead)
    if (auto fine = cut(variable); !fine) return fine.error();
  // What is decoded until the end is of this transaction alone, which may come to nothing.
  cache_.clear();
  const std::shared_ptr<void> forgotten(nullptr, [this](void*) { cache_.clear(); });
  const Note noted = [&](const DataValue& sample, HistoryUpdateType how) {
    ModificationInfo info;
    info.modificationTime = edit.now;
    info.updateType = how;
    info.userName = edit.user;
    return note(variable, {sample, std::move(info)});
  };
  Result<void> fine;
  if (edit.kind == Edit::Kind::DeleteModified)
    fine = sql_.dropModified.bind(variable.row, edit.from.ticks, edit.to.ticks).run();
  else if (const auto reach = reachOf(edit))
    fine = rewrite(place, reach->first, reach->second, [&](Samples& samples) -> Result<void> {
      outcomes = applyEdit(samples, edit, noted);
      if (!outcomes) return outcomes.error();
      return {};
    });
  if (fine) fine = transaction->commit();
  if (!fine) return fine.error();
  saved(std::span(&place, isInHead ? 1 : 0));
  return outcomes;
}

Result<std::vector<Modified>> MonthFile::modified(std::size_t place, DateTime from, DateTime to) {
  std::vector<Modified> out;
  auto& rows = sql_.modified.bind(variables_[place].row, from.ticks, to.ticks);
  for (;;) {
    const auto row = rows.step();
    if (!row) return row.error();
    if (!*row) break;
    Modified& one = out.emplace_back();
    BinaryReader reader(rows.octets(0));
    reader.read(one.sample);
    one.info.updateType = static_cast<HistoryUpdateType>(rows.number(1));
    one.info.modificationTime.ticks = rows.number(2);
    one.info.userName = String(rows.text(3));
  }
  rows.reset();
  return out;
}

Result<std::vector<KeptEvent>> MonthFile::events(DateTime from, DateTime to, std::size_t most, const KeptEvent* place) {
  if (!unsavedEvents_.empty())
    if (auto fine = flush(watchedUntil_); !fine) return fine.error();
  const bool isBackward = to < from;
  if (from == to) to = after(to);
  const std::int64_t time = place ? place->time.ticks : isBackward ? INT64_MAX : INT64_MIN;
  const std::int64_t number = place ? place->number : 0;
  std::vector<KeptEvent> out;
  auto& rows = (isBackward ? sql_.eventsBackward : sql_.eventsForward)
                   .bind(from.ticks, to.ticks, time, number, static_cast<std::int64_t>(most));
  for (;;) {
    const auto row = rows.step();
    if (!row) return row.error();
    if (!*row) break;
    const auto octets = rows.octets(2);
    out.push_back({{rows.number(0)}, Bytes(octets.begin(), octets.end()), rows.number(1)});
  }
  rows.reset();
  return out;
}

Result<std::int64_t> MonthFile::forget(std::size_t place, DateTime before) {
  const Variable& variable = variables_[place];
  if (variable.row == 0) return 0;
  if (auto fine = sql_.dropOldBlocks.bind(variable.row, before.ticks).run(); !fine) return fine.error();
  const std::int64_t gone = database_.changed();
  if (auto fine = sql_.dropOldModified.bind(variable.row, before.ticks).run(); !fine) return fine.error();
  if (gone > 0) cache_.remove_if([&](const Cached& block) { return block.variable == variable.row; });
  return gone;
}

Result<void> MonthFile::compact() {
  const auto unused = database_.number("PRAGMA freelist_count"), all = database_.number("PRAGMA page_count");
  if (!unused || !all) return unused ? all.error() : unused.error();
  return *unused * 4 < *all ? Result<void>() : database_.execute("VACUUM");
}

Result<bool> MonthFile::removeEvent(const KeptEvent& event) {
  if (auto fine = sql_.dropEvent.bind(event.time.ticks, event.number).run(); !fine) return fine.error();
  return database_.changed() > 0;
}

}  // namespace zunth::history
