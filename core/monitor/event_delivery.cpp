#include "core/monitor/event_delivery.hpp"

#include <algorithm>

namespace zunth::monitor {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

void EventDelivery::remove(MonitoredItem& item) {
  const auto found = watchers_.find(item.node());
  if (found == watchers_.end()) return;
  std::erase(found->second, &item);
  if (found->second.empty()) watchers_.erase(found);
}

/// The nodes at which an event of this source is heard, each once.
std::vector<NodeIndex> EventDelivery::notifiersOf(NodeIndex source) const {
  std::vector<NodeIndex> out{space_.at(id::Server)};
  auto reach = [&out](NodeIndex node) {
    if (node != kNoNode && std::ranges::find(out, node) == out.end()) out.push_back(node);
  };
  reach(source);
  for (std::size_t i = 1; i < out.size(); ++i) {
    const auto references = space_.references(out[i]);
    for (const auto& reference : references)
      if (!reference.isForward() && space_.isSubtype(reference.type(), id::HasEventSource)) reach(reference.target());
  }
  return out;
}

void EventDelivery::raiseTo(Subscription& subscription, std::optional<std::uint32_t> onlyItem, const Event& event,
                            bool isForAll) {
  const auto notifiers = notifiersOf(event.node());
  for (const auto& [id, item] : subscription.items()) {
    if (!item->takesEvents() || item->mode() == MonitoringMode::Disabled || (onlyItem && *onlyItem != id)) continue;
    if (!isForAll && (std::ranges::find(notifiers, item->node()) == notifiers.end() ||
                      !item->settings().events->wants(space_, event)))
      continue;
    bring(*item, event);
  }
}

void EventDelivery::bring(MonitoredItem& item, const Event& event) const {
  item.event(item.settings().events->select(space_, event));
  item.owner().itemQueued(item);
}

void EventDelivery::raise(const Event& event) {
  if (watchers_.empty()) return;
  for (const NodeIndex notifier : notifiersOf(event.node())) {
    const auto found = watchers_.find(notifier);
    if (found == watchers_.end()) continue;
    for (MonitoredItem* item : found->second) {
      if (item->mode() == MonitoringMode::Disabled || !item->settings().events->wants(space_, event)) continue;
      bring(*item, event);
    }
  }
}

}  // namespace zunth::monitor
