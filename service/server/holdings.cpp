#include "service/server/holdings.hpp"

#include <fmt/format.h>

namespace zunth::server {

using namespace ua;

Result<void> Holdings::check(std::size_t octets) const {
  if (octets <= kFree || octets_ + octets <= most_) return {};
  return Error{status::BadOutOfMemory,
               fmt::format("what clients have written takes {} octets, and may take {}", octets_, most_),
               "write less, or delete nodes that clients have added"};
}

Result<void> Holdings::put(space::NodeIndex node, AttributeId attribute, std::size_t octets) {
  if (octets <= kFree) octets = 0;
  const auto known = held_.find(node);
  if (octets == 0 && known == held_.end()) return {};
  const auto before = known == held_.end() || !known->second.contains(attribute) ? 0 : known->second.at(attribute);
  if (octets > before)
    if (auto fits = check(octets - before); !fits) return fits;
  octets_ += octets - before;
  held_[node][attribute] = octets;
  return {};
}

void Holdings::forget(space::NodeIndex node) {
  const auto found = held_.find(node);
  if (found == held_.end()) return;
  for (const auto& [attribute, octets] : found->second) octets_ -= octets;
  held_.erase(found);
}

}  // namespace zunth::server
