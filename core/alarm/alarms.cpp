#include "core/alarm/alarms.hpp"

#include "core/alarm/methods.hpp"

#include <algorithm>

namespace zunth::alarm {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

Alarms::Alarms(space::Space& space, Surroundings surroundings)
    : space_(space),
      surroundings_(std::move(surroundings)),
      tap_(space.tap([this](auto changes) { arrived(changes); })),
      metrics_(surroundings_.wallClock),
      raise_([this](monitor::Event event) {
        hasTold_ = true;
        surroundings_.raise(std::move(event));
      }),
      moved_([this](Alarm& alarm) {
        if (groups_.moved(alarm.node(), alarm.state().active.is)) alarm.setFirstInGroup(true);
        const auto suppressed = groups_.suppressedBy(alarm.node());
        toSuppress_.insert(toSuppress_.end(), suppressed.begin(), suppressed.end());
      }) {}

Alarms::~Alarms() {
  detach();
  metrics_.detach(space_);
  space_.untap(tap_);
}

void Alarms::detach() {
  for (const auto& [variable, watchers] : watchers_)
    if (space_.exists(variable)) space_.watch(variable, tap_, false);
  for (const auto& [node, alarm] : alarms_) {
    if (!alarm) continue;
    due_.remove(*alarm);
    if (!space_.exists(node)) continue;
    // Who is gone can't be asked how long it has still to lie there.
    if (const NodeIndex counts = alarm->unshelveTimeNode(); counts != kNoNode)
      space_.setSource(counts, [] { return DataValue(Variant(0.0)); });
  }
  alarms_.clear();
  watchers_.clear();
  waiting_.clear();
}

void Alarms::restore(std::function<std::optional<KeptState>(const NodeId&)> kept) {
  kept_ = std::move(kept);
  detach();
  changed_.clear();
  gone_.clear();
  bind();
}

void Alarms::changed(NodeIndex alarm) {
  const bool isFirst = changed_.empty() && gone_.empty();
  changed_.insert(alarm);
  if (isFirst && toldChanged_) toldChanged_();
}

const Alarm* Alarms::find(NodeIndex node) const {
  const auto found = alarms_.find(node);
  return found == alarms_.end() ? nullptr : found->second.get();
}

Moment Alarms::moment() const {
  return {surroundings_.now(), surroundings_.wallClock(), surroundings_.newEventId, raise_, moved_};
}

/// Lets something happen to an alarm, and sees to what follows from it.
template <class Do>
auto Alarms::with(Alarm& alarm, Do&& act) {
  hasTold_ = false;
  auto outcome = act(moment());
  if (hasTold_) {
    changed(alarm.node());
    metrics_.look(alarm);
  }
  if (const Instant due = alarm.due(); due != Instant::max())
    due_.put(alarm, due);
  else
    due_.remove(alarm);
  return outcome;
}

void Alarms::bind() {
  std::unordered_map<NodeId, std::unique_ptr<Alarm>> before;
  for (auto& [node, alarm] : alarms_) {
    due_.remove(*alarm);
    if (space_.exists(node)) before.emplace(space_.nodeId(node), std::move(alarm));
  }
  detach();
  std::vector<Groups::One> members;
  std::vector<Alarm*> all;
  for (NodeIndex node = 0; node < space_.rows(); ++node) {
    if (!space_.exists(node) || !space::isCondition(space_, node) || space::isInType(space_, node)) continue;
    auto alarm = Alarm::from(space_, node, layouts_);
    if (!alarm) continue;
    const NodeId& id = space_.nodeId(node);
    if (const auto known = before.find(id); known != before.end() && known->second->judges() && !alarm->judges())
      known->second->leave(moment());  // what it watched is gone
    else if (known != before.end())
      alarm->takeOver(*known->second);
    else if (const bool wasToldGone = aside_.contains(id); auto kept = keptOf(id))
      with(*alarm, [&](const Moment& moment) {
        alarm->restore(std::move(kept->trunk), std::move(kept->branches), wasToldGone, moment);
        return true;
      });
    for (const NodeIndex variable : alarm->inputs()) {
      auto& watchers = watchers_[variable];
      if (watchers.empty()) space_.watch(variable, tap_, true);
      if (std::ranges::find(watchers, alarm.get()) == watchers.end()) watchers.push_back(alarm.get());
    }
    if (const NodeIndex counts = alarm->unshelveTimeNode(); counts != kNoNode)
      space_.setSource(counts, [this, node] {
        const Alarm* shelved = find(node);
        return shelved ? shelved->unshelveTime(surroundings_.wallClock()) : DataValue(status::BadOutOfService);
      });
    members.push_back({node, alarm->state().active.is});
    all.push_back(alarm.get());
    alarms_.emplace(node, std::move(alarm));
  }
  groups_.bind(space_, members);
  metrics_.bind(space_, std::vector<const Alarm*>(all.begin(), all.end()));
  for (Alarm* alarm : all) {
    with(*alarm, [&](const Moment& moment) {
      alarm->begin(moment);
      alarm->suppressFor(kByGroup, groups_.isSuppressed(alarm->node()), moment);
      return true;
    });
  }
  aside_.clear();
  afterwards();
}

std::optional<KeptState> Alarms::keptOf(const NodeId& alarm) {
  if (auto aside = aside_.extract(alarm)) return std::move(aside.mapped());
  return kept_ ? kept_(alarm) : std::nullopt;
}

void Alarms::arrived(std::span<const space::Change> changes) {
  for (const auto& change : changes) {
    const auto found = watchers_.find(change.variable);
    if (found == watchers_.end()) continue;
    for (Alarm* alarm : found->second) waiting_.push_back({alarm->node(), change.variable, change.value});
  }
  while (waiting_.size() > kMostWaiting || mayBring()) bringOne();
}

bool Alarms::mayBring() { return !waiting_.empty() && !slice_.lookAgain() && !surroundings_.isBusy(); }

void Alarms::bringOne() {
  const Waiting one = std::move(waiting_.front());
  waiting_.pop_front();
  const auto found = alarms_.find(one.alarm);
  if (found == alarms_.end()) return;
  with(*found->second, [&](const Moment& moment) {
    found->second->take(one.variable, one.value, moment);
    return true;
  });
  afterwards();
}

/// What has come or gone suppresses others, or no longer does.
void Alarms::afterwards() {
  for (const NodeIndex node : std::exchange(toSuppress_, {}))
    if (const auto found = alarms_.find(node); found != alarms_.end())
      with(*found->second, [&](const Moment& moment) {
        found->second->suppressFor(kByGroup, groups_.isSuppressed(node), moment);
        return true;
      });
}

void Alarms::drop(NodeIndex node, bool isRemoved) {
  const auto found = alarms_.find(node);
  if (found == alarms_.end()) return;
  Alarm& alarm = *found->second;
  if (!isRemoved) aside_.insert_or_assign(space_.nodeId(node), KeptState{alarm.state(), alarm.branches()});
  with(alarm, [&](const Moment& moment) {
    alarm.leave(moment);
    return true;
  });
  for (const NodeIndex variable : alarm.inputs()) {
    const auto watched = watchers_.find(variable);
    if (watched == watchers_.end()) continue;
    std::erase(watched->second, &alarm);
    if (!watched->second.empty()) continue;
    watchers_.erase(watched);
    if (space_.exists(variable)) space_.watch(variable, tap_, false);
  }
  due_.remove(alarm);
  groups_.remove(node);
  metrics_.remove(node);
  changed(node);
  changed_.erase(node);
  // For whoever keeps them; nobody else takes them from here.
  if (toldChanged_) gone_.push_back(space_.nodeId(node));
  alarms_.erase(found);
}

void Alarms::nodeRemoved(NodeIndex node) {
  // A part of an alarm, too: it can't show any longer how it stands.
  for (NodeIndex at = node, depth = 0; at != kNoNode && depth < 5; at = space_.parent(at), ++depth)
    drop(at, at == node);
  if (metrics_.knows(node)) metrics_.remove(node);
  const auto found = watchers_.find(node);
  if (found == watchers_.end()) return;
  for (Alarm* alarm : std::vector(found->second)) drop(alarm->node(), false);
}

void Alarms::tick() {
  while (mayBring()) bringOne();
  const Instant now = surroundings_.now();
  while (Alarm* due = due_.take(now)) {
    with(*due, [&](const Moment& moment) {
      due->tick(moment);
      return true;
    });
    afterwards();
    if (slice_.lookAgain()) break;
  }
}

std::optional<Answer> Alarms::call(NodeIndex method, const std::vector<Variant>& inputs, const String& user) {
  if (space_.browseName(method).namespaceIndex != 0) return std::nullopt;
  // The methods of shelving stand in a machine of their own.
  NodeIndex owner = space_.parent(method);
  if (owner != kNoNode && !alarms_.contains(owner) && space_.name(owner) == "ShelvingState")
    owner = space_.parent(owner);
  if (metrics_.knows(owner) && space_.name(method) == "Reset") {
    metrics_.reset(owner);
    return Answer{};
  }
  const auto found = alarms_.find(owner);
  if (found == alarms_.end()) return std::nullopt;
  if (space_.name(method) == "GetGroupMemberships") {
    std::vector<NodeId> groups;
    for (const NodeIndex group : groups_.of(owner)) groups.push_back(space_.nodeId(group));
    return Answer{{}, {}, {Variant::array(groups)}};
  }
  const auto* known = methodNamed(space_.name(method));
  if (!known) return std::nullopt;
  // Comments are kept, and repeated with each event.
  constexpr std::size_t kMostComment = 4'096;
  for (const auto& input : inputs)
    if (const auto* text = input.get<LocalizedText>(); text && text->text.size() + text->locale.size() > kMostComment)
      return Answer{status::BadInvalidArgument, "a comment has 4,096 octets at most", {}};
  Alarm& alarm = *found->second;
  auto answer = with(alarm, [&](const Moment& moment) { return known->carryOut(alarm, inputs, {user, {}}, moment); });
  afterwards();
  return answer;
}

void Alarms::set(NodeIndex node, bool active, std::uint16_t severity, const std::string& why) {
  const auto found = alarms_.find(node);
  if (found == alarms_.end()) return;
  with(*found->second, [&](const Moment& moment) {
    found->second->set(active, severity, why, moment);
    return true;
  });
  afterwards();
}

std::vector<NodeIndex> Alarms::retained() const {
  std::vector<const Alarm*> found;
  for (const auto& [node, alarm] : alarms_)
    if (alarm->state().retain || !alarm->branches().empty()) found.push_back(alarm.get());
  std::ranges::sort(found, [](const Alarm* a, const Alarm* b) {
    const auto& one = a->state();
    const auto& other = b->state();
    if (one.severity != other.severity) return one.severity > other.severity;
    return std::pair(one.time, a->node()) < std::pair(other.time, b->node());
  });
  std::vector<NodeIndex> out;
  out.reserve(found.size());
  for (const Alarm* alarm : found) out.push_back(alarm->node());
  return out;
}

std::vector<monitor::Event> Alarms::standing(NodeIndex node) const {
  std::vector<monitor::Event> out;
  const auto* alarm = find(node);
  if (!alarm) return out;
  const DateTime now = surroundings_.wallClock();
  for (const auto& branch : alarm->branches())
    if (branch.isOfInterest()) out.push_back(alarm->event(branch, now));
  if (alarm->state().retain) out.push_back(alarm->event(alarm->state(), now));
  return out;
}

std::vector<Alarms::Changed> Alarms::takeChanged(std::size_t most) {
  std::vector<Changed> out;
  for (const auto& id : std::exchange(gone_, {})) out.push_back({id, {}});
  while (!changed_.empty() && out.size() < most)
    if (const auto* alarm = find(changed_.extract(changed_.begin()).value()))
      out.push_back({space_.nodeId(alarm->node()), encodeState(alarm->state(), alarm->branches())});
  return out;
}

}  // namespace zunth::alarm
