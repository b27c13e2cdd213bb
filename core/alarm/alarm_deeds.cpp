// What people do to an alarm (Part 9, 5.5 to 5.8).
#include "core/alarm/alarm.hpp"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace zunth::alarm {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

Answer Alarm::checkEnabled() const {
  if (state_.enabled.is) return {};
  return {status::BadConditionDisabled, "the condition is disabled"};
}

ConditionState* Alarm::stateOf(const ByteString& eventId) {
  const auto knows = [&](const ConditionState& state) {
    return std::ranges::find(state.eventIds, eventId) != state.eventIds.end();
  };
  if (knows(state_)) return &state_;
  const auto branch = std::ranges::find_if(branches_, knows);
  return branch == branches_.end() ? nullptr : &*branch;
}

namespace {

const Answer kNoSuchEvent{status::BadEventIdUnknown,
                          "that event is not of how the condition stands now: take its newest"};

}  // namespace

Answer Alarm::acknowledge(const ByteString& eventId, const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  ConditionState* state = stateOf(eventId);
  if (!state) return kNoSuchEvent;
  if (state->acknowledged.is) return {status::BadConditionBranchAlreadyAcked, "somebody has acknowledged it already"};
  state->acknowledged.set(true, moment.wallClock);
  state->confirmed.set(!isConfirmed_, moment.wallClock);
  answered(*state, who, "acknowledged by " + who.user.str(), moment);
  return {};
}

Answer Alarm::confirm(const ByteString& eventId, const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  ConditionState* state = stateOf(eventId);
  if (!state) return kNoSuchEvent;
  if (state->confirmed.is)
    return {status::BadConditionBranchAlreadyConfirmed, "there is nothing to confirm: it is acknowledged first"};
  state->confirmed.set(true, moment.wallClock);
  answered(*state, who, "confirmed by " + who.user.str(), moment);
  return {};
}

Answer Alarm::addComment(const ByteString& eventId, const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  ConditionState* state = stateOf(eventId);
  if (!state) return kNoSuchEvent;
  answered(*state, who, who.user.str() + ": " + who.comment.text.str(), moment);
  return {};
}

Answer Alarm::enable(bool on, const Who& who, const Moment& moment) {
  if (on == state_.enabled.is)
    return {on ? status::BadConditionAlreadyEnabled : status::BadConditionAlreadyDisabled,
            on ? "it is enabled already" : "it is disabled already"};
  state_.enabled.set(on, moment.wallClock);
  for (auto& branch : branches_) branch.enabled = state_.enabled;
  done(who, on ? "enabled" : "disabled", moment);
  if (on && judge_) {
    judge_->reset(state_.exceeded);
    look(space_.value(source_), moment);
  }
  return {};
}

/// Part 9, 5.8.17: what puts it on the shelf, or takes it from there.
void Alarm::putOnShelf(Shelved how, double forSoLong, const Moment& moment) {
  state_.shelvedBefore = std::exchange(state_.shelved, how);
  state_.shelvedSince = moment.wallClock;
  shelfEndsAt_ = Instant::max();
  state_.shelvedUntil = {};
  if (how == Shelved::No || !(forSoLong > 0)) return;
  // What lasts longer than the calendar ends with it.
  constexpr double kMost = 100.0 * 365 * 86'400'000;
  forSoLong = std::min(forSoLong, kMost);
  shelfEndsAt_ = moment.now + milliseconds(forSoLong);
  state_.shelvedUntil.ticks = moment.wallClock.ticks + static_cast<std::int64_t>(forSoLong * 1e4);
}

Answer Alarm::shelve(double forSoLong, const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  const double most = numberAt(maxTimeShelved_, 0);
  if (!(forSoLong > 0)) return {status::BadShelvingTimeOutOfRange, "an alarm is shelved for longer than no time"};
  if (most > 0 && forSoLong > most)
    return {status::BadShelvingTimeOutOfRange, fmt::format("it is shelved for {:.6g} min at most", most / 60'000)};
  if (state_.shelved == Shelved::Timed)
    return {status::BadConditionAlreadyShelved, "it is on the shelf already: unshelve it for another time"};
  putOnShelf(Shelved::Timed, forSoLong, moment);
  return done(who, fmt::format("shelved for {:.4g} min", forSoLong / 60'000), moment);
}

Answer Alarm::shelveOnce(const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  if (state_.shelved == Shelved::OneShot)
    return {status::BadConditionAlreadyShelved, "it is on the shelf already, until it goes"};
  putOnShelf(Shelved::OneShot, numberAt(maxTimeShelved_, 0), moment);
  return done(who, "shelved until it goes", moment);
}

Answer Alarm::unshelve(const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  if (state_.shelved == Shelved::No) return {status::BadConditionNotShelved, "it is not on the shelf"};
  putOnShelf(Shelved::No, 0, moment);
  return done(who, "taken from the shelf", moment);
}

Answer Alarm::suppress(bool on, const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  // Who unsuppresses it means it, whatever has suppressed it (Part 9, 5.8.6).
  state_.suppressions = on ? state_.suppressions | kByOperator : 0;
  if (!state_.suppressed.set(on, moment.wallClock)) return {};
  return done(who, on ? "suppressed" : "unsuppressed", moment);
}

void Alarm::suppressFor(Suppression why, bool on, const Moment& moment) {
  const auto before = state_.suppressions;
  state_.suppressions = static_cast<std::uint8_t>(on ? before | why : before & ~why);
  if (!state_.suppressed.set(state_.suppressions != 0, moment.wallClock)) return;
  const char* by = why == kByGroup ? "by its group" : "by the plant";
  note(fmt::format("{} ({} {})", reasonOf(state_).text.view(), on ? "suppressed" : "unsuppressed", by), moment);
}

/// What happens to it by itself; a disabled one is silent.
void Alarm::note(const std::string& message, const Moment& moment) {
  if (state_.enabled.is)
    tell(state_, message, moment.wallClock, moment);
  else
    show(valuesOf(state_, moment.wallClock), moment.wallClock);
}

Answer Alarm::serve(bool on, const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  if (!state_.outOfService.set(!on, moment.wallClock)) return {};
  return done(who, on ? "placed in service" : "removed from service", moment);
}

Answer Alarm::silence(const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  if (!state_.silenced.set(true, moment.wallClock)) return {};
  return done(who, "silenced", moment);
}

/// Part 9, 5.8.5: only of what has come, gone and been acknowledged.
Answer Alarm::reset(const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  const char* why = !state_.latched.is        ? "it is not latched"
                    : state_.active.is        ? "it is still active"
                    : !state_.acknowledged.is ? "it is acknowledged first"
                    : !state_.confirmed.is    ? "it is confirmed first"
                                              : nullptr;
  if (why) return {status::BadInvalidState, why};
  state_.latched.set(false, moment.wallClock);
  return done(who, "reset", moment);
}

Answer Alarm::respond(std::int32_t option, const Who& who, const Moment& moment) {
  if (auto answer = checkEnabled(); answer.code.isBad()) return answer;
  if (!state_.asked.is) return {status::BadDialogNotActive, "nothing is asked now, or somebody has answered"};
  const NodeIndex field = space_.child(node_, {0, "ResponseOptionSet"});
  const DataValue held = field == kNoNode ? DataValue() : space_.value(field);
  const auto options = held.value.items<LocalizedText>();
  if (option < 0 || static_cast<std::size_t>(option) >= options.size())
    return {status::BadDialogResponseInvalid, fmt::format("the answers are 0 to {}", options.size() - 1)};
  const std::string said = fmt::format("{}: {}", reasonOf(state_).text.view(), options[option].text.view());
  state_.asked.set(false, moment.wallClock);
  state_.lastResponse = option;
  state_.reason = said;
  return done(who, "answered", moment);
}

/// What somebody said or did, and the event that tells it beside why the alarm came.
void Alarm::answered(ConditionState& state, const Who& who, const std::string& how, const Moment& moment) {
  // Part 9, 5.5.6: an empty comment leaves the one that is there.
  if (!who.comment.text.isNull()) {
    state.comment = who.comment;
    state.commentSince = moment.wallClock;
  }
  state.commentator = who.user;
  tell(state, state.reason.empty() ? how : fmt::format("{} ({})", reasonOf(state).text.view(), how), moment.wallClock,
       moment);
  // A branch that waits for nobody any more has said its last word.
  if (!state.branchId.isNull() && !state.retain)
    std::erase_if(branches_, [&](const ConditionState& branch) { return &branch == &state; });
}

Answer Alarm::done(const Who& who, const std::string& how, const Moment& moment) {
  answered(state_, who, fmt::format("{} by {}", how, who.user.str()), moment);
  return {};
}

}  // namespace zunth::alarm
