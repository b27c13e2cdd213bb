#include "core/history/reading.hpp"

#include "core/ua/footprint.hpp"

#include <algorithm>

namespace zunth::history {

using namespace ua;
using aggregate::Last;
using aggregate::Manner;

namespace {

/// How far is looked for a sample that counts as good.
constexpr std::size_t kMostLookedAt = 100'000;

std::size_t sizeOf(const DataValue& value) { return 20 + footprint(value.value); }

/// The first in the direction of the walk, when there is one.
Result<std::optional<DataValue>> firstOf(const Timeline& timeline, DateTime from, DateTime to) {
  std::optional<DataValue> out;
  auto fine = timeline.walk(from, to, [&](std::span<const DataValue> samples) {
    out = samples.front();
    return false;
  });
  if (!fine) return fine.error();
  return out;
}

/// What stood before a moment. `steps` counts what was looked at.
Result<Last> lastBefore(const Timeline& timeline, DateTime moment, const Manner& manner, std::size_t& steps) {
  std::vector<DataValue> found;  // newest first
  int good = 0;
  std::size_t looked = 0;
  auto fine = timeline.walk(before(moment), kBeginning, [&](std::span<const DataValue> samples) {
    for (const auto& sample : samples) {
      const bool isGood = isUsable(sample, manner.configuration);
      if (isGood || found.empty()) found.push_back(sample);
      good += isGood;
      if (good == 2 || ++looked >= kMostLookedAt) return false;
    }
    return true;
  });
  if (!fine) return fine.error();
  steps += looked;
  Last out;
  for (auto sample = found.rbegin(); sample != found.rend(); ++sample) out.pass(*sample, manner.configuration);
  return out;
}

}  // namespace

Result<void> RawWish::check() const {
  if ((start.isNull() && end.isNull()) || ((start.isNull() || end.isNull()) && most == 0 && !isContinued))
    return Error{
        status::BadHistoryOperationInvalid, "two of the start, the end and the number of values have to be given", {}};
  return {};
}

Result<Part<RawWish>> readRaw(const Timeline& timeline, RawWish wish, const Limits& limits) {
  if (auto fine = wish.check(); !fine) return fine.error();
  if (wish.start.isNull()) {
    wish.start = wish.end;
    wish.end = kBeginning;
  } else if (wish.end.isNull()) {
    wish.end = kEnd;
  }
  const bool isOpen = wish.end == kBeginning || wish.end == kEnd;
  const bool isBackward = wish.isContinued ? wish.isBackward : wish.end < wish.start;
  const DateTime farthest = isBackward ? kBeginning : kEnd;
  const std::size_t most = wish.most == 0 ? limits.values : std::min<std::size_t>(wish.most, limits.values);
  Part<RawWish> part;
  std::size_t octets = 0;
  const auto goOnAt = [&](DateTime where) {
    part.rest = wish;
    part.rest->start = where;
    part.rest->isContinued = true;
    part.rest->isBackward = isBackward;
    if (isOpen && wish.most != 0) {
      // Where only one time was given, the number of values is what ends it.
      part.rest->most = wish.most - static_cast<std::uint32_t>(part.values.size());
      if (part.rest->most == 0) part.rest.reset();
    }
  };
  const auto isFull = [&] { return part.values.size() >= most || octets > limits.octets; };
  const auto add = [&](DataValue value) {
    octets += sizeOf(value);
    part.values.push_back(std::move(value));
  };
  const auto bound = [&](DateTime from, DateTime to, DateTime missing) -> Result<void> {
    auto found = firstOf(timeline, from, to);
    if (!found) return found.error();
    add(*found ? std::move(**found) : DataValue(Variant(), missing, status::BadBoundNotFound));
    return {};
  };

  if (wish.isContinued && wish.start == wish.end) {
    // The bound at the end is all that was left.
    if (auto last = bound(wish.end, farthest, wish.end); !last) return last.error();
    return part;
  }
  bool isWhole = false;  // what stands at the start is there itself
  if (wish.withBounds && !wish.isContinued) {
    auto exact = firstOf(timeline, wish.start, wish.start);
    if (!exact) return exact.error();
    isWhole = exact->has_value();
    const DateTime other = isBackward ? kEnd : kBeginning;
    if (!isWhole)
      if (auto fine = bound(isBackward ? after(wish.start) : before(wish.start), other, wish.start); !fine)
        return fine.error();
  }
  if (isFull() && wish.start != wish.end) {
    goOnAt(wish.start);
    return part;
  }
  auto fine = timeline.walk(wish.start, wish.end, [&](std::span<const DataValue> samples) {
    for (const auto& sample : samples) {
      if (isFull()) {
        goOnAt(sample.sourceTimestamp);
        return false;
      }
      add(sample);
    }
    return true;
  });
  if (!fine) return fine.error();
  if (part.rest || !wish.withBounds || isOpen || (wish.start == wish.end && isWhole)) return part;
  if (isFull()) {
    // The bound alone is left: from the end on there is nothing but it.
    goOnAt(wish.end);
    return part;
  }
  const DateTime beyond = wish.start == wish.end ? after(wish.end) : wish.end;
  if (auto last = bound(beyond, farthest, wish.end); !last) return last.error();
  return part;
}

Result<Part<AtTimeWish>> readAtTime(const Timeline& timeline, AtTimeWish wish, const Manner& manner,
                                    const Limits& limits) {
  Part<AtTimeWish> part;
  std::size_t octets = 0, steps = 0;
  for (; wish.next < wish.times.size(); ++wish.next) {
    if (part.values.size() >= limits.values || octets > limits.octets || steps > limits.steps) {
      part.rest = std::move(wish);
      return part;
    }
    const DateTime moment = wish.times[wish.next];
    auto last = lastBefore(timeline, moment, manner, steps);
    if (!last) return last.error();
    std::vector<DataValue> found;
    bool hasGood = false;
    std::size_t looked = 0;
    auto fine = timeline.walk(moment, kEnd, [&](std::span<const DataValue> samples) {
      for (const auto& sample : samples) {
        const bool isGood = isUsable(sample, manner.configuration);
        if (found.empty() || isGood) found.push_back(sample);
        hasGood |= isGood;
        if (isGood || ++looked >= kMostLookedAt) return false;
      }
      return true;
    });
    if (!fine) return fine.error();
    steps += looked + 1;
    aggregate::Next next;
    if (!found.empty()) next.any = &found.front();
    if (hasGood) next.good = &found.back();
    // A bad sample at the moment itself is not what comes after it.
    next.holdsOn = found.empty() && timeline.holdsOn(moment);
    const auto bounds = wish.useSimpleBounds ? aggregate::Bounds::Simple : aggregate::Bounds::Interpolated;
    part.values.push_back(valueOf(boundAt(moment, *last, next, manner, bounds), moment));
    octets += sizeOf(part.values.back());
  }
  return part;
}

Result<Part<ProcessedWish>> readProcessed(const Timeline& timeline, ProcessedWish wish, const Manner& manner,
                                          const Limits& limits) {
  const aggregate::Grid grid(wish.start, wish.end, wish.width);
  Part<ProcessedWish> part;
  const std::size_t count = std::min(limits.values, grid.size() - std::min(grid.size(), wish.next));
  if (count == 0) return part;
  // Always in order of time; where it runs backwards, what came out is turned around.
  const auto nth = [&](std::size_t i) { return grid.interval(wish.next + (grid.isBackward() ? count - 1 - i : i)); };
  const DateTime edge = grid.isBackward() ? after(nth(0).from) : nth(0).from;
  std::size_t steps = 0;
  auto last = lastBefore(timeline, edge, manner, steps);
  if (!last) return last.error();
  aggregate::Intervals intervals(*wish.function, manner, grid.isBackward(), std::move(*last),
                                 [&](DataValue value) { part.values.push_back(std::move(value)); });
  for (std::size_t i = 0; i < count; ++i) intervals.add(nth(i));
  intervals.annotate(std::move(wish.annotations));
  bool isCut = false;
  auto fine = timeline.walk(edge, kEnd, [&](std::span<const DataValue> samples) {
    intervals.feed(samples);
    steps += samples.size();
    // Backwards, a part is done as a whole.
    isCut = steps > limits.steps && !part.values.empty() && !grid.isBackward() && !intervals.isDone();
    return !intervals.isDone() && !isCut;
  });
  if (!fine) return fine.error();
  if (!isCut) intervals.reach(kEnd, timeline.holdsOn(nth(count - 1).to));
  if (grid.isBackward()) std::ranges::reverse(part.values);
  if (wish.next + part.values.size() < grid.size()) {
    part.rest = wish;
    part.rest->next = wish.next + part.values.size();
  }
  return part;
}

}  // namespace zunth::history
