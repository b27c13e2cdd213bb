#include "core/alarm/alarm.hpp"

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

constexpr std::size_t kMostIdsKept = 32;

template <class T>
std::optional<T> valueAt(const Space& space, NodeIndex variable) {
  if (variable == kNoNode) return std::nullopt;
  const DataValue held = space.value(variable);
  const auto* value = held.value.get<T>();
  return value ? std::optional<T>(*value) : std::nullopt;
}

NodeIndex variableOf(const Space& space, NodeIndex property) {
  const auto id = valueAt<NodeId>(space, property);
  const NodeIndex target = id && !id->isNull() ? space.find(*id) : kNoNode;
  return target != kNoNode && space.nodeClass(target) == NodeClass::Variable ? target : kNoNode;
}

/// When it happened: what the device says, if that can be.
DateTime timeOf(const DataValue& value, DateTime wallClock) {
  constexpr std::int64_t kSecond = 10'000'000, kYear = 366 * 86'400 * kSecond;
  const auto ticks = value.sourceTimestamp.ticks;
  const bool canBe = ticks <= wallClock.ticks + 60 * kSecond && ticks >= wallClock.ticks - kYear;
  return canBe ? value.sourceTimestamp : wallClock;
}

/// What somebody has put aside is of interest, too, though nothing is wrong: it has to be put back.
bool isPutAside(const ConditionState& state) {
  return state.enabled.is &&
         (state.shelved != Shelved::No || state.outOfService.is || (state.suppressions & kByOperator));
}

int rank(const std::optional<LimitLevel>& level) {
  return !level ? 0 : *level == LimitLevel::HighHigh || *level == LimitLevel::LowLow ? 2 : 1;
}

}  // namespace

std::unique_ptr<Alarm> Alarm::from(Space& space, NodeIndex node, Layouts& layouts) {
  const NodeIndex type = space.typeDefinition(node);
  if (type == kNoNode) return nullptr;
  const bool isDialog = space.isSubtype(type, id::DialogConditionType);
  const bool isAlarm = space.isSubtype(type, id::AlarmConditionType);
  if (!isDialog && !isAlarm && !space::isPlainCondition(space, type)) return nullptr;
  std::unique_ptr<Alarm> out(new Alarm(space, node));
  out->isDialog_ = isDialog;
  out->judge_ = Judge::from(space, node);
  // Whoever has another way to say it looks after it, too.
  if (!isDialog && !isAlarm && !out->judge_) return nullptr;
  out->fields_ = layouts.of(space, node);
  const auto field = [&](const char* name) { return space.child(node, {0, name}); };
  out->source_ = out->judge_ ? out->judge_->inputs()[0] : variableOf(space, field("InputNode"));
  if (out->source_ == kNoNode) out->source_ = space.parent(node);
  if (out->source_ == kNoNode) return nullptr;
  if (const NodeIndex own = space::ownProperty(space, node, space::kSuppressedWhile); own != kNoNode)
    out->suppressor_ = variableOf(space, own);
  if (const auto text = valueAt<LocalizedText>(space, space::ownProperty(space, node, space::kActiveMessage)))
    out->activeMessage_ = *text;
  if (isDialog) out->activeMessage_ = valueAt<LocalizedText>(space, field("Prompt")).value_or(LocalizedText());
  out->mostBranches_ = valueAt<std::uint16_t>(space, space::ownProperty(space, node, space::kMostBranches)).value_or(0);
  out->maxTimeShelved_ = field("MaxTimeShelved");
  out->reAlarmTime_ = field("ReAlarmTime");
  out->class_ = valueAt<NodeId>(space, field("ConditionClassId")).value_or(NodeId());
  out->className_ = valueAt<LocalizedText>(space, field("ConditionClassName")).value_or(LocalizedText());
  if (out->class_.isNull()) {
    out->class_ = id::ProcessConditionClassType;
    out->className_ = english("Process");
  }
  out->isConfirmed_ = field("ConfirmedState") != kNoNode;
  out->isLatching_ = field("LatchedState") != kNoNode;
  if (const double severity = out->numberAt(field("Severity"), 0); severity >= 1 && severity <= 1000)
    out->usualSeverity_ = static_cast<std::uint16_t>(severity);
  out->state_.severity = out->state_.lastSeverity = out->usualSeverity_;
  return out;
}

std::vector<NodeIndex> Alarm::inputs() const {
  std::vector<NodeIndex> out;
  if (judge_) out = judge_->inputs();
  if (suppressor_ != kNoNode) out.push_back(suppressor_);
  return out;
}

NodeIndex Alarm::unshelveTimeNode() const {
  const NodeIndex machine = space_.child(node_, {0, "ShelvingState"});
  return machine == kNoNode ? kNoNode : space_.child(machine, {0, "UnshelveTime"});
}

DataValue Alarm::unshelveTime(DateTime now) const {
  static const auto row = std::ranges::find(stateFields(), "ShelvingState/UnshelveTime", &StateField::path);
  About told;
  told.now = now;
  return DataValue(row->of(state_, told), now);
}

LocalizedText Alarm::reasonOf(const ConditionState& state) const {
  const bool isOwnText =
      (state.active.is || state.asked.is) && !activeMessage_.text.empty() && judge_ && !state.quality.isBad();
  return isOwnText ? activeMessage_ : english(state.reason);
}

double Alarm::numberAt(NodeIndex field, double otherwise) const {
  double number = 0;
  return field != kNoNode && space_.value(field).value.toDouble(number) ? number : otherwise;
}

Instant Alarm::due() const {
  Instant out = std::min(remindAt_, shelfEndsAt_);
  // A bad value says nothing: what waits for its delay waits for a good one.
  if (judge_ && state_.enabled.is && !state_.quality.isBad()) out = std::min(out, judge_->due());
  return out;
}

void Alarm::begin(const Moment& moment) {
  if (state_.eventIds.empty()) {
    // What has not changed yet is as old as the alarm.
    for (TwoState* part : {&state_.enabled, &state_.active, &state_.acknowledged, &state_.confirmed, &state_.suppressed,
                           &state_.outOfService, &state_.silenced, &state_.latched, &state_.asked})
      part->since = moment.wallClock;
    state_.levelSince.fill(moment.wallClock);
    state_.severitySince = state_.qualitySince = state_.commentSince = state_.shelvedSince = moment.wallClock;
    state_.time = state_.receiveTime = moment.wallClock;
    if (judge_) state_.quality = space_.value(source_).status;
    state_.reason = judge_ ? judge_->message(0, state_.quality) : std::string();
    state_.message = english(state_.reason);
    state_.eventIds.push_back(moment.newEventId());
  }
  show(valuesOf(state_, moment.wallClock), moment.wallClock);
  if (suppressor_ != kNoNode) take(suppressor_, space_.value(suppressor_), moment);
  if (judge_) look(space_.value(source_), moment);
}

void Alarm::take(NodeIndex variable, const DataValue& value, const Moment& moment) {
  if (variable == suppressor_) {
    const auto* flag = value.value.get<bool>();
    if (flag && !value.status.isBad()) suppressFor(kByDesign, *flag, moment);
  }
  if (!judge_) return;
  if (variable == source_)
    look(value, moment);
  else if (std::ranges::find(judge_->inputs(), variable) != judge_->inputs().end())
    look(space_.value(source_), moment);
}

void Alarm::tick(const Moment& moment) {
  if (moment.now >= shelfEndsAt_) {
    putOnShelf(Shelved::No, 0, moment);
    note(fmt::format("{} (its time on the shelf is over)", reasonOf(state_).text.view()), moment);
  }
  if (moment.now >= remindAt_) remind(moment);
  if (judge_ && state_.enabled.is && !state_.quality.isBad() && moment.now >= judge_->due())
    if (const Exceeded exceeded = judge_->lookAgain(moment.now); exceeded != state_.exceeded)
      becomes(exceeded, judge_->message(exceeded, state_.quality), moment.wallClock, moment);
}

void Alarm::set(bool active, std::uint16_t severity, const std::string& why, const Moment& moment) {
  if (!state_.enabled.is) return;
  if (severity > 0) usualSeverity_ = std::min<std::uint16_t>(severity, 1000);
  const Exceeded exceeded = active ? 1 : 0;
  if (!active && !state_.active.is) {
    state_.reason = why;
    return;
  }
  if (exceeded == state_.exceeded && why == state_.reason) return;
  becomes(exceeded, why, moment.wallClock, moment);
}

void Alarm::look(const DataValue& value, const Moment& moment) {
  if (!state_.enabled.is) return;
  const StatusCode quality = value.status, before = state_.quality;
  const bool isOtherQuality = quality.isBad() != before.isBad() || quality.isUncertain() != before.isUncertain();
  const DateTime time = timeOf(value, moment.wallClock);
  state_.quality = quality;
  if (isOtherQuality) state_.qualitySince = time;
  // A bad value says nothing of the plant: how the alarm stands stays, its quality tells.
  const Exceeded exceeded = quality.isBad() ? state_.exceeded : judge_->look(value, moment.now, moment.wallClock);
  const bool saysOther =
      exceeded && judge_->repeats() && !quality.isBad() && judge_->message(exceeded, quality) != state_.reason;
  if (exceeded != state_.exceeded || saysOther)
    return becomes(exceeded, judge_->message(exceeded, quality), time, moment);
  if (!isOtherQuality || quality == status::BadWaitingForInitialData) return;
  state_.reason = judge_->message(exceeded, quality);
  if (before == status::BadWaitingForInitialData && !state_.isOfInterest()) {
    // Its first value is as it should be: there is nothing to tell.
    state_.message = english(state_.reason);
    return show(valuesOf(state_, moment.wallClock), moment.wallClock);
  }
  tell(state_, {}, time, moment);
}

/// It comes, goes, or is another than it was.
void Alarm::becomes(Exceeded exceeded, const std::string& why, DateTime time, const Moment& moment) {
  if (isDialog_) return asks(exceeded, time, moment);
  const Exceeded before = state_.exceeded;
  const auto worstBefore = outermost(before), worst = outermost(exceeded);
  if (!before && exceeded) comes(time, moment);
  state_.exceeded = exceeded;
  state_.levelBefore = worstBefore;
  for (std::size_t i = 0; i < space::kLimitLevels; ++i)
    if ((exceeded ^ before) & (1u << i)) state_.levelSince[i] = time;
  state_.active.set(exceeded != 0, time);
  // It is to be acknowledged when it comes, and again when it becomes worse or is another.
  const bool isAnother = exceeded && exceeded == before && judge_ && judge_->repeats();
  if (((exceeded & ~before) && rank(worst) >= rank(worstBefore)) || isAnother) {
    state_.acknowledged.set(false, time);
    state_.confirmed.set(true, time);
    state_.eventIds.clear();
  }
  if (before && !exceeded) {
    remindAt_ = Instant::max();
    if (state_.shelved == Shelved::OneShot) putOnShelf(Shelved::No, 0, moment);
  }
  if (!before != !exceeded) moment.moved(*this);
  state_.reason = why;
  tell(state_, {}, time, moment);
}

/// A dialog asks when its reason comes, once; when that goes before anybody has answered, nobody has to any more.
void Alarm::asks(Exceeded exceeded, DateTime time, const Moment& moment) {
  state_.exceeded = exceeded;
  if (!state_.asked.set(exceeded != 0, time)) return;
  if (exceeded) {
    state_.comment = {};
    state_.commentator = {};
  }
  state_.reason = exceeded ? judge_->message(exceeded, state_.quality) : "nobody has to answer any more";
  tell(state_, {}, time, moment);
}

/// What was said of the last time is over; what of it waits for somebody goes on as a branch (Part 9, 5.5.2).
void Alarm::comes(DateTime time, const Moment& moment) {
  if (mostBranches_ > 0 && (!state_.acknowledged.is || !state_.confirmed.is)) {
    if (branches_.size() >= mostBranches_) endBranch(0, "given up for a newer one", moment);
    ConditionState branch = state_;
    branch.branchId = NodeId(1, moment.newEventId());
    branch.latched.is = false;
    branches_.push_back(std::move(branch));
    tell(branches_.back(), fmt::format("{} (it has come again since)", state_.reason), time, moment);
  }
  state_.comment = {};
  state_.commentator = {};
  state_.isFirstInGroup = false;
  state_.reAlarms = 0;
  state_.silenced.set(false, time);
  if (isLatching_) state_.latched.set(true, time);
  remindAt_ = nextReminder(moment.now);
}

/// When it reminds, from now; once a second at most.
Instant Alarm::nextReminder(Instant now) const {
  const double again = numberAt(reAlarmTime_, 0);
  return again > 0 ? now + milliseconds(std::max(again, 1000.0)) : Instant::max();
}

/// Part 9, 5.8.2, ReAlarmTime: it has been there for so long that it is as if it came anew.
void Alarm::remind(const Moment& moment) {
  remindAt_ = nextReminder(moment.now);
  if (!state_.enabled.is || !state_.active.is || remindAt_ == Instant::max()) return;
  if (state_.reAlarms < INT16_MAX) ++state_.reAlarms;
  state_.acknowledged.set(false, moment.wallClock);
  state_.confirmed.set(true, moment.wallClock);
  state_.silenced.set(false, moment.wallClock);
  state_.active.since = moment.wallClock;
  moment.moved(*this);
  tell(state_, fmt::format("{} (still, for the {}. time)", reasonOf(state_).text.view(), state_.reAlarms + 1),
       moment.wallClock, moment);
}

void Alarm::endBranch(std::size_t at, const std::string& why, const Moment& moment) {
  ConditionState& branch = branches_[at];
  branch.acknowledged.is = branch.confirmed.is = true;
  tell(branch, fmt::format("{} ({})", branch.reason, why), moment.wallClock, moment);
  branches_.erase(branches_.begin() + static_cast<std::ptrdiff_t>(at));
}

void Alarm::leave(const Moment& moment) {
  while (!branches_.empty()) endBranch(0, "the alarm was taken out of the model", moment);
  if (!state_.retain) return;
  state_.enabled.is = false;
  tell(state_, "the alarm was taken out of the model", moment.wallClock, moment);
}

void Alarm::tell(ConditionState& state, const std::string& message, DateTime time, const Moment& moment) {
  state.eventIds.push_back(moment.newEventId());
  if (state.eventIds.size() > kMostIdsKept) state.eventIds.erase(state.eventIds.begin());
  const bool isTrunk = &state == &state_;
  if (isTrunk && state.active.is) {
    const auto severity = judge_ ? judge_->severityOf(state.exceeded, usualSeverity_) : usualSeverity_;
    if (severity != state.severity) {
      state.lastSeverity = std::exchange(state.severity, severity);
      state.severitySince = time;
    }
  }
  state.message = message.empty() ? reasonOf(state) : english(message);
  state.time = time;
  state.receiveTime = moment.wallClock;
  state.retain = state.isOfInterest() || (isTrunk && isPutAside(state));
  auto values = valuesOf(state, moment.wallClock);
  if (isTrunk) show(values, moment.wallClock);
  moment.raise(eventOf(std::move(values)));
}

About Alarm::about(DateTime now) const {
  About out;
  out.eventType = space_.nodeId(space_.typeDefinition(node_));
  out.sourceNode = space_.nodeId(source_);
  out.sourceName = String(space_.path(source_));
  out.conditionName = String(space_.name(node_));
  out.conditionClass = class_;
  out.className = className_;
  out.hasLimits = judge_ && judge_->hasLimits();
  out.isDialog = isDialog_;
  out.now = now;
  return out;
}

/// What each of its fields holds: made once for the nodes that show it and the event that tells it.
std::vector<Variant> Alarm::valuesOf(const ConditionState& state, DateTime now) const {
  const About told = about(now);
  const auto fields = stateFields();
  std::vector<Variant> out;
  out.reserve(fields_.nodes.size());
  for (std::size_t i = 0; i < fields_.nodes.size(); ++i) {
    const NodeIndex node = fields_.nodes[i];
    const std::size_t row = fields_.layout->states[i];
    if (row != Layout::kOther)
      out.push_back(fields[row].of(state, told));
    else
      out.push_back(node == kNoNode       ? Variant(space_.nodeId(node_))
                    : space_.exists(node) ? space_.value(node).value
                                          : Variant());
  }
  return out;
}

/// Writes them into its nodes, as far as they are others there.
void Alarm::show(const std::vector<Variant>& values, DateTime now) {
  for (std::size_t i = 0; i < values.size(); ++i) {
    const NodeIndex node = fields_.nodes[i];
    if (node == kNoNode || fields_.layout->states[i] == Layout::kOther || space_.hasSource(node)) continue;
    if (!(space_.value(node).value == values[i])) space_.setValue(node, DataValue(values[i], now));
  }
}

Event Alarm::eventOf(std::vector<Variant> values) const {
  return {space_.typeDefinition(node_), source_, fields_.layout->names, std::move(values)};
}

Event Alarm::event(const ConditionState& state, DateTime now) const { return eventOf(valuesOf(state, now)); }

void Alarm::takeOver(const Alarm& before) {
  state_ = before.state_;
  branches_ = before.branches_;
  remindAt_ = before.remindAt_;
  shelfEndsAt_ = before.shelfEndsAt_;
  if (judge_ && before.judge_) judge_->takeOver(*before.judge_);
}

void Alarm::restore(ConditionState state, std::vector<ConditionState> branches, bool wasToldGone,
                    const Moment& moment) {
  state_ = std::move(state);
  branches_ = std::move(branches);
  if (judge_) judge_->reset(state_.exceeded);
  if (!state_.shelvedUntil.isNull() && state_.shelved != Shelved::No)
    shelfEndsAt_ =
        moment.now + milliseconds(static_cast<double>(state_.shelvedUntil.ticks - moment.wallClock.ticks) / 1e4);
  if (state_.active.is) remindAt_ = nextReminder(moment.now);
  if (wasToldGone && state_.retain) tell(state_, state_.message.text.str(), state_.time, moment);
}

}  // namespace zunth::alarm
