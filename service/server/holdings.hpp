#pragma once

#include "core/space/space.hpp"

#include <map>
#include <unordered_map>

namespace zunth::server {

/// What clients have left in nodes: large values and texts, which together take no more memory than they may. What a
/// device or the model brings doesn't count.
class Holdings {
 public:
  explicit Holdings(std::size_t most) : most_(most) {}
  /// A client is about to write so many octets to an attribute, in place of what was written there before:
  /// BadOutOfMemory when all that clients have written would take too much.
  ua::Result<void> put(space::NodeIndex node, ua::AttributeId attribute, std::size_t octets);
  /// The same of a node that is yet to be added: whether there is room for it.
  ua::Result<void> check(std::size_t octets) const;
  /// The node is gone, with all that it held.
  void forget(space::NodeIndex node);
  std::size_t octets() const { return octets_; }

 private:
  static constexpr std::size_t kFree = 256;  // octets of a value that don't count

  std::unordered_map<space::NodeIndex, std::map<ua::AttributeId, std::size_t>> held_;
  std::size_t most_;
  std::size_t octets_ = 0;
};

}  // namespace zunth::server
