#include "core/monitor/live_aggregate.hpp"

#include <algorithm>

namespace zunth::monitor {

using namespace ua;

LiveAggregate::LiveAggregate(const AggregateSettings& settings, DateTime now)
    : settings_(settings), intervals_(*settings_.function, settings_.manner, false, {}, [this](DataValue value) {
        results_.push_back(std::move(value));
      }) {
  const std::int64_t past = now.ticks - settings_.start.ticks;
  const std::int64_t begin = settings_.start.ticks + (past > 0 ? past / settings_.width * settings_.width : 0);
  end_ = {begin + settings_.width};
  intervals_.add({{begin}, end_});
}

void LiveAggregate::close(DateTime now) {
  if (const std::int64_t behind = (now.ticks - end_.ticks) / settings_.width; behind > kMostAtOnce) {
    // Nobody was there for long: the beat goes on, without what nobody waits for.
    intervals_.reach(end_, true);
    results_.clear();
    end_.ticks += behind * settings_.width;
    intervals_.add({{end_.ticks - settings_.width}, end_});
  }
  while (end_ <= now) {
    // What came last still holds: the variable is watched.
    intervals_.reach(end_, true);
    intervals_.add({end_, {end_.ticks + settings_.width}});
    end_.ticks += settings_.width;
  }
}

void LiveAggregate::take(const DataValue& value, DateTime now) {
  DataValue sample = value;
  const DateTime own = value.sourceTimestamp;
  const bool fits = !own.isNull() && own >= last_ && own <= now;
  sample.sourceTimestamp = last_ = fits ? own : now;
  intervals_.feed(std::span(&sample, 1));
}

}  // namespace zunth::monitor
