#include "core/history/moving.hpp"

#include <set>

namespace zunth::history {

using namespace ua;

namespace {

constexpr std::size_t kPerMove = 20'000;

Result<void> moveSamples(Store& from, Store& to, const std::string& name, DateTime now, Moved& moved,
                         const std::function<void(const Moved&)>& tell) {
  const auto source = from.variable(name), target = to.variable(name);
  DateTime next = kBeginning;
  for (;;) {
    std::vector<Record> records;
    auto fine = from.timeline(source)->walk(next, kEnd, [&](std::span<const DataValue> some) {
      for (const auto& sample : some) records.push_back({target, sample});
      return records.size() < kPerMove;
    });
    if (!fine || records.empty()) return fine;
    next = after(records.back().sample.sourceTimestamp);
    to.append(records);
    fine = to.flush(now);
    if (!fine) return fine;
    moved.samples += records.size();
    tell(moved);
  }
}

Result<void> moveChanges(Store& from, Store& to, const std::string& name, Moved& moved) {
  const auto source = from.variable(name), target = to.variable(name);
  auto changes = from.modified(source, kBeginning, kEnd);
  if (!changes) return changes.error();
  const auto known = to.modified(target, kBeginning, kEnd);
  if (!known) return known.error();
  const auto isKnown = [&](const Modified& change) {
    return std::ranges::any_of(*known, [&](const Modified& other) {
      return other.sample.sourceTimestamp == change.sample.sourceTimestamp &&
             other.info.updateType == change.info.updateType && other.info.userName == change.info.userName &&
             // One of them may know it to the microsecond alone.
             std::abs(other.info.modificationTime.ticks - change.info.modificationTime.ticks) < 10;
    });
  };
  std::erase_if(*changes, isKnown);
  moved.changes += changes->size();
  return changes->empty() ? Result<void>() : to.append(target, *changes);
}

Result<void> moveEvents(Store& from, Store& to, DateTime now, Moved& moved,
                        const std::function<void(const Moved&)>& tell) {
  std::optional<KeptEvent> last;
  for (;;) {
    auto some = from.events(kBeginning, kEnd, kPerMove, last ? &*last : nullptr);
    if (!some) return some.error();
    if (some->empty()) return {};
    last = some->back();
    auto known = to.events(some->front().time, after(some->back().time), SIZE_MAX / 2, nullptr);
    if (!known) return known.error();
    std::set<Bytes> octets;
    for (auto& event : *known) octets.insert(std::move(event.octets));
    std::erase_if(*some, [&](const KeptEvent& event) { return octets.contains(event.octets); });
    moved.events += some->size();
    to.append(std::move(*some));
    if (auto fine = to.flush(now); !fine) return fine;
    tell(moved);
  }
}

}  // namespace

Result<Moved> moveHistory(Store& from, Store& to, DateTime now, const std::function<void(const Moved&)>& tell) {
  Moved moved;
  const auto names = from.names();
  if (!names) return names.error();
  for (const auto& name : *names) {
    if (auto fine = moveSamples(from, to, name, now, moved, tell); !fine) return fine.error();
    if (auto fine = moveChanges(from, to, name, moved); !fine) return fine.error();
    ++moved.variables;
  }
  if (auto fine = moveEvents(from, to, now, moved, tell); !fine) return fine.error();
  return moved;
}

}  // namespace zunth::history
