#include "core/monitor/subscription.hpp"

#include "core/ua/footprint.hpp"

#include <algorithm>

namespace zunth::monitor {

using namespace ua;

Subscription::Subscription(std::uint32_t id, const SubscriptionSettings& settings, Instant now)
    : NotificationSink(id), settings_(settings), cycleDue_(now + milliseconds(settings.publishingInterval)) {}

Subscription::~Subscription() {
  while (!kept_.empty()) forgetOldestKept();
}

void Subscription::modify(const SubscriptionSettings& settings, Instant now) {
  const bool enabled = settings_.publishingEnabled;
  const std::uint32_t lifetime = settings_.lifetimeCount;
  settings_ = settings;
  settings_.publishingEnabled = enabled;
  if (isDurable_) settings_.lifetimeCount = std::max(lifetime, settings.lifetimeCount);
  cycleDue_ = now + milliseconds(settings.publishingInterval);
  ++counters_.modifyCount;
  touch();
}

void Subscription::setPublishing(bool enabled) {
  settings_.publishingEnabled = enabled;
  ++(enabled ? counters_.enableCount : counters_.disableCount);
  touch();
}

void Subscription::makeDurable(std::uint32_t lifetimeCount) {
  isDurable_ = true;
  settings_.lifetimeCount = std::max(settings_.lifetimeCount, lifetimeCount);
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
  listed_.remove(*node.mapped());
  const Link first{itemId, 0};
  while (!links_.empty()) {
    const auto link = links_.lower_bound(first);
    if (link == links_.end() || link->first != itemId) break;
    unlink(itemId, link->second);
  }
  while (!linkedBy_.empty()) {
    const auto link = linkedBy_.lower_bound(first);
    if (link == linkedBy_.end() || link->first != itemId) break;
    unlink(link->second, itemId);
  }
  return std::move(node.mapped());
}

StatusCode Subscription::link(std::uint32_t triggering, std::uint32_t linked) {
  if (!item(linked)) return status::BadMonitoredItemIdInvalid;
  if (links_.size() >= kMostLinks && !links_.contains({triggering, linked})) return status::BadTooManyMonitoredItems;
  links_.emplace(triggering, linked);
  linkedBy_.emplace(linked, triggering);
  return status::Good;
}

bool Subscription::unlink(std::uint32_t triggering, std::uint32_t linked) {
  linkedBy_.erase({linked, triggering});
  return links_.erase({triggering, linked}) > 0;
}

void Subscription::itemQueued(MonitoredItem& item) {
  if (item.mode() == MonitoringMode::Reporting) listed_.push(item);
  if (links_.empty()) return;
  for (auto link = links_.lower_bound({item.id(), 0}); link != links_.end() && link->first == item.id(); ++link)
    if (auto* linked = this->item(link->second);
        linked && linked->mode() == MonitoringMode::Sampling && linked->hasQueued())
      listed_.push(*linked);
}

void Subscription::resendData(DateTime wallClock) {
  for (const auto& [id, item] : items_)
    if (item->mode() == MonitoringMode::Reporting && item->repeatLast(wallClock)) listed_.push(*item);
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
  if (hasNotifications() || !messageSent_ || keepAlive_ >= settings_.maxKeepAliveCount) {
    late_ = true;
    if (!requestWaits) ++counters_.latePublishRequestCount;
  }
}

Subscription::Published Subscription::publish(DateTime wallClock, const MarkEvent& markEvent, const MessageSize& size) {
  Published out;
  out.message.sequenceNumber = nextSequenceNumber_;
  out.message.publishTime = wallClock;
  touch();
  keepAlive_ = 0;
  messageSent_ = true;
  late_ = false;
  ++counters_.publishRequestCount;
  if (!hasNotifications()) return out;

  DataChangeNotification changes;
  EventNotificationList events;
  std::size_t left = settings_.maxNotificationsPerPublish
                         ? std::min<std::size_t>(settings_.maxNotificationsPerPublish, kMostNotifications)
                         : kMostNotifications;
  const std::size_t most = std::min(size.usual, size.most);
  std::size_t octets = 0;
  bool isFull = false;
  while (!listed_.empty() && left > 0 && !isFull) {
    MonitoredItem& item = listed_.front();
    for (; item.hasQueued() && left > 0; --left) {
      const auto handle = item.settings().clientHandle;
      const std::size_t next = item.nextSize() + kNotificationSize;
      isFull = octets > 0 && octets + next > most;
      if (isFull) break;
      const bool isTooLarge = next > size.most;
      octets += isTooLarge ? kNotificationSize : next;
      if (!item.takesEvents()) {
        auto value = item.takeValue();
        // The client could never be told: it learns that there was something.
        if (isTooLarge) value = DataValue(Variant(), value.sourceTimestamp, status::BadResponseTooLarge);
        changes.monitoredItems.push_back({handle, std::move(value)});
        continue;
      }
      auto taken = item.takeEvent();
      auto* fields = std::get_if<List<Variant>>(&taken);
      if (fields && !isTooLarge) {
        events.events.push_back({handle, std::move(*fields)});
        continue;
      }
      const auto mark = fields ? EventMark::EventsLost : std::get<EventMark>(taken);
      counters_.eventQueueOverFlowCount += mark == EventMark::EventsLost;
      if (markEvent) events.events.push_back({handle, markEvent(item, mark)});
    }
    if (item.hasQueued()) break;
    listed_.remove(item);
  }
  counters_.dataChangeNotificationsCount += static_cast<std::uint32_t>(changes.monitoredItems.size());
  counters_.eventNotificationsCount += static_cast<std::uint32_t>(events.events.size());
  if (!changes.monitoredItems.empty()) out.message.notificationData.push_back(ExtensionObject::of(std::move(changes)));
  if (!events.events.empty()) out.message.notificationData.push_back(ExtensionObject::of(std::move(events)));
  if (out.message.notificationData.empty()) return out;  // what was queued has been dropped since
  nextSequenceNumber_ = nextSequenceNumber_ == UINT32_MAX ? 1 : nextSequenceNumber_ + 1;
  keep(out.message, octets);
  out.moreNotifications = hasNotifications();
  if (out.moreNotifications) late_ = true;  // goes on with the next Publish request
  return out;
}

void Subscription::keep(const NotificationMessage& message, std::size_t octets) {
  kept_.push_back({message, octets});
  allowance().hold(octets);
  while (kept_.size() > kMostKeptMessages || (kept_.size() > 1 && allowance().isOver())) {
    forgetOldestKept();
    ++counters_.discardedMessageCount;
  }
}

void Subscription::forgetOldestKept() {
  allowance().release(kept_.front().octets);
  kept_.pop_front();
}

NotificationMessage Subscription::statusChange(StatusCode status, DateTime wallClock) const {
  NotificationMessage message;
  message.sequenceNumber = nextSequenceNumber_;
  message.publishTime = wallClock;
  message.notificationData.push_back(ExtensionObject::of(StatusChangeNotification{status, {}}));
  return message;
}

StatusCode Subscription::acknowledge(std::uint32_t sequenceNumber) {
  const auto found = std::ranges::find(kept_, sequenceNumber, [](const Kept& k) { return k.message.sequenceNumber; });
  if (found == kept_.end()) return status::BadSequenceNumberUnknown;
  allowance().release(found->octets);
  kept_.erase(found);
  return status::Good;
}

Result<NotificationMessage> Subscription::republish(std::uint32_t sequenceNumber) {
  ++counters_.republishRequestCount;
  ++counters_.republishMessageRequestCount;
  const auto found = std::ranges::find(kept_, sequenceNumber, [](const Kept& k) { return k.message.sequenceNumber; });
  if (found == kept_.end()) return status::BadMessageNotAvailable;
  ++counters_.republishMessageCount;
  return found->message;
}

List<std::uint32_t> Subscription::availableSequenceNumbers() const {
  auto out = List<std::uint32_t>::emptyNotNull();
  for (const auto& kept : kept_) out.push_back(kept.message.sequenceNumber);
  return out;
}

SubscriptionDiagnosticsDataType Subscription::diagnostics() const {
  SubscriptionDiagnosticsDataType out = counters_;
  out.subscriptionId = id();
  out.priority = settings_.priority;
  out.publishingInterval = settings_.publishingInterval;
  out.maxKeepAliveCount = settings_.maxKeepAliveCount;
  out.maxLifetimeCount = settings_.lifetimeCount;
  out.maxNotificationsPerPublish = settings_.maxNotificationsPerPublish;
  out.publishingEnabled = settings_.publishingEnabled;
  out.notificationsCount = counters_.dataChangeNotificationsCount + counters_.eventNotificationsCount;
  out.currentKeepAliveCount = keepAlive_;
  out.currentLifetimeCount = lifetime_;
  out.unacknowledgedMessageCount = static_cast<std::uint32_t>(kept_.size());
  out.monitoredItemCount = static_cast<std::uint32_t>(items_.size());
  for (const auto& [id, item] : items_) {
    out.disabledMonitoredItemCount += item->mode() == MonitoringMode::Disabled;
    out.monitoringQueueOverflowCount += static_cast<std::uint32_t>(item->overflows());
  }
  out.nextSequenceNumber = nextSequenceNumber_;
  return out;
}

void Subscription::countTransfer(bool toSameClient) {
  ++counters_.transferRequestCount;
  ++(toSameClient ? counters_.transferredToSameClientCount : counters_.transferredToAltClientCount);
}

}  // namespace zunth::monitor
