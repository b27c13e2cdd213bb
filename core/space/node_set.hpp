#pragma once

#include "core/space/space.hpp"

#include <algorithm>
#include <unordered_set>

namespace zunth::space {

/// Nodes in the order in which they were found, each once: what walks along references need, so that no circle and no
/// crossing makes them long.
class NodeSet {
 public:
  /// False when it is there already.
  bool add(NodeIndex node) {
    if (isKnown(node)) return false;
    order_.push_back(node);
    if (order_.size() == kFew)
      known_.insert(order_.begin(), order_.end());
    else if (order_.size() > kFew)
      known_.insert(node);
    return true;
  }
  std::size_t size() const { return order_.size(); }
  bool empty() const { return order_.empty(); }
  NodeIndex operator[](std::size_t i) const { return order_[i]; }
  auto begin() const { return order_.begin(); }
  auto end() const { return order_.end(); }

 private:
  static constexpr std::size_t kFew = 16;  // that are looked through faster than looked up
  bool isKnown(NodeIndex node) const {
    return order_.size() < kFew ? std::ranges::find(order_, node) != order_.end() : known_.contains(node);
  }
  std::vector<NodeIndex> order_;
  std::unordered_set<NodeIndex> known_;
};

}  // namespace zunth::space
