#include "core/monitor/sampling.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/footprint.hpp"

#include <algorithm>

namespace zunth::monitor {

using namespace ua;
using space::NodeIndex;

namespace {

/// How many octets of large values are looked at in one go, whoever watches them.
constexpr std::size_t kAtOnce = 1u << 20;

/// How long an item waits whose subscription holds all that it may.
constexpr Duration kUntilThereIsRoom = std::chrono::seconds(1);

/// What it takes to compare a value, to cut a part out of it and to keep it, in octets; nothing for small ones.
std::size_t laborOf(const Variant& value) {
  constexpr std::size_t kSmall = 256;
  if (!value.isArray() && isNumeric(value.type())) return 0;
  const std::size_t octets = footprint(value, kAtOnce);
  return octets > kSmall ? octets : 0;
}

}  // namespace

bool Sampling::isPolled(NodeIndex node, AttributeId attribute) const {
  return attribute != AttributeId::Value || space_.hasSource(node);
}

DataValue Sampling::read(const MonitoredItem& item) const {
  return space::readAttribute(space_, item.node(), item.attribute());
}

void Sampling::add(MonitoredItem& item, Instant now, DateTime wallClock) {
  auto& watched = watchers_[item.node()];
  item.watchSlot = watched.items.size();
  watched.items.push_back(&item);
  ++items_;
  if (item.attribute() == AttributeId::Value && watched.ofValue++ == 0) space_.watch(item.node(), tap_, true);
  refresh(item, now, wallClock);
}

void Sampling::remove(MonitoredItem& item) {
  --items_;
  unhook(item);
}

void Sampling::unhook(MonitoredItem& item) {
  pending_.remove(item);
  const auto found = watchers_.find(item.node());
  if (item.node() == space::kNoNode || found == watchers_.end()) return;
  auto& [watchers, ofValue] = found->second;
  // The last one takes its place.
  watchers[item.watchSlot] = watchers.back();
  watchers[item.watchSlot]->watchSlot = item.watchSlot;
  watchers.pop_back();
  if (item.attribute() == AttributeId::Value && --ofValue == 0 && space_.exists(item.node()))
    space_.watch(item.node(), tap_, false);
  if (watchers.empty()) watchers_.erase(found);
}

void Sampling::nodeRemoved(NodeIndex node, DateTime wallClock) {
  auto watched = watchers_.extract(node);
  if (!watched) return;
  for (MonitoredItem* item : watched.mapped().items) {
    pending_.remove(*item);
    if (item->end(status::BadNodeIdUnknown, wallClock)) item->sink().itemQueued(*item);
  }
}

void Sampling::end(MonitoredItem& item, StatusCode why, DateTime wallClock) {
  if (item.node() == space::kNoNode) return;
  unhook(item);  // it still counts until it is deleted
  if (item.end(why, wallClock)) item.sink().itemQueued(item);
}

void Sampling::refresh(MonitoredItem& item, Instant now, DateTime wallClock) {
  if (item.mode() == MonitoringMode::Disabled || item.node() == space::kNoNode) return;
  item.nextSampleAt = now;
  take(item, read(item), now, wallClock);
}

/// An aggregate takes every change; its beat is that of its intervals.
void Sampling::takeAggregate(MonitoredItem& item, const DataValue& value, Instant now, DateTime wallClock) {
  if (item.sample(value, wallClock)) item.sink().itemQueued(item);
  waitForInterval(item, now, wallClock);
}

void Sampling::waitForInterval(MonitoredItem& item, Instant now, DateTime wallClock) {
  constexpr double kTicksPerMs = 10'000;
  double ms = static_cast<double>(item.closesAt().ticks - wallClock.ticks) / kTicksPerMs;
  if (isPolled(item)) ms = std::min(ms, std::max(item.settings().samplingInterval, kLeastPollInterval));
  item.nextSampleAt = now;
  pending_.put(item, now + milliseconds(std::max(ms, 1.0)));
}

void Sampling::take(MonitoredItem& item, const DataValue& value, Instant now, DateTime wallClock) {
  if (item.settings().aggregate) return takeAggregate(item, value, now, wallClock);
  // A queue gives way down to one; many large ones would still be too much. They are taken when there is room.
  if (item.sink().allowance().isOver() && laborOf(value.value) > (item.hasQueued() ? item.nextSize() : 0))
    return pending_.put(item, now + kUntilThereIsRoom);
  double interval = item.settings().samplingInterval;
  const bool polled = isPolled(item);
  // Also where somebody asked for no number.
  if (polled && !(interval >= kLeastPollInterval)) interval = kLeastPollInterval;
  // Keep the item's own beat, so that samples don't drift; after a pause start a new one.
  const Duration step = milliseconds(interval);
  item.nextSampleAt = item.nextSampleAt + step > now ? item.nextSampleAt + step : now + step;
  if (polled)
    pending_.put(item, item.nextSampleAt);
  else
    pending_.remove(item);
  if (item.sample(value, wallClock)) item.sink().itemQueued(item);
}

void Sampling::sampleForgotten(Subscription& subscription, Instant now) {
  for (const auto& [id, item] : subscription.items())
    if (item->mode() == MonitoringMode::Reporting && !item->takesEvents() && !item->settings().aggregate &&
        !item->last() && !item->hasQueued() && item->node() != space::kNoNode)
      pending_.put(*item, now);
}

void Sampling::meaningChanged(NodeIndex node, Instant now, DateTime wallClock) {
  const auto found = watchers_.find(node);
  if (found == watchers_.end()) return;
  const auto range = space::rangeProperty(space_, node, "EURange");
  for (MonitoredItem* item : found->second.items) {
    if (item->attribute() != AttributeId::Value) continue;
    item->meaningChanged(range);
    refresh(*item, now, wallClock);
  }
}

std::span<MonitoredItem* const> Sampling::watchersOf(NodeIndex node) const {
  const auto found = watchers_.find(node);
  return found == watchers_.end() ? std::span<MonitoredItem* const>() : found->second.items;
}

void Sampling::valuesChanged(std::span<const space::Change> changes, Instant now, DateTime wallClock) {
  std::size_t left = kAtOnce;
  for (const auto& change : changes) valueChanged(change, left, now, wallClock);
}

void Sampling::valueChanged(const space::Change& change, std::size_t& left, Instant now, DateTime wallClock) {
  const auto found = watchers_.find(change.variable);
  if (found == watchers_.end()) return;
  const std::size_t labor = laborOf(change.value.value);
  for (MonitoredItem* item : found->second.items) {
    if (item->attribute() != AttributeId::Value || item->mode() == MonitoringMode::Disabled) continue;
    if (item->settings().aggregate) {
      takeAggregate(*item, change.value, now, wallClock);
      continue;
    }
    if (item->isWaiting()) continue;
    if (now >= item->nextSampleAt && labor <= left) {
      left -= labor;
      take(*item, change.value, now, wallClock);
    } else {
      pending_.put(*item, std::max(now, item->nextSampleAt));
    }
  }
}

void Sampling::tick(Instant now, DateTime wallClock, Slice slice) {
  std::unordered_map<std::uint64_t, DataValue> readings;  // by node and attribute
  while (MonitoredItem* item = pending_.take(now)) {
    if (item->mode() == MonitoringMode::Disabled) continue;
    if (item->isAggregate() && !isPolled(*item)) {
      if (item->close(wallClock)) item->sink().itemQueued(*item);
      waitForInterval(*item, now, wallClock);
    } else if (!isPolled(*item)) {
      const auto value = read(*item);
      take(*item, value, now, wallClock);
      if (laborOf(value.value) > 0) slice.lookAgain();
    } else {
      const auto key = std::uint64_t{item->node()} << 8 | static_cast<std::uint8_t>(item->attribute());
      auto found = readings.find(key);
      if (found == readings.end()) found = readings.emplace(key, read(*item)).first;
      take(*item, found->second, now, wallClock);
      if (laborOf(found->second.value) > 0) slice.lookAgain();
    }
    if (slice.isOver()) return;
  }
}

}  // namespace zunth::monitor
