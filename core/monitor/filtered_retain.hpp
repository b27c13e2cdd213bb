#pragma once

#include "core/monitor/event.hpp"

namespace zunth::monitor {

/// Which conditions whoever watches with a filter believes to be of interest, so that it hears of one that no longer
/// passes: for it alone Retain becomes false (SupportsFilteredRetain; Part 9, 5.5.2). Of more than 1,000 at once it is
/// not known any more.
class FilteredRetain {
 public:
  enum class Outcome : std::uint8_t { Nothing, Bring, BringLastWord };
  /// What is to become of an event that passed the filter, or did not.
  Outcome judge(const Event& event, bool passes);

 private:
  std::vector<std::uint64_t> standing_;  // of ConditionId and BranchId, in order
};

}  // namespace zunth::monitor
