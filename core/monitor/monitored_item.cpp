#include "core/monitor/monitored_item.hpp"

#include "core/ua/footprint.hpp"

namespace zunth::monitor {

using namespace ua;

namespace {

std::size_t sizeOf(const DataValue& value) { return sizeof value + footprint(value.value); }
std::size_t sizeOf(const List<Variant>& fields) { return sizeof fields + footprint(fields); }

}  // namespace

MonitoredItem::MonitoredItem(std::uint32_t id, NotificationSink& sink, space::NodeIndex node, AttributeId attribute,
                             IndexRange range, const ItemSettings& settings, MonitoringMode mode)
    : id_(id),
      sink_(sink),
      node_(node),
      attribute_(attribute),
      range_(std::move(range)),
      settings_(settings),
      mode_(mode) {}

MonitoredItem::~MonitoredItem() {
  clearQueues();
  forgetLast();
}

bool MonitoredItem::sample(const DataValue& value, DateTime wallClock) {
  if (mode_ == MonitoringMode::Disabled) return false;
  if (settings_.aggregate) {
    if (!aggregate_) aggregate_ = std::make_unique<LiveAggregate>(*settings_.aggregate, wallClock);
    aggregate_->feed(value, wallClock);
    return queueResults(wallClock);
  }
  DataValue now = value;
  if (!range_.isWhole() && !now.status.isBad()) {
    auto part = range_.of(now.value);
    now.value = part ? *part : Variant();
    if (!part) now.status = part.code();
  }
  if (last_ && !tellsMeaning_ && !settings_.filter.passes(*last_, now)) return false;
  const std::size_t octets = sizeOf(now);
  DataValue told = now;
  if (std::exchange(tellsMeaning_, false)) told.status = told.status.withSemanticsChanged();
  queueValue(std::move(told), octets, wallClock);
  keepLast(std::move(now), octets);
  return true;
}

void MonitoredItem::keepLast(DataValue value, std::size_t octets) {
  constexpr std::size_t kFree = 256;  // octets of a value that don't count
  forgetLast();
  lastOctets_ = octets > kFree ? octets : 0;
  sink_.allowance().hold(lastOctets_);
  if (lastOctets_ > 0 && sink_.allowance().isOver(2)) return forgetLast();
  last_ = std::move(value);
}

void MonitoredItem::forgetLast() {
  sink_.allowance().release(std::exchange(lastOctets_, 0));
  last_.reset();
}

bool MonitoredItem::close(DateTime wallClock) {
  aggregate_->close(wallClock);
  return queueResults(wallClock);
}

bool MonitoredItem::queueResults(DateTime wallClock) {
  auto results = aggregate_->results();
  for (auto& result : results) {
    keepLast(result, sizeOf(result));
    queueValue(std::move(result), sizeOf(result), wallClock);
  }
  return !results.empty();
}

void MonitoredItem::meaningChanged(const std::optional<Range>& euRange) {
  tellsMeaning_ = true;
  if (euRange) settings_.filter.setRange(*euRange);
}

void MonitoredItem::queueValue(DataValue value, std::size_t octets, DateTime wallClock) {
  const bool wantsSource =
      settings_.timestamps == TimestampsToReturn::Source || settings_.timestamps == TimestampsToReturn::Both;
  const bool wantsServer =
      settings_.timestamps == TimestampsToReturn::Server || settings_.timestamps == TimestampsToReturn::Both;
  if (!wantsSource || attribute_ != AttributeId::Value) value.sourceTimestamp = {};
  value.serverTimestamp = wantsServer ? wallClock : DateTime{};
  sink_.allowance().hold(octets);
  values_.push(std::move(value), octets);
  trim();
}

bool MonitoredItem::hasRoomForEvent() const {
  return events_.size() < settings_.queueSize && (events_.empty() || !sink_.allowance().isOver());
}

void MonitoredItem::event(List<Variant> fields, bool isOfCondition) {
  if (mode_ == MonitoringMode::Disabled) return;
  if (events_.size() >= settings_.queueSize && !settings_.discardOldest) {
    eventsLost_ = true;
    isRefreshRequired_ |= isOfCondition;
    ++overflows_;
    return;
  }
  const std::size_t octets = sizeOf(fields);
  sink_.allowance().hold(octets);
  events_.push({std::move(fields), isOfCondition}, octets);
  trim();
}

bool MonitoredItem::repeatLast(DateTime wallClock) {
  if (!last_ || takesEvents() || mode_ == MonitoringMode::Disabled) return false;
  if (values_.empty()) queueValue(*last_, std::max(lastOctets_, sizeof *last_), wallClock);
  return true;
}

bool MonitoredItem::end(StatusCode why, DateTime wallClock) {
  node_ = space::kNoNode;
  settings_.aggregate.reset();
  aggregate_.reset();
  return !takesEvents() && sample(DataValue(why), wallClock);
}

void MonitoredItem::dropFirstValue() {
  sink_.allowance().release(values_.front().octets);
  values_.dropFront();
}

void MonitoredItem::trim() {
  const auto isTooMuch = [this](std::size_t queued) {
    return queued > settings_.queueSize || (queued > 1 && sink_.allowance().isOver());
  };
  while (isTooMuch(values_.size())) {
    ++overflows_;
    // Part 4, 7.39.1: a queue of one just holds the newest value, without a mark.
    const bool isMarked = settings_.queueSize > 1;
    if (settings_.discardOldest) {
      dropFirstValue();
      if (isMarked) values_.front().item.status = values_.front().item.status.withOverflow();
    } else {
      sink_.allowance().release(values_.secondNewest().octets);
      values_.dropSecondNewest();
      if (isMarked) values_.back().item.status = values_.back().item.status.withOverflow();
    }
  }
  while (isTooMuch(events_.size())) {
    ++overflows_;
    eventsLost_ = true;
    isRefreshRequired_ |= events_.front().item.isOfCondition;
    sink_.allowance().release(events_.front().octets);
    events_.dropFront();
  }
}

std::size_t MonitoredItem::nextSize() const {
  return takesEvents() ? events_.empty() ? 0 : events_.front().octets : values_.front().octets;
}

DataValue MonitoredItem::takeValue() {
  sink_.allowance().release(values_.front().octets);
  return values_.take();
}

std::variant<List<Variant>, EventMark> MonitoredItem::takeEvent() {
  // Part 4, 7.21: the mark stands where events are missing, before the oldest or after the newest.
  if (eventsLost_ && (settings_.discardOldest || events_.empty())) {
    eventsLost_ = false;
    return EventMark::EventsLost;
  }
  // Only now, so that the answer to it finds room: a flood of alarms brings no flood of refreshes.
  if (events_.empty()) {
    isRefreshRequired_ = false;
    return EventMark::RefreshRequired;
  }
  sink_.allowance().release(events_.front().octets);
  return events_.take().fields;
}

void MonitoredItem::clearQueues() {
  std::size_t octets = 0;
  for (const auto& value : values_) octets += value.octets;
  for (const auto& event : events_) octets += event.octets;
  sink_.allowance().release(octets);
  values_.clear();
  events_.clear();
  eventsLost_ = false;
  isRefreshRequired_ = false;
}

void MonitoredItem::modify(const ItemSettings& settings) {
  settings_ = settings;
  // It begins anew with the next sample.
  aggregate_.reset();
  trim();
}

void MonitoredItem::setMode(MonitoringMode mode) {
  if (mode == MonitoringMode::Disabled) {
    clearQueues();
    forgetLast();
    aggregate_.reset();
  }
  mode_ = mode;
}

}  // namespace zunth::monitor
