#pragma once

#include "core/alarm/fields.hpp"
#include "core/alarm/judge.hpp"
#include "core/ua/due_heap.hpp"

namespace zunth::alarm {

/// What a client's call of a condition's method came to.
struct Answer {
  ua::StatusCode code;
  std::string cause;
  std::vector<ua::Variant> outputs = {};
};

/// Something that happened at a time, and where what it leads to is told. Ids of events are made by whoever makes them
/// unique.
struct Moment {
  ua::Instant now;
  ua::DateTime wallClock;
  const std::function<ua::ByteString()>& newEventId;
  const std::function<void(monitor::Event)>& raise;
  /// Told of an alarm that has come or gone, before anybody hears of it.
  const std::function<void(class Alarm&)>& moved;
};

/// One alarm of the address space (Part 9, 5.8): judges the values of its variable, or is set by whoever knows, and
/// shows in its own nodes how it stands. A dialog (Part 9, 5.6) is one that asks instead of warning, and a plain
/// condition (5.7) says what a program has to say. What of the optional parts of the standard it has is what it has
/// nodes for.
class Alarm : public ua::Due {
 public:
  /// Nothing for an object that is no alarm.
  static std::unique_ptr<Alarm> from(space::Space& space, space::NodeIndex node, Layouts& layouts);

  space::NodeIndex node() const { return node_; }
  const ConditionState& state() const { return state_; }
  const std::vector<ConditionState>& branches() const { return branches_; }
  /// The variables whose values matter to it: the watched one first, then what it is compared with, then what
  /// suppresses it.
  std::vector<space::NodeIndex> inputs() const;
  /// Whether it judges values, or is set by whoever knows.
  bool judges() const { return judge_.has_value(); }
  /// When it has to look again, though nothing comes: a delay, a shelf, or a reminder.
  ua::Instant due() const;

  /// Shows how it stands, without telling anybody, once it is there.
  void begin(const Moment& moment);
  /// A variable that matters to it has this value.
  void take(space::NodeIndex variable, const ua::DataValue& value, const Moment& moment);
  /// Something is due.
  void tick(const Moment& moment);
  /// For an alarm that judges no values: whoever knows says how it is, and why. A severity of 0 leaves it as it is.
  void set(bool active, std::uint16_t severity, const std::string& why, const Moment& moment);

  // What people do (Part 9, 5.5 to 5.8); refused with the standard's codes.
  struct Who {
    ua::String user;
    ua::LocalizedText comment;  // null for none
  };
  Answer acknowledge(const ua::ByteString& eventId, const Who& who, const Moment& moment);
  Answer confirm(const ua::ByteString& eventId, const Who& who, const Moment& moment);
  Answer addComment(const ua::ByteString& eventId, const Who& who, const Moment& moment);
  Answer enable(bool on, const Who& who, const Moment& moment);
  /// For so many milliseconds, or until it goes.
  Answer shelve(double milliseconds, const Who& who, const Moment& moment);
  Answer shelveOnce(const Who& who, const Moment& moment);
  Answer unshelve(const Who& who, const Moment& moment);
  Answer suppress(bool on, const Who& who, const Moment& moment);
  Answer serve(bool on, const Who& who, const Moment& moment);
  Answer silence(const Who& who, const Moment& moment);
  Answer reset(const Who& who, const Moment& moment);
  /// To a dialog: one of its options, by its place among them.
  Answer respond(std::int32_t option, const Who& who, const Moment& moment);
  /// The variable that counts down to the end of its shelf, and what it is now.
  space::NodeIndex unshelveTimeNode() const;
  ua::DataValue unshelveTime(ua::DateTime now) const;

  /// What isn't its own doing: a group suppresses it, or it was the first of one.
  void suppressFor(Suppression why, bool on, const Moment& moment);
  void setFirstInGroup(bool is) { state_.isFirstInGroup = is; }

  /// It goes with its nodes: nobody is to keep it on a list of what is of interest (Part 9, 5.5.2, Retain). Call while
  /// the nodes are still there.
  void leave(const Moment& moment);

  /// How it stands now, as an event with all fields of its type; of a branch, when one is given.
  monitor::Event event(const ConditionState& state, ua::DateTime now) const;

  /// Takes over how another stands: the same alarm, before the model was changed.
  void takeOver(const Alarm& before);
  /// Goes on as it once stood, before a stop; or before a part of it was changed, which was told as its end.
  void restore(ConditionState state, std::vector<ConditionState> branches, bool wasToldGone, const Moment& moment);

 private:
  Alarm(space::Space& space, space::NodeIndex node) : space_(space), node_(node) {}
  double numberAt(space::NodeIndex field, double otherwise) const;
  void look(const ua::DataValue& value, const Moment& moment);
  void becomes(Exceeded exceeded, const std::string& why, ua::DateTime time, const Moment& moment);
  void asks(Exceeded exceeded, ua::DateTime time, const Moment& moment);
  void comes(ua::DateTime time, const Moment& moment);
  void remind(const Moment& moment);
  ua::Instant nextReminder(ua::Instant now) const;
  void note(const std::string& message, const Moment& moment);
  void putOnShelf(Shelved how, double milliseconds, const Moment& moment);
  Answer checkEnabled() const;
  ConditionState* stateOf(const ua::ByteString& eventId);
  void answered(ConditionState& state, const Who& who, const std::string& how, const Moment& moment);
  /// Says on the trunk what somebody did to it, and who.
  Answer done(const Who& who, const std::string& how, const Moment& moment);
  /// Without a message, says why it stands as it does.
  void tell(ConditionState& state, const std::string& message, ua::DateTime time, const Moment& moment);
  void endBranch(std::size_t branch, const std::string& why, const Moment& moment);
  /// Why it stands as it does, in the model's words where it has some.
  ua::LocalizedText reasonOf(const ConditionState& state) const;
  std::vector<ua::Variant> valuesOf(const ConditionState& state, ua::DateTime now) const;
  void show(const std::vector<ua::Variant>& values, ua::DateTime now);
  monitor::Event eventOf(std::vector<ua::Variant> values) const;
  About about(ua::DateTime now) const;

  space::Space& space_;
  space::NodeIndex node_;
  space::NodeIndex source_ = space::kNoNode;
  std::optional<Judge> judge_;
  Fields fields_;
  space::NodeIndex suppressor_ = space::kNoNode;  // a variable that is true while it is suppressed
  space::NodeIndex maxTimeShelved_ = space::kNoNode, reAlarmTime_ = space::kNoNode;
  ua::NodeId class_;
  ua::LocalizedText className_, activeMessage_;
  std::uint16_t usualSeverity_ = 500;
  std::uint16_t mostBranches_ = 0;
  bool isConfirmed_ = false, isLatching_ = false, isDialog_ = false;

  ConditionState state_;
  std::vector<ConditionState> branches_;  // the oldest first
  ua::Instant remindAt_ = ua::Instant::max(), shelfEndsAt_ = ua::Instant::max();
};

}  // namespace zunth::alarm
