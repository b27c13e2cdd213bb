#include "core/alarm/alarm.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace zunth::alarm {

using namespace ua;
using monitor::Event;
using space::kNoNode;
using space::LimitLevel;
using space::NodeIndex;
using space::Space;

namespace {

constexpr std::size_t kMostEventIds = 32;
constexpr int kDeepest = 4;  // LimitState/CurrentState/Id

NodeIndex targetOf(const Space& space, NodeIndex alarm, const char* name) {
  const NodeIndex property = space.child(alarm, {0, name}, id::HasProperty);
  if (property == kNoNode) return kNoNode;
  const DataValue held = space.value(property);
  const auto* id = held.value.get<NodeId>();
  const NodeIndex target = id && !id->isNull() ? space.find(*id) : kNoNode;
  return target != kNoNode && space.nodeClass(target) == NodeClass::Variable ? target : kNoNode;
}

/// The state of the exclusive limits' machine that stands for a level.
StandardId stateOf(LimitLevel level) {
  switch (level) {
    case LimitLevel::HighHigh: return id::ExclusiveLimitStateMachineType_HighHigh;
    case LimitLevel::High: return id::ExclusiveLimitStateMachineType_High;
    case LimitLevel::Low: return id::ExclusiveLimitStateMachineType_Low;
    case LimitLevel::LowLow: return id::ExclusiveLimitStateMachineType_LowLow;
  }
  return id::ExclusiveLimitStateMachineType_High;
}

const char* wordsFor(LimitLevel level) {
  switch (level) {
    case LimitLevel::HighHigh: return "far too high";
    case LimitLevel::High: return "too high";
    case LimitLevel::Low: return "too low";
    case LimitLevel::LowLow: return "far too low";
  }
  return "";
}

LocalizedText english(std::string_view text) { return LocalizedText(String(text), "en"); }

}  // namespace

std::optional<Alarm> Alarm::from(Space& space, NodeIndex node) {
  const NodeIndex type = space.typeDefinition(node);
  const auto is = [&](StandardId kind) { return space.isSubtype(type, kind); };
  if (type == kNoNode || !is(id::AlarmConditionType)) return std::nullopt;
  const NodeIndex input = targetOf(space, node, "InputNode");
  // An alarm that watches how others stand could make them change, and they it, without an end.
  if (input == kNoNode || space::isConditionState(space, input)) return std::nullopt;
  Kind kind = Kind::Level;
  NodeIndex other = kNoNode;
  if (is(id::ExclusiveDeviationAlarmType) || is(id::NonExclusiveDeviationAlarmType)) {
    kind = Kind::Deviation;
    other = targetOf(space, node, "SetpointNode");
    if (other == kNoNode) return std::nullopt;
  } else if (is(id::ExclusiveRateOfChangeAlarmType) || is(id::NonExclusiveRateOfChangeAlarmType)) {
    kind = Kind::Rate;
  } else if (is(id::OffNormalAlarmType)) {
    kind = Kind::OffNormal;
    other = targetOf(space, node, "NormalState");
    if (other == kNoNode) return std::nullopt;
  } else if (is(id::DiscreteAlarmType)) {
    kind = Kind::Discrete;
    other = space::ownProperty(space, node, space::kActiveValue);
    if (other == kNoNode) return std::nullopt;
  } else if (!is(id::LimitAlarmType)) {
    return std::nullopt;
  }
  Alarm out(space, node, kind);
  out.isExclusive_ = !is(id::NonExclusiveLimitAlarmType);
  out.inputs_.push_back(input);
  if (other != kNoNode) out.inputs_.push_back(other);
  out.collect(node, {});
  out.findSettings();
  if (const NodeIndex message = space::ownProperty(space, node, space::kActiveMessage); message != kNoNode)
    if (const auto held = space.value(message); held.value.get<LocalizedText>())
      out.activeMessage_ = *held.value.get<LocalizedText>();
  if (const double severity = out.numberAt(out.fieldAt("Severity"), 0); severity >= 1)
    out.usualSeverity_ = static_cast<std::uint16_t>(severity);
  out.severity_ = out.lastSeverity_ = out.usualSeverity_;
  return out;
}

/// The variables below a node, each with its path.
void Alarm::collect(NodeIndex at, Event::Path path) {
  if (path.size() >= kDeepest) return;
  const Space& space = space_;
  for (const auto& reference : space.references(at)) {
    const NodeIndex child = reference.target();
    if (!reference.isForward() || !space.isSubtype(reference.type(), id::HasChild) || space.parent(child) != at)
      continue;
    const auto nodeClass = space.nodeClass(child);
    if (nodeClass != NodeClass::Variable && nodeClass != NodeClass::Object) continue;
    Event::Path below = path;
    below.push_back(space.browseName(child));
    if (nodeClass == NodeClass::Variable) {
      std::string text;
      for (const auto& step : below) text += (text.empty() ? "" : "/") + step.name.str();
      byPath_.emplace(std::move(text), child);
      fields_.push_back({below, child});
    }
    collect(child, std::move(below));
  }
}

void Alarm::findSettings() {
  for (std::size_t i = 0; i < space::kLimitLevels; ++i) {
    const std::string level(nameOf(static_cast<LimitLevel>(i)));
    levels_[i] = {fieldAt(level + "Limit"), fieldAt(level + "Deadband"), fieldAt("Severity" + level)};
  }
  onDelay_ = fieldAt("OnDelay");
  offDelay_ = fieldAt("OffDelay");
}

NodeIndex Alarm::fieldAt(std::string_view path) const {
  const auto found = byPath_.find(path);
  return found == byPath_.end() ? kNoNode : found->second;
}
void Alarm::put(std::string_view path, Variant value, const Moment& moment) {
  if (const NodeIndex field = fieldAt(path); field != kNoNode)
    space_.get().setValue(field, DataValue(std::move(value), moment.wallClock));
}
void Alarm::putState(const std::string& path, bool is, const char* yes, const char* no, const Moment& moment) {
  put(path, Variant(english(is ? yes : no)), moment);
  put(path + "/Id", Variant(is), moment);
}
double Alarm::numberAt(NodeIndex field, double otherwise) const {
  double number = 0;
  return field != kNoNode && space_.get().value(field).value.toDouble(number) ? number : otherwise;
}

Limits Alarm::limits() const {
  Limits out;
  for (std::size_t i = 0; i < space::kLimitLevels; ++i) {
    const double limit = numberAt(levels_[i].limit, NAN);
    if (!std::isnan(limit)) out.levels[i] = Limits::One{limit, std::abs(numberAt(levels_[i].deadband, 0))};
  }
  return out;
}

/// The number that is held against the limits; nothing when there is none yet.
std::optional<double> Alarm::measured(const DataValue& value, DateTime wallClock) {
  double number = 0;
  if (!value.value.toDouble(number)) return std::nullopt;
  if (kind_ == Kind::Deviation) {
    double goal = 0;
    if (!space_.get().value(inputs_[1]).value.toDouble(goal)) return std::nullopt;
    return number - goal;
  }
  if (kind_ != Kind::Rate) return number;
  const Sample sample{number, value.sourceTimestamp.isNull() ? wallClock : value.sourceTimestamp};
  const double seconds = last_ ? static_cast<double>(sample.time.ticks - last_->time.ticks) / 1e7 : 0;
  if (last_ && seconds <= 0) return rate_;
  if (last_) rate_ = (sample.value - last_->value) / seconds;
  last_ = sample;
  return rate_;
}

Exceeded Alarm::seen(const DataValue& value, DateTime wallClock) {
  if (kind_ == Kind::Discrete || kind_ == Kind::OffNormal) {
    if (value.value.isNull()) return exceeded_;
    const bool isSame = space_.get().value(inputs_[1]).value == value.value;
    return isSame == (kind_ == Kind::Discrete) ? Exceeded{1} : Exceeded{0};
  }
  const auto number = measured(value, wallClock);
  if (!number) return exceeded_;
  judged_ = judge(limits(), *number, judged_);
  const auto worst = outermost(judged_);
  return isExclusive_ ? (worst ? bitOf(*worst) : Exceeded{0}) : judged_;
}

void Alarm::begin(const Moment& moment) {
  const Space& space = space_;
  const NodeIndex type = space.typeDefinition(node_), source = inputs_[0];
  put("EventType", Variant(space.nodeId(type)), moment);
  put("SourceNode", Variant(space.nodeId(source)), moment);
  put("SourceName", Variant(String(space.path(source))), moment);
  put("ConditionName", Variant(String(space.name(node_))), moment);
  put("ConditionClassId", Variant(NodeId(id::ProcessConditionClassType)), moment);
  put("ConditionClassName", Variant(english("Process")), moment);
  put("BranchId", Variant(NodeId()), moment);
  put("SuppressedOrShelved", Variant(false), moment);
  if (reason_.empty()) {
    put("Comment", Variant(LocalizedText()), moment);
    put("ClientUserId", Variant(String()), moment);
    // What has not changed yet is as old as the alarm.
    put("Comment/SourceTimestamp", Variant(moment.wallClock), moment);
    put("LastSeverity/SourceTimestamp", Variant(moment.wallClock), moment);
    reason_ = messageNow();
  } else if (const NodeIndex shown = fieldAt("EventId");
             shown != kNoNode && !eventIds_.empty() && space.value(shown).value == Variant(eventIds_.back())) {
    return;  // it stands as it is shown, and its last event is still the last
  }
  show(moment, reason_);
}

bool Alarm::look(const Moment& moment) {
  if (!isEnabled_) return false;
  const DataValue value = space_.get().value(inputs_[0]);
  const StatusCode quality = value.status;
  const bool isOtherQuality = quality.isBad() != quality_.isBad() || quality.isUncertain() != quality_.isUncertain();
  const bool isWaiting = quality == status::BadWaitingForInitialData;
  quality_ = quality;
  // A bad value says nothing of the plant: how the alarm stands stays, its quality tells.
  const Exceeded before = exceeded_;
  if (!quality.isBad())
    exceeded_ = delay_.settle(seen(value, moment.wallClock), moment.now, numberAt(onDelay_, 0), numberAt(offDelay_, 0));
  const bool isOther = exceeded_ != before;
  if (!isOther && (!isOtherQuality || isWaiting)) return false;
  const auto worstBefore = outermost(before), worst = outermost(exceeded_);
  const auto rank = [](const std::optional<LimitLevel>& level) {
    return !level ? 0 : *level == LimitLevel::HighHigh || *level == LimitLevel::LowLow ? 2 : 1;
  };
  // It is to be acknowledged when it comes, and again when it becomes worse or is another.
  if (!before && exceeded_) {
    // What was said of the last time is over.
    put("Comment", Variant(LocalizedText()), moment);
    put("ClientUserId", Variant(String()), moment);
  }
  if ((exceeded_ & ~before) && rank(worst) >= rank(worstBefore)) {
    isAcknowledged_ = false;
    isConfirmed_ = true;
    eventIds_.clear();
  }
  reason_ = messageNow();
  show(moment, reason_);
  return true;
}

std::uint16_t Alarm::severityNow() const {
  const auto worst = outermost(exceeded_);
  if (!worst) return severity_;
  const double severity = numberAt(levels_[static_cast<std::size_t>(*worst)].severity, 0);
  return severity >= 1 ? static_cast<std::uint16_t>(severity) : usualSeverity_;
}

std::string Alarm::valueText() const {
  const Space& space = space_;
  const DataValue value = space.value(inputs_[0]);
  if (const auto* flag = value.value.get<bool>()) {
    const NodeIndex words = space.child(inputs_[0], {0, *flag ? "TrueState" : "FalseState"}, id::HasProperty);
    if (words != kNoNode)
      if (const auto held = space.value(words); held.value.get<LocalizedText>())
        return held.value.get<LocalizedText>()->text.str();
  }
  if (const auto name = space::enumerationName(space, space.traits(inputs_[0]).dataType, value.value))
    return name->str();
  double number = 0;
  return value.value.toDouble(number) ? fmt::format("{:.6g}", number) : format(value.value);
}

std::string Alarm::messageNow() const {
  // Its object's name says enough: where that is, the source tells.
  const auto shortPath = [&](NodeIndex node) {
    const NodeIndex above = space_.get().parent(node);
    return (above == kNoNode ? "" : std::string(space_.get().name(above)) + "/") + std::string(space_.get().name(node));
  };
  const std::string name = shortPath(inputs_[0]);
  if (quality_.isBad())
    return fmt::format("{} is not known ({}){}", name, quality_.name(), exceeded_ ? "; the alarm stands" : "");
  if (!exceeded_) return fmt::format("{} is normal: {}", name, valueText());
  if (!activeMessage_.text.empty()) return activeMessage_.text.str();
  const auto worst = outermost(exceeded_);
  const double limit = numberAt(levels_[static_cast<std::size_t>(*worst)].limit, 0);
  switch (kind_) {
    case Kind::Level:
      return fmt::format("{} is {}: {}, the limit is {:.6g}", name, wordsFor(*worst), valueText(), limit);
    case Kind::Deviation:
      return fmt::format("{} is {} beside what it should be: {}, the limit is {:.6g} from {}", name, wordsFor(*worst),
                         valueText(), limit, shortPath(inputs_[1]));
    case Kind::Rate:
      return fmt::format("{} changes by {:.6g} a second, the limit is {:.6g}", name, rate_.value_or(0), limit);
    case Kind::Discrete:
    case Kind::OffNormal: return fmt::format("{} is {}", name, valueText());
  }
  return name;
}

void Alarm::leave(const Moment& moment) {
  put("EventId", Variant(moment.newEventId()), moment);
  put("Time", Variant(moment.wallClock), moment);
  put("ReceiveTime", Variant(moment.wallClock), moment);
  put("Message", Variant(english("the alarm was taken out of the model")), moment);
  put("Retain", Variant(false), moment);
}

/// Writes how it stands into its nodes: what the next event tells.
void Alarm::show(const Moment& moment, const std::string& message) {
  const ByteString eventId = moment.newEventId();
  eventIds_.push_back(eventId);
  if (eventIds_.size() > kMostEventIds) eventIds_.pop_front();
  if (const auto now = severityNow(); now != severity_) {
    lastSeverity_ = std::exchange(severity_, now);
    put("LastSeverity/SourceTimestamp", Variant(moment.wallClock), moment);
  }
  put("EventId", Variant(eventId), moment);
  put("Time", Variant(moment.wallClock), moment);
  put("ReceiveTime", Variant(moment.wallClock), moment);
  put("Message", Variant(activeMessage_.text.view() == message ? activeMessage_ : english(message)), moment);
  put("Severity", Variant(severity_), moment);
  put("LastSeverity", Variant(lastSeverity_), moment);
  put("Retain", Variant(isRetained()), moment);
  put("Quality", Variant(quality_), moment);
  put("Quality/SourceTimestamp", Variant(moment.wallClock), moment);
  putState("EnabledState", isEnabled_, "Enabled", "Disabled", moment);
  putState("ActiveState", exceeded_ != 0, "Active", "Inactive", moment);
  putState("AckedState", isAcknowledged_, "Acknowledged", "Unacknowledged", moment);
  putState("ConfirmedState", isConfirmed_, "Confirmed", "Unconfirmed", moment);
  if (kind_ == Kind::Discrete || kind_ == Kind::OffNormal) return;
  const auto worst = outermost(exceeded_);
  put("LimitState/CurrentState", worst ? Variant(english(nameOf(*worst))) : Variant(LocalizedText()), moment);
  put("LimitState/CurrentState/Id", worst ? Variant(NodeId(stateOf(*worst))) : Variant(NodeId()), moment);
  for (std::size_t i = 0; i < space::kLimitLevels; ++i) {
    const auto level = static_cast<LimitLevel>(i);
    const std::string name(nameOf(level));
    putState(name + "State", exceeded_ & bitOf(level), (name + " active").c_str(), (name + " inactive").c_str(),
             moment);
  }
}

Answer Alarm::checkEvent(const ByteString& eventId) const {
  if (!isEnabled_) return {status::BadConditionDisabled, "the condition is disabled"};
  if (std::ranges::find(eventIds_, eventId) == eventIds_.end())
    return {status::BadEventIdUnknown, "that event is not of how the condition stands now: take its newest"};
  return {};
}

/// What somebody said or did, and the event that tells it beside why the alarm came.
void Alarm::answered(const LocalizedText& comment, const String& user, const std::string& how, const Moment& moment) {
  // Part 9, 5.5.6: an empty comment leaves the one that is there.
  if (!comment.text.isNull()) {
    put("Comment", Variant(comment), moment);
    put("Comment/SourceTimestamp", Variant(moment.wallClock), moment);
  }
  put("ClientUserId", Variant(user), moment);
  show(moment, fmt::format("{} ({})", reason_, how));
}

Answer Alarm::acknowledge(const ByteString& eventId, const LocalizedText& comment, const String& user,
                          const Moment& moment) {
  if (auto answer = checkEvent(eventId); answer.code.isBad()) return answer;
  if (isAcknowledged_) return {status::BadConditionBranchAlreadyAcked, "somebody has acknowledged it already"};
  isAcknowledged_ = true;
  isConfirmed_ = fieldAt("ConfirmedState") == kNoNode;
  answered(comment, user, "acknowledged by " + user.str(), moment);
  return {};
}

Answer Alarm::confirm(const ByteString& eventId, const LocalizedText& comment, const String& user,
                      const Moment& moment) {
  if (auto answer = checkEvent(eventId); answer.code.isBad()) return answer;
  if (isConfirmed_)
    return {status::BadConditionBranchAlreadyConfirmed, "there is nothing to confirm: it is acknowledged first"};
  isConfirmed_ = true;
  answered(comment, user, "confirmed by " + user.str(), moment);
  return {};
}

Answer Alarm::addComment(const ByteString& eventId, const LocalizedText& comment, const String& user,
                         const Moment& moment) {
  if (auto answer = checkEvent(eventId); answer.code.isBad()) return answer;
  answered(comment, user, user.str() + ": " + comment.text.str(), moment);
  return {};
}

Answer Alarm::enable(bool on, const String& user, const Moment& moment) {
  if (on == isEnabled_)
    return {on ? status::BadConditionAlreadyEnabled : status::BadConditionAlreadyDisabled,
            on ? "it is enabled already" : "it is disabled already"};
  isEnabled_ = on;
  if (on) {
    last_.reset();
    delay_.reset(exceeded_);
    look(moment);
  }
  answered({}, user, (on ? "enabled by " : "disabled by ") + user.str(), moment);
  return {};
}

Event Alarm::event() const {
  const Space& space = space_;
  Event out(space.typeDefinition(node_), inputs_[0]);
  for (const auto& field : fields_) out.set(field.path, space.value(field.node).value);
  out.set("ConditionId", Variant(space.nodeId(node_)));
  return out;
}

void Alarm::takeOver(const Alarm& before) {
  isEnabled_ = before.isEnabled_;
  judged_ = before.judged_;
  exceeded_ = before.exceeded_;
  isAcknowledged_ = before.isAcknowledged_;
  isConfirmed_ = before.isConfirmed_;
  severity_ = before.severity_;
  lastSeverity_ = before.lastSeverity_;
  quality_ = before.quality_;
  delay_ = before.delay_;
  eventIds_ = before.eventIds_;
  reason_ = before.reason_;
  last_ = before.last_;
  rate_ = before.rate_;
}

}  // namespace zunth::alarm
