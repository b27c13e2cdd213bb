#include "core/monitor/subscription.hpp"

#include <algorithm>

namespace zunth::monitor {

using namespace ua;

Subscription::Subscription(std::uint32_t id, const SubscriptionSettings& settings, Instant now)
    : id_(id), settings_(settings), cycleDue_(now + milliseconds(settings.publishingInterval)) {}

void Subscription::modify(const SubscriptionSettings& settings, Instant now) {
  const bool enabled = settings_.publishingEnabled;
  settings_ = settings;
  settings_.publishingEnabled = enabled;
  cycleDue_ = now + milliseconds(settings.publishingInterval);
  touch();
}

MonitoredItem& Subscription::add(std::unique_ptr<MonitoredItem> item) {
  auto& added = *item;
  items_[added.id()] = std::move(item);
  return added;
}

MonitoredItem* Subscription::item(std::uint32_t itemId) const {
  const auto found = items_.find(itemId);
  return found == items_.end() ? nullptr : found->second.get();
}

std::unique_ptr<MonitoredItem> Subscription::removeItem(std::uint32_t itemId) {
  auto node = items_.extract(itemId);
  if (!node) return nullptr;
  if (node.mapped()->isListed) std::erase(listed_, node.mapped().get());
  return std::move(node.mapped());
}

void Subscription::itemQueued(MonitoredItem& item) {
  if (item.isListed || item.mode() != MonitoringMode::Reporting) return;
  item.isListed = true;
  listed_.push_back(&item);
}

void Subscription::becomeLate(Instant now) {
  if (late_) return;
  late_ = true;
  lateSince_ = now;
}

void Subscription::cycle(Instant now, bool requestWaits) {
  const Duration interval = milliseconds(settings_.publishingInterval);
  cycleDue_ += interval;
  if (cycleDue_ <= now) cycleDue_ = now + interval;  // missed turns are not made up for
  if (requestWaits)
    touch();
  else
    ++lifetime_;
  ++keepAlive_;
  if (hasNotifications() || !messageSent_ || keepAlive_ >= settings_.maxKeepAliveCount) becomeLate(now);
}

Subscription::Published Subscription::publish(DateTime wallClock) {
  Published out;
  out.message.sequenceNumber = nextSequenceNumber_;
  out.message.publishTime = wallClock;
  touch();
  keepAlive_ = 0;
  messageSent_ = true;
  late_ = false;
  if (!hasNotifications()) return out;

  DataChangeNotification changes;
  const std::size_t most = settings_.maxNotificationsPerPublish ? settings_.maxNotificationsPerPublish : SIZE_MAX;
  while (!listed_.empty() && changes.monitoredItems.size() < most) {
    MonitoredItem& item = *listed_.front();
    while (item.hasQueued() && changes.monitoredItems.size() < most)
      changes.monitoredItems.push_back({item.settings().clientHandle, item.takeQueued()});
    if (item.hasQueued()) break;
    item.isListed = false;
    listed_.pop_front();
  }
  if (changes.monitoredItems.empty()) return out;  // what was queued has been dropped since
  out.message.notificationData.push_back(ExtensionObject::of(std::move(changes)));
  nextSequenceNumber_ = nextSequenceNumber_ == UINT32_MAX ? 1 : nextSequenceNumber_ + 1;
  kept_.push_back(out.message);
  if (kept_.size() > kMostKeptMessages) kept_.pop_front();
  out.moreNotifications = hasNotifications();
  if (out.moreNotifications) late_ = true;  // goes on with the next Publish request, keeping its place
  return out;
}

StatusCode Subscription::acknowledge(std::uint32_t sequenceNumber) {
  const auto found = std::ranges::find(kept_, sequenceNumber, &NotificationMessage::sequenceNumber);
  if (found == kept_.end()) return status::BadSequenceNumberUnknown;
  kept_.erase(found);
  return status::Good;
}

Result<NotificationMessage> Subscription::republish(std::uint32_t sequenceNumber) const {
  const auto found = std::ranges::find(kept_, sequenceNumber, &NotificationMessage::sequenceNumber);
  if (found == kept_.end()) return status::BadMessageNotAvailable;
  return *found;
}

List<std::uint32_t> Subscription::availableSequenceNumbers() const {
  auto out = List<std::uint32_t>::emptyNotNull();
  for (const auto& message : kept_) out.push_back(message.sequenceNumber);
  return out;
}

}  // namespace zunth::monitor
