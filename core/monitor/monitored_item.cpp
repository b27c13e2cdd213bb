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
  queueValue(std::move(now), wallClock);
  return true;
}

void MonitoredItem::queueValue(DataValue value, DateTime wallClock) {
  const bool wantsSource =
      settings_.timestamps == TimestampsToReturn::Source || settings_.timestamps == TimestampsToReturn::Both;
  const bool wantsServer =
      settings_.timestamps == TimestampsToReturn::Server || settings_.timestamps == TimestampsToReturn::Both;
  if (!wantsSource || attribute_ != AttributeId::Value) value.sourceTimestamp = {};
  value.serverTimestamp = wantsServer ? wallClock : DateTime{};
  values_.push(std::move(value));
  trim();
}

void MonitoredItem::event(List<Variant> fields) {
  if (mode_ == MonitoringMode::Disabled) return;
  if (events_.size() >= settings_.queueSize && !settings_.discardOldest) {
    eventsLost_ = true;
    ++overflows_;
    return;
  }
  events_.push(std::move(fields));
  trim();
}

bool MonitoredItem::repeatLast(DateTime wallClock) {
  if (!last_ || takesEvents() || mode_ == MonitoringMode::Disabled) return false;
  if (values_.empty()) queueValue(*last_, wallClock);
  return true;
}

bool MonitoredItem::end(StatusCode why, DateTime wallClock) {
  node_ = space::kNoNode;
  return !takesEvents() && sample(DataValue(why), wallClock);
}

void MonitoredItem::trim() {
  while (values_.size() > settings_.queueSize) {
    ++overflows_;
    // Part 4, 7.39.1: a queue of one just holds the newest value, without a mark.
    const bool isMarked = settings_.queueSize > 1;
    if (settings_.discardOldest) {
      values_.dropFront();
      if (isMarked) values_.front().status = values_.front().status.withOverflow();
    } else {
      values_.dropSecondNewest();
      if (isMarked) values_.back().status = values_.back().status.withOverflow();
    }
  }
  while (events_.size() > settings_.queueSize) {
    ++overflows_;
    eventsLost_ = true;
    events_.dropFront();
  }
}

std::optional<List<Variant>> MonitoredItem::takeEvent() {
  // Part 4, 7.21: the mark stands where events are missing, before the oldest or after the newest.
  if (eventsLost_ && (settings_.discardOldest || events_.empty())) {
    eventsLost_ = false;
    return std::nullopt;
  }
  return events_.take();
}

void MonitoredItem::modify(const ItemSettings& settings) {
  settings_ = settings;
  trim();
}

void MonitoredItem::setMode(MonitoringMode mode) {
  if (mode == MonitoringMode::Disabled) {
    values_.clear();
    events_.clear();
    eventsLost_ = false;
    last_.reset();
  }
  mode_ = mode;
}

}  // namespace zunth::monitor
