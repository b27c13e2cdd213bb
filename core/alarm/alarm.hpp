#pragma once

#include "core/alarm/judgement.hpp"
#include "core/monitor/event.hpp"

#include <deque>
#include <map>

namespace zunth::alarm {

/// What a client's call of a condition's method came to.
struct Answer {
  ua::StatusCode code;
  std::string cause;
};

/// One alarm of the address space (Part 9, 5.8): judges the values of its variable, and shows in its own nodes how it
/// stands. Alarms with limits, of a deviation, of a rate of change, discrete and off-normal ones.
class Alarm {
 public:
  /// Something that happened at a time; ids of events are made by whoever makes them unique.
  struct Moment {
    ua::Instant now;
    ua::DateTime wallClock;
    std::function<ua::ByteString()> newEventId;
  };

  /// Nothing for an object that is no such alarm, or watches nothing.
  static std::optional<Alarm> from(space::Space& space, space::NodeIndex node);

  space::NodeIndex node() const { return node_; }
  /// The variables whose values matter to it, the watched one first.
  const std::vector<space::NodeIndex>& inputs() const { return inputs_; }
  ua::Instant due() const { return isEnabled_ ? delay_.due() : ua::Instant::max(); }
  /// Whether it is of interest: active, or somebody has still to acknowledge or confirm it (Part 9, Retain).
  bool isRetained() const { return isEnabled_ && (exceeded_ || !isAcknowledged_ || !isConfirmed_); }

  /// Shows how it stands, without telling anybody, once it is there.
  void begin(const Moment& moment);
  /// Looks at the values as they are now; true when there is something to tell.
  bool look(const Moment& moment);

  Answer acknowledge(const ua::ByteString& eventId, const ua::LocalizedText& comment, const ua::String& user,
                     const Moment& moment);
  Answer confirm(const ua::ByteString& eventId, const ua::LocalizedText& comment, const ua::String& user,
                 const Moment& moment);
  Answer addComment(const ua::ByteString& eventId, const ua::LocalizedText& comment, const ua::String& user,
                    const Moment& moment);
  Answer enable(bool on, const ua::String& user, const Moment& moment);

  /// It goes with its nodes: nobody is to keep it on a list of what is of interest (Part 9, 5.5.2, Retain). Call while
  /// the nodes are still there.
  void leave(const Moment& moment);

  /// How it stands now, as an event with all fields of its type.
  monitor::Event event() const;

  /// Takes over how another stands: the same alarm, before the model was changed.
  void takeOver(const Alarm& before);

 private:
  enum class Kind { Level, Deviation, Rate, Discrete, OffNormal };
  struct Field {
    monitor::Event::Path path;
    space::NodeIndex node;
  };

  Alarm(space::Space& space, space::NodeIndex node, Kind kind) : space_(space), node_(node), kind_(kind) {}
  void collect(space::NodeIndex at, monitor::Event::Path path);
  /// Where what decides about values is found, so that a value that changes needs no search.
  void findSettings();
  space::NodeIndex fieldAt(std::string_view path) const;
  void put(std::string_view path, ua::Variant value, const Moment& moment);
  void putState(const std::string& path, bool is, const char* yes, const char* no, const Moment& moment);
  double numberAt(space::NodeIndex field, double otherwise) const;
  Limits limits() const;

  Exceeded seen(const ua::DataValue& value, ua::DateTime wallClock);
  std::optional<double> measured(const ua::DataValue& value, ua::DateTime wallClock);
  std::uint16_t severityNow() const;
  std::string messageNow() const;
  std::string valueText() const;
  void show(const Moment& moment, const std::string& message);
  Answer checkEvent(const ua::ByteString& eventId) const;
  void answered(const ua::LocalizedText& comment, const ua::String& user, const std::string& how, const Moment& moment);

  // By value, so that alarms can be moved about; the space outlives them.
  std::reference_wrapper<space::Space> space_;
  space::NodeIndex node_;
  Kind kind_;
  bool isExclusive_ = true;
  std::vector<space::NodeIndex> inputs_;  // the variable, then the set point or what is normal
  std::vector<Field> fields_;             // all variables of the condition
  std::map<std::string, space::NodeIndex, std::less<>> byPath_;
  struct LevelFields {
    space::NodeIndex limit, deadband, severity;
  };
  std::array<LevelFields, space::kLimitLevels> levels_;
  space::NodeIndex onDelay_ = space::kNoNode, offDelay_ = space::kNoNode;
  ua::LocalizedText activeMessage_;
  std::uint16_t usualSeverity_ = 500;

  bool isEnabled_ = true;
  Exceeded judged_ = 0;    // all limits that the value is beyond, each with its deadband
  Exceeded exceeded_ = 0;  // what counts of them: of exclusive limits the outermost, after the delay
  bool isAcknowledged_ = true, isConfirmed_ = true;
  std::uint16_t severity_ = 0, lastSeverity_ = 0;
  ua::StatusCode quality_;
  std::string reason_;  // what was said when it last came, became another, or went
  Delay delay_;
  std::deque<ua::ByteString> eventIds_;  // since it last became active: those that can be acknowledged
  struct Sample {
    double value;
    ua::DateTime time;
  };
  std::optional<Sample> last_;  // for rates
  std::optional<double> rate_;
};

}  // namespace zunth::alarm
