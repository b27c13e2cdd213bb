#pragma once

#include "core/space/reference_runs.hpp"
#include "core/ua/node_id.hpp"

#include <deque>

namespace zunth::space {

/// NodeId to row number: an open-addressing table of 32-bit rows over the column of ids, 6 octets a node.
class NodeIdTable {
 public:
  explicit NodeIdTable(const std::deque<ua::NodeId>& ids) : ids_(ids), slots_(64, kNoNode) {}

  NodeIndex find(const ua::NodeId& id) const {
    for (std::size_t at = id.hash() & mask();; at = (at + 1) & mask()) {
      if (slots_[at] == kNoNode) return kNoNode;
      if (slots_[at] != kRemoved && ids_[slots_[at]] == id) return slots_[at];
    }
  }
  /// `row` must be in the column and its id not in the table.
  void insert(NodeIndex row) {
    if ((used_ + 1) * 4 > slots_.size() * 3) rehash();
    place(row);
    ++used_;
  }
  void remove(const ua::NodeId& id) {
    for (std::size_t at = id.hash() & mask(); slots_[at] != kNoNode; at = (at + 1) & mask())
      if (slots_[at] != kRemoved && ids_[slots_[at]] == id) {
        slots_[at] = kRemoved;
        return;
      }
  }

 private:
  static constexpr NodeIndex kRemoved = UINT32_MAX - 1;
  std::size_t mask() const { return slots_.size() - 1; }
  void place(NodeIndex row) {
    std::size_t at = ids_[row].hash() & mask();
    while (slots_[at] != kNoNode) at = (at + 1) & mask();
    slots_[at] = row;
  }
  void rehash() {
    std::size_t living = 0;
    for (NodeIndex row : slots_) living += row < kRemoved;
    // Where many have come and gone, the same size will do again.
    std::vector<NodeIndex> old(living * 2 > slots_.size() ? slots_.size() * 2 : slots_.size(), kNoNode);
    std::swap(old, slots_);
    used_ = 0;
    for (NodeIndex row : old)
      if (row < kRemoved) {
        place(row);
        ++used_;
      }
  }

  const std::deque<ua::NodeId>& ids_;
  std::vector<NodeIndex> slots_;  // size is a power of two
  std::size_t used_ = 0;          // with removed ones
};

}  // namespace zunth::space
