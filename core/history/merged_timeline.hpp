#pragma once

#include "core/history/timeline.hpp"

#include <memory>

namespace zunth::history {

/// One variable's samples that lie in two places; of two with the same time, the one that the server got later counts,
/// and the first's where they came at once.
class MergedTimeline final : public Timeline {
 public:
  MergedTimeline(std::unique_ptr<Timeline> first, std::unique_ptr<Timeline> second)
      : first_(std::move(first)), second_(std::move(second)) {}
  ua::Result<void> walk(ua::DateTime from, ua::DateTime to, const Visit& visit) const override;

 private:
  std::unique_ptr<Timeline> first_, second_;
};

}  // namespace zunth::history
