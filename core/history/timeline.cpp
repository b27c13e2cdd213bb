#include "core/history/timeline.hpp"

#include <algorithm>

namespace zunth::history {

using namespace ua;

bool walkOver(std::span<const DataValue> samples, DateTime from, DateTime to, const Timeline::Visit& visit) {
  const auto since = [&](DateTime t) { return std::ranges::lower_bound(samples, t, {}, &DataValue::sourceTimestamp); };
  if (from == to) to = after(to);
  if (from < to) {
    const auto begin = since(from), end = since(to);
    return begin == end || visit({begin, end});
  }
  const auto begin = since(after(to)), end = since(after(from));
  if (begin == end) return true;
  const std::vector<DataValue> turned(std::make_reverse_iterator(end), std::make_reverse_iterator(begin));
  return visit(turned);
}

Result<void> HeldTimeline::walk(DateTime from, DateTime to, const Visit& visit) const {
  walkOver(samples_, from, to, visit);
  return {};
}

}  // namespace zunth::history
