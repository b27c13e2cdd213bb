#include "core/space/path_walk.hpp"

namespace zunth::space {

using namespace ua;

PathWalk::PathWalk(const Space& space, const BrowsePath& path, const Rights& rights, std::size_t mostSteps)
    : space_(space), elements_(path.relativePath.elements), steps_(mostSteps) {
  const NodeIndex start = space.find(path.startingNode);
  if (path.startingNode.isNull())
    end(status::BadNodeIdInvalid);
  else if (start == kNoNode || !space.sees(rights, start))
    end(status::BadNodeIdUnknown);
  else if (elements_.empty())
    end(status::BadNothingToDo);
  else if (begin())
    at_.add(start);
}

bool PathWalk::end(StatusCode code) {
  result_.statusCode = code;
  isDone_ = true;
  return false;
}

bool PathWalk::begin() {
  const auto& element = elements_[element_];
  // Only the last element may leave the name out, which stands for every target (Part 4, 7.31).
  if (element.targetName.name.empty() && element_ + 1 < elements_.size()) return end(status::BadBrowseNameInvalid);
  wanted_ = element.referenceTypeId.isNull() ? kNoNode : space_.find(element.referenceTypeId);
  const bool isType = wanted_ != kNoNode && space_.nodeClass(wanted_) == NodeClass::ReferenceType;
  if (!element.referenceTypeId.isNull() && !isType) return end(status::BadReferenceTypeIdInvalid);
  node_ = reference_ = 0;
  return true;
}

bool PathWalk::go(const Rights& rights, Slice& slice) {
  while (!isDone_) {
    if (node_ == at_.size()) {
      at_ = std::exchange(next_, {});
      if (at_.empty()) end(status::BadNoMatch);
      if (isDone_) break;
      if (++element_ < elements_.size()) {
        begin();
        continue;
      }
      for (NodeIndex node : at_)
        if (space_.exists(node)) result_.targets.push_back({space_.nodeId(node), UINT32_MAX});
      isDone_ = true;
      break;
    }
    const NodeIndex node = at_[node_];
    const auto references = space_.exists(node) ? space_.references(node) : decltype(space_.references(node)){};
    if (reference_ >= references.size()) {
      ++node_;
      reference_ = 0;
      continue;
    }
    if (slice.isOver()) return false;
    if (!steps_.take()) {
      end(status::BadQueryTooComplex);
      break;
    }
    const auto& element = elements_[element_];
    const Reference& reference = references[reference_++];
    if (reference.isForward() == element.isInverse) continue;
    if (wanted_ != kNoNode && reference.type() != wanted_ &&
        !(element.includeSubtypes && space_.isSubtype(reference.type(), wanted_)))
      continue;
    if (!element.targetName.name.empty() && !(space_.browseName(reference.target()) == element.targetName)) continue;
    if (!space_.sees(rights, reference.target())) continue;
    next_.add(reference.target());
    if (next_.size() > kMostTargets) end(status::BadTooManyMatches);
  }
  return true;
}

BrowsePathResult translate(const Space& space, const BrowsePath& path, const Rights& rights, std::size_t mostSteps) {
  PathWalk walk(space, path, rights, mostSteps);
  Slice whole;
  walk.go(rights, whole);
  return walk.take();
}

}  // namespace zunth::space
