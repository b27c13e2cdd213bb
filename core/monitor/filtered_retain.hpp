#pragma once

#include "core/monitor/event.hpp"

namespace zunth::monitor {

/// Which conditions whoever watches with a filter believes to be of interest, so that it hears of one that no longer
/// passes: for it alone Retain becomes false (SupportsFilteredRetain; Part 9, 5.5.2). Of more than `kMost` at once it
/// is not known any more: that is said once, when one does not pass that may have been of them.
class FilteredRetain {
 public:
  static constexpr std::size_t kMost = 1'000;
  enum class Outcome : std::uint8_t { Nothing, Bring, BringLastWord, Unknown };
  /// What is to become of an event that passed the filter, or did not.
  Outcome judge(const Event& event, bool passes);

 private:
  std::vector<std::uint64_t> standing_;  // of ConditionId and BranchId, in order
  bool isMore_ = false;                  // stands than there was room for, and nobody has been told
  bool wasTold_ = false;
};

}  // namespace zunth::monitor
