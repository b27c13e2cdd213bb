#pragma once

#include "core/space/node_set.hpp"
#include "core/ua/slice.hpp"
#include "core/ua/steps.hpp"

namespace zunth::space {

/// Targets that one path may have, and references that may be looked at to find them.
inline constexpr std::size_t kMostTargets = 1'000, kMostPathSteps = 2'000'000;

/// Follows a path of browse names (Part 4, 5.8.4), in as many slices as that takes. Each reference is looked at as it
/// is then; the nodes that are removed meanwhile are passed over.
class PathWalk {
 public:
  /// The path must outlive the walk.
  PathWalk(const Space& space, const ua::BrowsePath& path, const Rights& rights,
           std::size_t mostSteps = kMostPathSteps);
  /// False when the slice was over before the end was found.
  bool go(const Rights& rights, ua::Slice& slice);
  /// BadNothingToDo for an empty path, BadBrowseNameInvalid, BadNoMatch, BadTooManyMatches, BadQueryTooComplex and so
  /// on.
  ua::BrowsePathResult take() { return std::move(result_); }

 private:
  bool begin();  // the element at which the walk stands
  bool end(ua::StatusCode code);

  const Space& space_;
  const ua::List<ua::RelativePathElement>& elements_;
  ua::BrowsePathResult result_;
  bool isDone_ = false;
  ua::Steps steps_;
  NodeSet at_, next_;
  std::size_t element_ = 0, node_ = 0, reference_ = 0;
  NodeIndex wanted_ = kNoNode;
};

/// The whole way at once.
ua::BrowsePathResult translate(const Space& space, const ua::BrowsePath& path, const Rights& rights = Rights::all(),
                               std::size_t mostSteps = kMostPathSteps);

}  // namespace zunth::space
