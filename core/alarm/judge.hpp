#pragma once

#include "core/alarm/judgement.hpp"

#include <string>
#include <vector>

namespace zunth::alarm {

/// What an alarm makes of the values that it watches (Part 9, 5.8.18 to 5.8.24); of a text, that it stands while there
/// is one.
class Judge {
 public:
  enum class Kind : std::uint8_t { Level, Deviation, Rate, Discrete, OffNormal, Discrepancy, Text };

  /// Nothing for an object that is none of these alarms, or watches nothing.
  static std::optional<Judge> from(const space::Space& space, space::NodeIndex alarm);

  Kind kind() const { return kind_; }
  bool hasLimits() const { return kind_ <= Kind::Rate; }
  /// Whether its message is what its variable says: another text is another occurrence.
  bool repeats() const { return kind_ == Kind::Text; }
  bool isExclusive() const { return isExclusive_; }
  /// The variables whose values matter to it, the watched one first, then the set point or what is normal.
  const std::vector<space::NodeIndex>& inputs() const { return inputs_; }

  /// What counts now: of exclusive limits the outermost, after the delays.
  Exceeded look(const ua::DataValue& value, ua::Instant now, ua::DateTime wallClock);
  /// The same when nothing has come, but a delay has passed.
  Exceeded lookAgain(ua::Instant now);
  ua::Instant due() const { return delay_.due(); }
  /// How it is from now on, whatever was seen: after a start, or when it was not looking for a while.
  void reset(Exceeded counts);

  /// The severity of what is exceeded; `usual` where the model gives the level none.
  std::uint16_t severityOf(Exceeded exceeded, std::uint16_t usual) const;
  /// "DF1/pressure is too high: 31.2, the limit is 30"
  std::string message(Exceeded exceeded, ua::StatusCode quality) const;

  /// Goes on as another of the same alarm did.
  void takeOver(const Judge& before);

 private:
  Judge(const space::Space& space, Kind kind) : space_(&space), kind_(kind) {}
  void findSettings(space::NodeIndex alarm);
  double numberAt(space::NodeIndex field, double otherwise) const;
  Limits limits() const;
  Exceeded seen(const ua::DataValue& value, ua::DateTime wallClock);
  std::optional<double> measured(const ua::DataValue& value, ua::DateTime wallClock);
  bool differs(const ua::Variant& value, const ua::Variant& goal) const;
  Exceeded settle(Exceeded seen, ua::Instant now);
  std::string valueText(space::NodeIndex variable) const;

  const space::Space* space_;
  Kind kind_;
  bool isExclusive_ = true;
  std::vector<space::NodeIndex> inputs_;
  struct LevelFields {
    space::NodeIndex limit, deadband, severity;
  };
  std::array<LevelFields, space::kLimitLevels> levels_;
  space::NodeIndex onDelay_ = space::kNoNode, offDelay_ = space::kNoNode;
  space::NodeIndex expectedTime_ = space::kNoNode, tolerance_ = space::kNoNode;

  Exceeded judged_ = 0;  // all limits that the value is beyond, each with its deadband
  Exceeded counts_ = 0;
  Exceeded seen_ = 0;
  Delay delay_;
  struct Sample {
    double value;
    ua::DateTime time;
  };
  std::optional<Sample> last_;  // for rates
  std::optional<double> rate_;
  ua::Variant goal_;  // of a discrepancy, as it last was
};

}  // namespace zunth::alarm
