#include "core/alarm/judge.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"

#include <cmath>

#include <fmt/format.h>

namespace zunth::alarm {

using namespace ua;
using space::kNoNode;
using space::LimitLevel;
using space::NodeIndex;
using space::Space;

namespace {

constexpr std::size_t kLongestText = 1'000;  // octets of what somebody says, as a message

/// The variable that a property names.
NodeIndex variableNamed(const Space& space, NodeIndex property) {
  if (property == kNoNode) return kNoNode;
  const DataValue held = space.value(property);
  const auto* id = held.value.get<NodeId>();
  const NodeIndex target = id && !id->isNull() ? space.find(*id) : kNoNode;
  return target != kNoNode && space.nodeClass(target) == NodeClass::Variable ? target : kNoNode;
}

NodeIndex targetOf(const Space& space, NodeIndex alarm, const char* name) {
  return variableNamed(space, space.child(alarm, {0, name}, id::HasProperty));
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

std::string_view textOf(const Variant& value) {
  if (const auto* text = value.get<LocalizedText>()) return text->text.view();
  const auto* text = value.get<String>();
  return text ? text->view() : std::string_view();
}

/// Its object's name says enough: where that is, the source tells.
std::string shortPath(const Space& space, NodeIndex node) {
  const NodeIndex above = space.parent(node);
  return (above == kNoNode ? "" : std::string(space.name(above)) + "/") + std::string(space.name(node));
}

}  // namespace

std::optional<Judge> Judge::from(const Space& space, NodeIndex alarm) {
  const NodeIndex type = space.typeDefinition(alarm);
  const auto is = [&](StandardId kind) { return space.isSubtype(type, kind); };
  if (type == kNoNode) return std::nullopt;
  const bool isDialog = is(id::DialogConditionType);
  const bool isPlain = space::isPlainCondition(space, type);
  if (!isDialog && !isPlain && !is(id::AlarmConditionType)) return std::nullopt;
  const NodeIndex input =
      isDialog || isPlain
          ? variableNamed(space, space::ownProperty(space, alarm, isPlain ? space::kSaidBy : space::kAskedBy))
          : targetOf(space, alarm, "InputNode");
  // An alarm that watches how others stand could make them change, and they it, without an end.
  if (input == kNoNode || space::isConditionState(space, input)) return std::nullopt;
  Kind kind = Kind::Level;
  NodeIndex other = kNoNode;
  const auto needs = [&](Kind which, NodeIndex node) {
    kind = which;
    other = node;
    return node != kNoNode;
  };
  bool isWhole = true;
  if (is(id::ExclusiveDeviationAlarmType) || is(id::NonExclusiveDeviationAlarmType))
    isWhole = needs(Kind::Deviation, targetOf(space, alarm, "SetpointNode"));
  else if (is(id::ExclusiveRateOfChangeAlarmType) || is(id::NonExclusiveRateOfChangeAlarmType))
    kind = Kind::Rate;
  else if (is(id::OffNormalAlarmType))
    isWhole = needs(Kind::OffNormal, targetOf(space, alarm, "NormalState"));
  else if (is(id::DiscrepancyAlarmType))
    isWhole = needs(Kind::Discrepancy, targetOf(space, alarm, "TargetValueNode"));
  else if (isDialog || is(id::DiscreteAlarmType))
    isWhole = needs(Kind::Discrete, space::ownProperty(space, alarm, space::kActiveValue));
  else if (isPlain)
    kind = Kind::Text;
  else
    isWhole = is(id::LimitAlarmType);
  if (!isWhole) return std::nullopt;
  Judge out(space, kind);
  out.isExclusive_ = !is(id::NonExclusiveLimitAlarmType);
  out.inputs_.push_back(input);
  if (other != kNoNode) out.inputs_.push_back(other);
  out.findSettings(alarm);
  return out;
}

/// Where what decides about values is found, so that a value that changes needs no search.
void Judge::findSettings(NodeIndex alarm) {
  const auto field = [&](const std::string& name) { return space_->child(alarm, {0, String(name)}); };
  for (std::size_t i = 0; i < space::kLimitLevels; ++i) {
    const std::string level(nameOf(static_cast<LimitLevel>(i)));
    levels_[i] = {field(level + "Limit"), field(level + "Deadband"), field("Severity" + level)};
  }
  onDelay_ = field("OnDelay");
  offDelay_ = field("OffDelay");
  expectedTime_ = field("ExpectedTime");
  tolerance_ = field("Tolerance");
}

double Judge::numberAt(NodeIndex field, double otherwise) const {
  double number = 0;
  return field != kNoNode && space_->value(field).value.toDouble(number) ? number : otherwise;
}

Limits Judge::limits() const {
  Limits out;
  for (std::size_t i = 0; i < space::kLimitLevels; ++i) {
    const double limit = numberAt(levels_[i].limit, NAN);
    if (!std::isnan(limit)) out.levels[i] = Limits::One{limit, std::abs(numberAt(levels_[i].deadband, 0))};
  }
  return out;
}

/// The number that is held against the limits; nothing when there is none yet.
std::optional<double> Judge::measured(const DataValue& value, DateTime wallClock) {
  double number = 0;
  if (!value.value.toDouble(number)) return std::nullopt;
  if (kind_ == Kind::Deviation) {
    double goal = 0;
    if (!space_->value(inputs_[1]).value.toDouble(goal)) return std::nullopt;
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

/// Whether a value is not what it should be, by more than is tolerated.
bool Judge::differs(const Variant& value, const Variant& goal) const {
  double is = 0, should = 0;
  if (value.toDouble(is) && goal.toDouble(should)) return std::abs(is - should) > std::abs(numberAt(tolerance_, 0));
  return !(value == goal);
}

Exceeded Judge::seen(const DataValue& value, DateTime wallClock) {
  if (repeats()) return textOf(value.value).empty() ? Exceeded{0} : Exceeded{1};
  if (!hasLimits()) {
    const DataValue other = space_->value(inputs_[1]);
    // Without what it is compared with nothing can be said.
    if (value.value.isNull() || other.value.isNull() || other.status.isBad()) return counts_;
    if (kind_ == Kind::Discrepancy) return differs(value.value, other.value) ? Exceeded{1} : Exceeded{0};
    return (other.value == value.value) == (kind_ == Kind::Discrete) ? Exceeded{1} : Exceeded{0};
  }
  const auto number = measured(value, wallClock);
  if (!number) return counts_;
  judged_ = judge(limits(), *number, judged_);
  const auto worst = outermost(judged_);
  return isExclusive_ ? (worst ? bitOf(*worst) : Exceeded{0}) : judged_;
}

Exceeded Judge::look(const DataValue& value, Instant now, DateTime wallClock) {
  seen_ = seen(value, wallClock);
  if (kind_ == Kind::Discrepancy) {
    // The time that it may take begins anew with each target.
    if (const Variant goal = space_->value(inputs_[1]).value; !(goal == goal_)) {
      goal_ = goal;
      if (!counts_) settle(0, now);
    }
  }
  return settle(seen_, now);
}

Exceeded Judge::lookAgain(Instant now) { return settle(seen_, now); }

Exceeded Judge::settle(Exceeded seen, Instant now) {
  const double onDelay = numberAt(onDelay_, 0) + (kind_ == Kind::Discrepancy ? numberAt(expectedTime_, 0) : 0);
  counts_ = delay_.settle(seen, now, onDelay, numberAt(offDelay_, 0));
  return counts_;
}

void Judge::reset(Exceeded counts) {
  last_.reset();
  judged_ = counts_ = seen_ = counts;
  delay_.reset(counts);
}

std::uint16_t Judge::severityOf(Exceeded exceeded, std::uint16_t usual) const {
  const auto worst = outermost(exceeded);
  const double severity = worst ? numberAt(levels_[static_cast<std::size_t>(*worst)].severity, 0) : 0;
  return severity >= 1 && severity <= 1000 ? static_cast<std::uint16_t>(severity) : usual;
}

std::string Judge::valueText(NodeIndex variable) const {
  const DataValue value = space_->value(variable);
  if (const auto* flag = value.value.get<bool>()) {
    const NodeIndex words = space_->child(variable, {0, *flag ? "TrueState" : "FalseState"}, id::HasProperty);
    if (words != kNoNode)
      if (const auto held = space_->value(words); held.value.get<LocalizedText>())
        return held.value.get<LocalizedText>()->text.str();
    return *flag ? "true" : "false";
  }
  if (const auto name = space::enumerationName(*space_, space_->traits(variable).dataType, value.value))
    return name->str();
  double number = 0;
  return value.value.toDouble(number) ? fmt::format("{:.6g}", number) : format(value.value, {100, 8});
}

std::string Judge::message(Exceeded exceeded, StatusCode quality) const {
  const std::string name = shortPath(*space_, inputs_[0]);
  if (quality.isBad())
    return fmt::format("{} is not known ({}){}", name, quality.name(), exceeded ? "; the alarm stands" : "");
  if (repeats()) {
    const std::string text(cut(textOf(space_->value(inputs_[0]).value), kLongestText));
    return text.empty() ? fmt::format("{} says nothing any more", name) : text;
  }
  if (!exceeded) return fmt::format("{} is normal: {}", name, valueText(inputs_[0]));
  const auto worst = outermost(exceeded);
  const double limit = numberAt(levels_[static_cast<std::size_t>(*worst)].limit, 0);
  switch (kind_) {
    case Kind::Level:
      return fmt::format("{} is {}: {}, the limit is {:.6g}", name, wordsFor(*worst), valueText(inputs_[0]), limit);
    case Kind::Deviation:
      return fmt::format("{} is {} beside what it should be: {}, the limit is {:.6g} from {}", name, wordsFor(*worst),
                         valueText(inputs_[0]), limit, shortPath(*space_, inputs_[1]));
    case Kind::Rate:
      return fmt::format("{} changes by {:.6g} a second, the limit is {:.6g}", name, rate_.value_or(0), limit);
    case Kind::Discrepancy:
      return fmt::format("{} is {} and should be {} by now", name, valueText(inputs_[0]), valueText(inputs_[1]));
    case Kind::Text:
    case Kind::Discrete:
    case Kind::OffNormal: return fmt::format("{} is {}", name, valueText(inputs_[0]));
  }
  return name;
}

void Judge::takeOver(const Judge& before) {
  judged_ = before.judged_;
  counts_ = before.counts_;
  seen_ = before.seen_;
  delay_ = before.delay_;
  last_ = before.last_;
  rate_ = before.rate_;
  goal_ = before.goal_;
}

}  // namespace zunth::alarm
