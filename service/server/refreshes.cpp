#include "service/server/refreshes.hpp"

#include <algorithm>

namespace zunth::server {

using namespace ua;

namespace {

constexpr std::uint16_t kQuiet = 100;  // severity
constexpr auto kBeat = std::chrono::milliseconds(20);

}  // namespace

Result<void> Refreshes::begin(monitor::Subscription& subscription, std::optional<std::uint32_t> onlyItem) {
  if (std::ranges::find(refreshes_, subscription.id(), &One::subscription) != refreshes_.end())
    return Error{status::BadRefreshInProgress, "the conditions are being told already", {}};
  const auto conditions = std::make_shared<const std::vector<space::NodeIndex>>(core_.alarms.retained());
  for (const auto& [id, item] : subscription.items())
    if (item->takesEvents() && (!onlyItem || *onlyItem == id))
      refreshes_.push_back({subscription.id(), id, conditions});
  // What fits comes at once.
  due_ = Instant::min();
  tick(core_.turns.slice());
  return {};
}

/// Null when it has gone meanwhile; it may have another session now, or none.
monitor::MonitoredItem* Refreshes::itemOf(const One& one) const {
  const auto owner = core_.subscriptionOwners.find(one.subscription);
  if (owner == core_.subscriptionOwners.end()) return nullptr;
  monitor::Subscription* subscription = nullptr;
  if (owner->second) {
    if (const auto found = owner->second->subscriptions.find(one.subscription);
        found != owner->second->subscriptions.end())
      subscription = found->second.get();
  } else if (const auto orphan = core_.orphans.find(one.subscription); orphan != core_.orphans.end()) {
    subscription = orphan->second->subscription.get();
  }
  return subscription ? subscription->item(one.item) : nullptr;
}

void Refreshes::tick(Slice& slice) {
  if (refreshes_.empty() || clock_.now() < due_) return;
  due_ = clock_.now() + kBeat;
  std::erase_if(refreshes_, [&](One& one) {
    if (slice.lookAgain()) return false;
    auto* item = itemOf(one);
    return !item || !item->takesEvents() || item->mode() == MonitoringMode::Disabled || goOn(one, *item, slice);
  });
  if (slice.lookAgain()) due_ = Instant::min();
}

bool Refreshes::goOn(One& one, monitor::MonitoredItem& item, Slice& slice) {
  // Between both marks a client takes what it hears for how things stand, and not for news.
  if (!one.hasBegun) {
    if (!item.hasRoomForEvent()) return false;
    core_.events.tell(item, announcer_.make(id::RefreshStartEventType, kQuiet, "the conditions follow as they stand"),
                      true);
    one.hasBegun = true;
  }
  while (one.next < one.conditions->size()) {
    const auto told = core_.alarms.standing((*one.conditions)[one.next]);
    while (one.branch < told.size()) {
      if (!item.hasRoomForEvent()) return false;
      core_.events.tell(item, told[one.branch++], false);
    }
    ++one.next;
    one.branch = 0;
    if (slice.isOver()) return false;
  }
  if (!item.hasRoomForEvent()) return false;
  core_.events.tell(item, announcer_.make(id::RefreshEndEventType, kQuiet, "these are the conditions"), true);
  return true;
}

}  // namespace zunth::server
