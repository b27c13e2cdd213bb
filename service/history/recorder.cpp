#include "service/history/recorder.hpp"

#include "core/history/variables.hpp"

#include <algorithm>
#include <unordered_set>

namespace zunth::history {

using namespace ua;
using space::NodeIndex;

namespace {

/// Where both times are as close as this, they are kept as one: 100 ms.
constexpr std::int64_t kSameTime = 1'000'000;

}  // namespace

Recorder::Recorder(space::Space& space, Archive& archive, std::function<DateTime()> wallClock, bool followsGap)
    : space_(space),
      archive_(archive),
      wallClock_(std::move(wallClock)),
      tap_(space.tap([this](std::span<const space::Change> changes) { took(changes); })),
      followsGap_(followsGap) {}

Recorder::~Recorder() {
  for (auto& [node, kept] : kept_) {
    unwatch(node);
    if (auto held = kept.keeper.finish()) batch_.push_back({kept.variable, std::move(*held)});
  }
  archive_.append(std::exchange(batch_, {}));
  space_.untap(tap_);
}

/// Its row may have been given to another node since.
void Recorder::unwatch(NodeIndex node) {
  if (space_.exists(node) && space_.nodeClass(node) == NodeClass::Variable) space_.watch(node, tap_, false);
}

void Recorder::endAll() {
  for (auto& [node, kept] : kept_) {
    unwatch(node);
    end(kept);
  }
  kept_.clear();
  archive_.append(std::exchange(batch_, {}));
}

void Recorder::bind(const std::vector<Choice>& choices) {
  const auto ruleOf = [&](NodeIndex node) {
    if (choices.empty()) return Rule();
    const std::string path = space_.path(node);
    const auto found = std::ranges::find_if(choices, [&](const Choice& c) { return matchesPath(c.pattern, path); });
    return found == choices.end() ? Rule() : found->rule;
  };
  std::unordered_set<NodeIndex> wanted;
  std::vector<VariableId> added;
  for (NodeIndex node = 0; node < space_.rows(); ++node) {
    if (!isHistorized(space_, node)) continue;
    wanted.insert(node);
    const Rule rule = ruleOf(node);
    if (const auto known = kept_.find(node); known != kept_.end()) {
      if (known->second.nodeId == space_.nodeId(node)) {
        if (known->second.keeper.rule() == rule) continue;
        if (auto held = known->second.keeper.finish()) batch_.push_back({known->second.variable, std::move(*held)});
        known->second.keeper = Keeper(rule);
        continue;
      }
      // Its row has been given to another.
      end(known->second);
      kept_.erase(known);
    }
    begin(node, rule);
    if (followsGap_) added.push_back(kept_.at(node).variable);
  }
  for (auto at = kept_.begin(); at != kept_.end();) {
    if (wanted.contains(at->first)) {
      ++at;
      continue;
    }
    unwatch(at->first);
    end(at->second);
    at = kept_.erase(at);
  }
  polled_.clear();
  for (const auto& [node, kept] : kept_)
    if (space_.hasSource(node)) polled_.push_back(node);
  if (followsGap_ && !archive_.watchedBefore().isNull()) markGap(std::move(added));
  followsGap_ = false;
  archive_.append(std::exchange(batch_, {}));
}

void Recorder::begin(NodeIndex node, const Rule& rule) {
  const auto variable = archive_.variable(storedName(space_, space_.nodeId(node)));
  auto& kept = kept_.emplace(node, Kept{space_.nodeId(node), variable, Keeper(rule)}).first->second;
  space_.watch(node, tap_, true);
  // What it is now holds from now on, whenever it came to be.
  DataValue now = space_.value(node);
  if (now.value.isNull() && now.status.isGood()) return;
  now.sourceTimestamp = wallClock_();
  add(kept, std::move(now));
}

/// Nothing is known of it from now on.
void Recorder::end(Kept& kept) {
  if (auto held = kept.keeper.finish()) batch_.push_back({kept.variable, std::move(*held)});
  batch_.push_back({kept.variable, DataValue(Variant(), wallClock_(), status::BadDataLost)});
}

void Recorder::add(Kept& kept, DataValue value) {
  const DateTime now = wallClock_();
  value.sourceTimestamp = plausibleTime(value.sourceTimestamp, now);
  const std::int64_t apart = now.ticks - value.sourceTimestamp.ticks;
  value.serverTimestamp =
      std::abs(apart) <= kSameTime ? value.sourceTimestamp : DateTime{now.ticks - now.ticks % kSameTime};
  kept.keeper.take(value, [&](const DataValue& sample) { batch_.push_back({kept.variable, sample}); });
}

void Recorder::take(NodeIndex variable, DataValue past) {
  const auto kept = kept_.find(variable);
  if (kept == kept_.end()) return;
  past.sourceTimestamp = plausibleTime(past.sourceTimestamp, wallClock_());
  archive_.append({{kept->second.variable, std::move(past)}});
}

void Recorder::took(std::span<const space::Change> changes) {
  for (const auto& change : changes)
    if (const auto known = kept_.find(change.variable); known != kept_.end()) add(known->second, change.value);
  archive_.append(std::exchange(batch_, {}));
}

void Recorder::tick() {
  for (const auto node : polled_)
    if (const auto known = kept_.find(node); known != kept_.end() && space_.exists(node)) {
      DataValue value = space_.value(node);
      value.sourceTimestamp = {};
      add(known->second, std::move(value));
    }
  archive_.append(std::exchange(batch_, {}));
}

/// From when the last run ended on, what was there before is not known to go on. Some at a time, as each has to be
/// looked at.
void Recorder::markGap(std::vector<VariableId> variables) {
  constexpr std::size_t kAtOnce = 500;
  const DateTime end = archive_.watchedBefore();
  for (std::size_t at = 0; at < variables.size(); at += kAtOnce) {
    std::vector<VariableId> some(
        variables.begin() + static_cast<std::ptrdiff_t>(at),
        variables.begin() + static_cast<std::ptrdiff_t>(std::min(at + kAtOnce, variables.size())));
    archive_.perform([some = std::move(some), end](Store& store) -> std::function<void()> {
      std::vector<Record> lost;
      for (const auto variable : some) {
        std::optional<DataValue> last;
        const auto fine = store.timeline(variable)->walk(end, kBeginning, [&](std::span<const DataValue> samples) {
          last = samples.front();
          return false;
        });
        if (fine && last && last->status != status::BadDataLost)
          lost.push_back({variable, DataValue(Variant(), after(end), status::BadDataLost)});
      }
      store.append(lost);
      return {};
    });
  }
}

}  // namespace zunth::history
