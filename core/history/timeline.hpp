#pragma once

#include "core/ua/result.hpp"
#include "core/ua/variant.hpp"

#include <functional>
#include <span>
#include <vector>

namespace zunth::history {

/// Before and after everything that can be kept.
inline constexpr ua::DateTime kBeginning{INT64_MIN + 1}, kEnd{INT64_MAX};

/// The next moment, and the one before; DateTime counts 100 ns.
constexpr ua::DateTime after(ua::DateTime t) { return t == kEnd ? t : ua::DateTime{t.ticks + 1}; }
constexpr ua::DateTime before(ua::DateTime t) { return t == kBeginning ? t : ua::DateTime{t.ticks - 1}; }

/// The kept samples of one variable: for each source time one, in their order.
class Timeline {
 public:
  /// Samples in the order of the walk; false ends it.
  using Visit = std::function<bool(std::span<const ua::DataValue>)>;

  virtual ~Timeline() = default;
  /// All from a moment on, that included, to another, that excluded; backwards where `to` is before `from`, and what
  /// stands at `from` where they are the same. What was lost stands there as a sample without a value, BadDataLost.
  virtual ua::Result<void> walk(ua::DateTime from, ua::DateTime to, const Visit& visit) const = 0;
  /// Whether the last sample still is the variable's value at this moment, as the variable is watched and nothing came.
  virtual bool holdsOn(ua::DateTime) const { return false; }
};

/// One that is held in memory, in order of time.
class HeldTimeline final : public Timeline {
 public:
  explicit HeldTimeline(std::vector<ua::DataValue> samples) : samples_(std::move(samples)) {}
  ua::Result<void> walk(ua::DateTime from, ua::DateTime to, const Visit& visit) const override;

 private:
  std::vector<ua::DataValue> samples_;
};

/// Walks over samples that lie in order of time, as Timeline::walk() does. False when `visit` ended it.
bool walkOver(std::span<const ua::DataValue> samples, ua::DateTime from, ua::DateTime to, const Timeline::Visit& visit);

}  // namespace zunth::history
