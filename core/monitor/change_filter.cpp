#include "core/monitor/change_filter.hpp"

#include <cmath>

namespace zunth::monitor {

using namespace ua;

Result<ChangeFilter> ChangeFilter::from(const DataChangeFilter& filter, bool isNumber, std::optional<Range> euRange) {
  ChangeFilter out;
  if (filter.trigger < DataChangeTrigger::Status || filter.trigger > DataChangeTrigger::StatusValueTimestamp)
    return status::BadMonitoredItemFilterInvalid;
  out.trigger_ = filter.trigger;
  switch (static_cast<DeadbandType>(filter.deadbandType)) {
    case DeadbandType::None: return out;
    case DeadbandType::Absolute:
      if (!isNumber) return status::BadFilterNotAllowed;
      if (!(filter.deadbandValue >= 0)) return status::BadDeadbandFilterInvalid;
      out.deadband_ = filter.deadbandValue;
      return out;
    case DeadbandType::Percent:
      if (!isNumber) return status::BadFilterNotAllowed;
      if (!(filter.deadbandValue >= 0 && filter.deadbandValue <= 100) || !euRange)
        return status::BadDeadbandFilterInvalid;
      out.percent_ = filter.deadbandValue;
      out.setRange(*euRange);
      return out;
  }
  return status::BadMonitoredItemFilterInvalid;
}

void ChangeFilter::setRange(const Range& euRange) {
  if (percent_) deadband_ = *percent_ / 100 * (euRange.high - euRange.low);
}

bool ChangeFilter::passes(const DataValue& last, const DataValue& now) const {
  if (last.status.condition() != now.status.condition()) return true;
  if (trigger_ == DataChangeTrigger::Status) return false;
  if (trigger_ == DataChangeTrigger::StatusValueTimestamp && last.sourceTimestamp != now.sourceTimestamp) return true;
  return valueDiffers(last.value, now.value);
}

bool ChangeFilter::valueDiffers(const Variant& last, const Variant& now) const {
  if (deadband_ <= 0 || last.type() != now.type() || last.length() != now.length() || last.isArray() != now.isArray())
    return !(last == now);
  auto beyond = [this](double a, double b) { return std::isnan(a) != std::isnan(b) || std::fabs(a - b) > deadband_; };
  double a = 0, b = 0;
  if (last.toDouble(a) && now.toDouble(b)) return beyond(a, b);
  if (!isNumeric(now.type())) return !(last == now);
  return visitBuiltIn(now.type(), [&]<class T>(std::type_identity<T>) {
    if constexpr (std::is_arithmetic_v<T>) {
      const auto before = last.items<T>(), after = now.items<T>();
      for (std::size_t i = 0; i < after.size(); ++i)
        if (beyond(static_cast<double>(before[i]), static_cast<double>(after[i]))) return true;
    }
    return false;
  });
}

}  // namespace zunth::monitor
