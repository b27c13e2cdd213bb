#include "core/monitor/event_delivery.hpp"

#include "core/space/node_set.hpp"

#include <algorithm>

namespace zunth::monitor {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

void EventDelivery::add(MonitoredItem& item) {
  auto& watchers = watchers_[item.node()];
  item.watchSlot = watchers.size();
  item.heardUpTo = lastNumber_;
  watchers.push_back(&item);
}

void EventDelivery::remove(MonitoredItem& item) {
  const auto found = watchers_.find(item.node());
  if (item.node() == kNoNode || found == watchers_.end()) return;
  auto& watchers = found->second;
  if (item.watchSlot >= watchers.size() || watchers[item.watchSlot] != &item) return;  // deaf already
  // The last one takes its place.
  watchers[item.watchSlot] = watchers.back();
  watchers[item.watchSlot]->watchSlot = item.watchSlot;
  watchers.pop_back();
  if (watchers.empty()) watchers_.erase(found);
}

void EventDelivery::nodeRemoved(NodeIndex node) {
  auto gone = watchers_.extract(node);
  if (!gone) return;
  // The row may be given to another node, which they never asked for.
  for (MonitoredItem* item : gone.mapped()) item->end(status::BadNodeIdUnknown, {});
}

std::vector<NodeIndex> EventDelivery::notifiersOf(NodeIndex source) const {
  space::NodeSet out;
  out.add(space_.at(id::Server));
  if (source != kNoNode) out.add(source);
  for (std::size_t i = 1; i < out.size(); ++i)
    for (const auto& reference : space_.references(out[i]))
      if (!reference.isForward() && space_.isSubtype(reference.type(), id::HasEventSource)) out.add(reference.target());
  return {out.begin(), out.end()};
}

bool EventDelivery::hears(const MonitoredItem& item, const Event& event) const {
  const auto* rights = item.sink().listener();
  if (!rights) return true;
  return space_.check(*rights, event.node(), PermissionType::ReceiveEvents).isGood() &&
         space_.check(*rights, event.type(), PermissionType::ReceiveEvents).isGood();
}

void EventDelivery::tell(MonitoredItem& item, const Event& event, bool isForAll) {
  if (!isForAll) {
    const auto notifiers = notifiersOf(event.node());
    if (std::ranges::find(notifiers, item.node()) != notifiers.end() && hears(item, event)) offer(item, event);
    return;
  }
  bring(item, event);
}

void EventDelivery::offer(MonitoredItem& item, const Event& event) const {
  const auto& selector = *item.settings().events;
  const bool isWanted = selector.wants(space_, event);
  if (!selector.isFilter() || !space_.isSubtype(event.type(), id::ConditionType)) {
    if (isWanted) bring(item, event);
    return;
  }
  switch (item.retained.judge(event, isWanted)) {
    case FilteredRetain::Outcome::Nothing: return;
    case FilteredRetain::Outcome::Bring: return bring(item, event);
    case FilteredRetain::Outcome::Unknown: item.requireRefresh(); return item.sink().itemQueued(item);
    case FilteredRetain::Outcome::BringLastWord: {
      Event lastWord = event;
      lastWord.set("Retain", Variant(false));
      return bring(item, lastWord);
    }
  }
}

void EventDelivery::bring(MonitoredItem& item, const Event& event) const {
  item.event(item.settings().events->select(space_, event), space_.isSubtype(event.type(), id::ConditionType));
  item.sink().itemQueued(item);
}

bool EventDelivery::bringToAll(const Waiting& waiting, Slice& slice) {
  for (const NodeIndex notifier : notifiersOf(waiting.event.node())) {
    const auto found = watchers_.find(notifier);
    if (found == watchers_.end()) continue;
    for (MonitoredItem* item : found->second) {
      if (item->heardUpTo >= waiting.number) continue;
      item->heardUpTo = waiting.number;
      if (item->mode() == MonitoringMode::Disabled || !hears(*item, waiting.event)) continue;
      offer(*item, waiting.event);
      if (slice.lookAgain()) return false;
    }
  }
  return true;
}

void EventDelivery::raise(Event event) {
  if (keep_) keep_(event);
  if (watchers_.empty()) return;
  waiting_.push_back({++lastNumber_, std::move(event)});
  tick();
  Slice endless;
  while (waiting_.size() > kMostWaiting) {
    bringToAll(waiting_.front(), endless);
    waiting_.pop_front();
  }
}

void EventDelivery::tick() {
  while (!waiting_.empty() && bringToAll(waiting_.front(), slice_)) waiting_.pop_front();
}

}  // namespace zunth::monitor
