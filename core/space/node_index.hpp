#pragma once

#include "core/space/reference_runs.hpp"
#include "core/ua/node_id.hpp"

#include <deque>

namespace zunth::space {

/// NodeId to row number: an open-addressing table over the column of ids, 12 octets a node. A slot keeps its id's hash:
/// ids lie apart in memory, and only the one that is looked for is touched.
class NodeIdTable {
 public:
  explicit NodeIdTable(const std::deque<ua::NodeId>& ids) : ids_(ids), slots_(64) {}

  static std::uint32_t hashOf(const ua::NodeId& id) { return static_cast<std::uint32_t>(id.hash()); }

  NodeIndex find(const ua::NodeId& id) const { return find(id, hashOf(id)); }
  NodeIndex find(const ua::NodeId& id, std::uint32_t hash) const {
    const std::size_t at = slotOf(id, hash);
    return at == kNone ? kNoNode : slots_[at].row;
  }
  /// `row` must be in the column, with an id of this hash that is not in the table.
  void insert(NodeIndex row, std::uint32_t hash) {
    if ((used_ + 1) * 4 > slots_.size() * 3) rehash();
    place({row, hash});
    ++used_;
  }
  void remove(const ua::NodeId& id) {
    if (const std::size_t at = slotOf(id, hashOf(id)); at != kNone) slots_[at].row = kRemoved;
  }

 private:
  struct Slot {
    NodeIndex row = kNoNode;
    std::uint32_t hash = 0;
  };
  static constexpr NodeIndex kRemoved = UINT32_MAX - 1;
  static constexpr std::size_t kNone = SIZE_MAX;
  std::size_t mask() const { return slots_.size() - 1; }
  std::size_t slotOf(const ua::NodeId& id, std::uint32_t hash) const {
    for (std::size_t at = hash & mask(); slots_[at].row != kNoNode; at = (at + 1) & mask())
      if (slots_[at].hash == hash && slots_[at].row != kRemoved && ids_[slots_[at].row] == id) return at;
    return kNone;
  }
  void place(Slot slot) {
    std::size_t at = slot.hash & mask();
    while (slots_[at].row != kNoNode) at = (at + 1) & mask();
    slots_[at] = slot;
  }
  void rehash() {
    std::size_t living = 0;
    for (const Slot& slot : slots_) living += slot.row < kRemoved;
    // Where many have come and gone, the same size will do again.
    std::vector<Slot> old(living * 2 > slots_.size() ? slots_.size() * 2 : slots_.size());
    std::swap(old, slots_);
    used_ = 0;
    for (const Slot& slot : old)
      if (slot.row < kRemoved) {
        place(slot);
        ++used_;
      }
  }

  const std::deque<ua::NodeId>& ids_;
  std::vector<Slot> slots_;  // size is a power of two
  std::size_t used_ = 0;     // with removed ones
};

}  // namespace zunth::space
