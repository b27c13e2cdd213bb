#pragma once

#include "core/aggregate/intervals.hpp"
#include "core/history/timeline.hpp"

#include <optional>

/// What clients read of history (Part 11, 6.4), over a timeline, in parts.
namespace zunth::history {

/// What one part may hold and cost; what doesn't fit is for the next.
struct Limits {
  std::size_t values = 10'000;
  std::size_t octets = 4u << 20;  // about, as on the wire
  std::size_t steps = 2'000'000;  // samples that are looked at
};

/// A part of an answer, and what is left to be asked for; nothing is left after the last.
template <class Wish>
struct Part {
  std::vector<ua::DataValue> values;
  std::optional<Wish> rest;
};

/// Samples as they were kept (Part 11, 6.4.3).
struct RawWish {
  ua::DateTime start, end;  // null where it is not said
  std::uint32_t most = 0;   // values in one part; 0 for no limit
  bool withBounds = false;
  bool isBackward = false;   // of one that is continued
  bool isContinued = false;  // `start` is where it goes on, and the bound before it has been given

  /// BadHistoryOperationInvalid when too little is said.
  ua::Result<void> check() const;
};
ua::Result<Part<RawWish>> readRaw(const Timeline& timeline, RawWish wish, const Limits& limits);

/// Values at moments (Part 11, 6.4.5).
struct AtTimeWish {
  std::vector<ua::DateTime> times;  // in the order that the client gave
  bool useSimpleBounds = false;
  std::size_t next = 0;  // of the times
};
ua::Result<Part<AtTimeWish>> readAtTime(const Timeline& timeline, AtTimeWish wish, const aggregate::Manner& manner,
                                        const Limits& limits);

/// Aggregates of intervals (Part 11, 6.4.4).
struct ProcessedWish {
  ua::DateTime start, end;
  std::int64_t width = 0;  // ticks; 0 makes one interval of all
  const aggregate::Function* function = nullptr;
  std::size_t next = 0;  // interval
  std::vector<ua::DateTime> annotations{};
};
ua::Result<Part<ProcessedWish>> readProcessed(const Timeline& timeline, ProcessedWish wish,
                                              const aggregate::Manner& manner, const Limits& limits);

}  // namespace zunth::history
