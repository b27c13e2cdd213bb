#include "core/monitor/sampling.hpp"

#include "core/space/attributes.hpp"

#include <algorithm>

namespace zunth::monitor {

using namespace ua;
using space::NodeIndex;

bool Sampling::isPolled(const MonitoredItem& item) const {
  return item.attribute() != AttributeId::Value || space_.hasSource(item.node());
}

DataValue Sampling::read(const MonitoredItem& item) const {
  return space::readAttribute(space_, item.node(), item.attribute());
}

void Sampling::add(MonitoredItem& item, Instant now, DateTime wallClock) {
  watchers_[item.node()].push_back(&item);
  ++items_;
  if (item.attribute() == AttributeId::Value) space_.watch(item.node(), true);
  refresh(item, now, wallClock);
}

void Sampling::remove(MonitoredItem& item) {
  --items_;
  const auto found = watchers_.find(item.node());
  if (found == watchers_.end()) return;
  std::erase(found->second, &item);
  if (item.attribute() == AttributeId::Value && space_.exists(item.node())) space_.watch(item.node(), false);
  if (found->second.empty()) watchers_.erase(found);
}

void Sampling::nodeRemoved(NodeIndex node, DateTime wallClock) {
  auto watched = watchers_.extract(node);
  if (!watched) return;
  for (MonitoredItem* item : watched.mapped())
    if (item->end(status::BadNodeIdUnknown, wallClock)) item->owner().itemQueued(*item);
}

void Sampling::end(MonitoredItem& item, StatusCode why, DateTime wallClock) {
  if (item.node() == space::kNoNode) return;
  remove(item);
  ++items_;  // it still counts until it is deleted
  if (item.end(why, wallClock)) item.owner().itemQueued(item);
}

void Sampling::refresh(MonitoredItem& item, Instant now, DateTime wallClock) {
  if (item.mode() == MonitoringMode::Disabled || item.node() == space::kNoNode) return;
  take(item, read(item), now, wallClock);
  if (isPolled(item)) postpone(item, item.dueAt);
}

void Sampling::take(MonitoredItem& item, const DataValue& value, Instant now, DateTime wallClock) {
  double interval = item.settings().samplingInterval;
  if (interval <= 0 && isPolled(item)) interval = kPollInterval;
  // Keep the item's own beat, so that samples don't drift; after a pause start a new one.
  const Duration step = milliseconds(interval);
  item.dueAt = item.dueAt + step > now ? item.dueAt + step : now + step;
  if (item.sample(value, wallClock)) item.owner().itemQueued(item);
}

void Sampling::postpone(MonitoredItem& item, Instant due) {
  if (item.isPending) return;
  item.isPending = true;
  pending_.push({due, item.node(), item.id()});
}

void Sampling::valueChanged(NodeIndex node, const DataValue& value, Instant now, DateTime wallClock) {
  const auto found = watchers_.find(node);
  if (found == watchers_.end()) return;
  for (MonitoredItem* item : found->second) {
    if (item->attribute() != AttributeId::Value || item->mode() == MonitoringMode::Disabled) continue;
    if (now >= item->dueAt && !item->isPending)
      take(*item, value, now, wallClock);
    else
      postpone(*item, item->dueAt);
  }
}

void Sampling::tick(Instant now, DateTime wallClock) {
  while (!pending_.empty() && pending_.top().due <= now) {
    const Pending next = pending_.top();
    pending_.pop();
    // The item may have gone since.
    const auto found = watchers_.find(next.node);
    if (found == watchers_.end()) continue;
    const auto at = std::ranges::find(found->second, next.itemId, &MonitoredItem::id);
    if (at == found->second.end()) continue;
    MonitoredItem& item = **at;
    item.isPending = false;
    if (item.mode() == MonitoringMode::Disabled) continue;
    take(item, read(item), now, wallClock);
    if (isPolled(item)) postpone(item, item.dueAt);
  }
}

}  // namespace zunth::monitor
