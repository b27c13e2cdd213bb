#include "core/monitor/filtered_retain.hpp"

#include <algorithm>

namespace zunth::monitor {

using namespace ua;

namespace {

/// As good as the ids themselves, at eight octets each: what clients make servers remember is many times itself.
std::uint64_t keyOf(const NodeId& condition, const Variant& branch) {
  const auto* id = branch.get<NodeId>();
  const std::uint64_t key = std::hash<NodeId>()(condition);
  return id && !id->isNull() ? key * 0x9E37'79B9'7F4A'7C15 ^ std::hash<NodeId>()(*id) : key;
}

}  // namespace

FilteredRetain::Outcome FilteredRetain::judge(const Event& event, bool passes) {
  const auto otherwise = passes ? Outcome::Bring : Outcome::Nothing;
  if (!passes && standing_.empty()) return otherwise;
  const Variant condition = event.field({{0, "ConditionId"}});
  const auto* id = condition.get<NodeId>();
  if (!id) return otherwise;
  const std::uint64_t key = keyOf(*id, event.field({{0, "BranchId"}}));
  const auto at = std::ranges::lower_bound(standing_, key);
  const bool isKnown = at != standing_.end() && *at == key;
  const bool stands = passes && event.field({{0, "Retain"}}) == Variant(true);
  if (stands && !isKnown) {
    if (standing_.size() < kMost)
      standing_.insert(at, key);
    else if (!wasTold_)
      isMore_ = true;
  }
  if (!stands && isKnown) standing_.erase(at);
  // Whoever refreshes at each word of it would do nothing else: it is said again when most have gone meanwhile.
  if (standing_.size() < kMost / 2) isMore_ = wasTold_ = false;
  if (passes) return otherwise;
  if (isKnown) return Outcome::BringLastWord;
  if (!isMore_) return otherwise;
  isMore_ = false;
  wasTold_ = true;
  return Outcome::Unknown;
}

}  // namespace zunth::monitor
