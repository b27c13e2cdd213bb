#pragma once

#include "core/history/timeline.hpp"

#include <optional>

namespace zunth::history {

/// Which values of a variable are worth keeping.
struct Rule {
  enum class Kind : std::uint8_t {
    EveryChange,   // of value or status
    Deadband,      // further from the last that was kept than `deviation`
    SwingingDoor,  // where a straight line through what was kept would miss a value by more than `deviation`
  };
  Kind kind = Kind::EveryChange;
  double deviation = 0;  // in the variable's own unit
  /// ms; something is kept at least so often while values come; 0 for no such wish.
  double longestPause = 0;
  bool operator==(const Rule&) const = default;
};

/// Picks from the values of one variable, as they come, those that its rule keeps. A changed status or type is always
/// kept, and so is the value before it.
class Keeper {
 public:
  explicit Keeper(const Rule& rule) : rule_(rule) {}
  const Rule& rule() const { return rule_; }
  /// Calls `keep` for none, one or two samples, in order of time.
  template <class Keep>
  void take(const ua::DataValue& sample, Keep&& keep) {
    const Verdict verdict = judge(sample);
    if (verdict.alsoHeld) keep(*verdict.alsoHeld);
    if (verdict.isKept) keep(sample);
  }
  /// What is held back, as nothing more comes: the last value, where it hasn't been kept.
  std::optional<ua::DataValue> finish() { return std::exchange(held_, std::nullopt); }

 private:
  struct Verdict {
    bool isKept = false;
    std::optional<ua::DataValue> alsoHeld{};
  };
  Verdict judge(const ua::DataValue& sample);
  Verdict swing(const ua::DataValue& sample, double number);
  void keptAt(const ua::DataValue& sample);
  bool isPauseOver(const ua::DataValue& sample) const;

  Rule rule_;
  std::optional<ua::DataValue> kept_;   // the last
  std::optional<ua::DataValue> held_;   // came after it, and may have to be kept for what comes next
  double steepest_ = 0, flattest_ = 0;  // slopes within which a line from `kept_` meets all since, per tick
};

}  // namespace zunth::history
