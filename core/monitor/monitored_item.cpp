#include "core/monitor/monitored_item.hpp"

namespace zunth::monitor {

using namespace ua;

MonitoredItem::MonitoredItem(std::uint32_t id, Subscription& owner, space::NodeIndex node, AttributeId attribute,
                             IndexRange range, const ItemSettings& settings, MonitoringMode mode)
    : id_(id),
      owner_(owner),
      node_(node),
      attribute_(attribute),
      range_(std::move(range)),
      settings_(settings),
      mode_(mode) {}

bool MonitoredItem::sample(const DataValue& value, DateTime wallClock) {
  if (mode_ == MonitoringMode::Disabled) return false;
  DataValue now = value;
  if (!range_.isWhole() && !now.status.isBad()) {
    auto part = range_.of(now.value);
    now.value = part ? *part : Variant();
    if (!part) now.status = part.code();
  }
  if (last_ && !settings_.filter.passes(*last_, now)) return false;
  last_ = now;
  const bool wantsSource =
      settings_.timestamps == TimestampsToReturn::Source || settings_.timestamps == TimestampsToReturn::Both;
  const bool wantsServer =
      settings_.timestamps == TimestampsToReturn::Server || settings_.timestamps == TimestampsToReturn::Both;
  if (!wantsSource || attribute_ != AttributeId::Value) now.sourceTimestamp = {};
  now.serverTimestamp = wantsServer ? wallClock : DateTime{};
  queue_.push_back(std::move(now));
  trim();
  return true;
}

void MonitoredItem::trim() {
  while (queue_.size() - taken_ > settings_.queueSize) {
    ++overflows_;
    if (settings_.discardOldest) {
      ++taken_;
      // Part 4, 7.39.1: a queue of one just holds the newest value, without a mark.
      if (settings_.queueSize > 1) queue_[taken_].status = queue_[taken_].status.withOverflow();
    } else {
      queue_.erase(queue_.end() - 2);
      if (settings_.queueSize > 1) queue_.back().status = queue_.back().status.withOverflow();
    }
  }
  if (taken_ > 8 && taken_ * 2 > queue_.size()) {
    queue_.erase(queue_.begin(), queue_.begin() + static_cast<std::ptrdiff_t>(taken_));
    taken_ = 0;
  }
}

void MonitoredItem::modify(const ItemSettings& settings) {
  settings_ = settings;
  trim();
}

void MonitoredItem::setMode(MonitoringMode mode) {
  if (mode == MonitoringMode::Disabled) {
    queue_.clear();
    taken_ = 0;
    last_.reset();
  }
  mode_ = mode;
}

DataValue MonitoredItem::takeQueued() {
  DataValue value = std::move(queue_[taken_++]);
  if (taken_ == queue_.size()) {
    queue_.clear();
    taken_ = 0;
  }
  return value;
}

}  // namespace zunth::monitor
