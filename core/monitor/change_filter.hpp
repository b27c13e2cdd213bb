#pragma once

#include "core/ua/generated/structures.hpp"

#include <optional>

namespace zunth::monitor {

/// Decides whether a sampled change is worth reporting (Part 4, 7.22.2; Part 8, 6.2 for Percent).
/// Absolute: |new - last| > value, in the variable's own unit. Percent: the same with value % of the EURange.
/// Arrays report when any element does, or when their lengths differ.
class ChangeFilter {
 public:
  /// Reports every change of value or status: what applies without a filter.
  ChangeFilter() = default;
  /// BadMonitoredItemFilterInvalid for an unknown trigger or deadband type, BadDeadbandFilterInvalid for a percentage
  /// outside 0 to 100 or without an EURange, BadFilterNotAllowed for a deadband on what is no number.
  static ua::Result<ChangeFilter> from(const ua::DataChangeFilter& filter, bool isNumber,
                                       std::optional<ua::Range> euRange);

  /// The variable's range is another: a deadband in percent follows it.
  void setRange(const ua::Range& euRange);
  bool passes(const ua::DataValue& last, const ua::DataValue& now) const;

 private:
  bool valueDiffers(const ua::Variant& last, const ua::Variant& now) const;

  ua::DataChangeTrigger trigger_ = ua::DataChangeTrigger::StatusValue;
  double deadband_ = 0;  // absolute; 0 for none
  std::optional<double> percent_;
};

}  // namespace zunth::monitor
