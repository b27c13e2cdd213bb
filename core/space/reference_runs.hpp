#pragma once

#include <array>
#include <bit>
#include <cstdint>
#include <span>
#include <vector>

namespace zunth::space {

/// Row number of a node; valid until the node is removed.
using NodeIndex = std::uint32_t;
inline constexpr NodeIndex kNoNode = UINT32_MAX;

/// One reference as seen from the node that holds it.
class Reference {
 public:
  Reference() = default;
  Reference(NodeIndex type, bool isForward, NodeIndex target)
      : type_(type | (isForward ? 0 : kInverse)), target_(target) {}
  NodeIndex type() const { return type_ & ~kInverse; }
  bool isForward() const { return !(type_ & kInverse); }
  NodeIndex target() const { return target_; }
  bool operator==(const Reference&) const = default;

 private:
  static constexpr std::uint32_t kInverse = 0x8000'0000u;
  std::uint32_t type_ = 0;
  NodeIndex target_ = kNoNode;
};

/// A node's references as a compact run in a common pool; a run that is full moves to one of twice the size.
class ReferenceRuns {
 public:
  struct Run {
    std::uint32_t offset = 0;
    std::uint32_t count = 0;
  };

  std::span<const Reference> of(const Run& run) const { return {pool_.data() + run.offset, run.count}; }

  std::span<Reference> of(const Run& run) { return {pool_.data() + run.offset, run.count}; }

  void add(Run& run, Reference reference) {
    if (run.count == capacity(run.count)) {
      const Run grown{take(capacity(run.count + 1)), run.count};
      for (std::uint32_t i = 0; i < run.count; ++i) pool_[grown.offset + i] = pool_[run.offset + i];
      release(run);
      run = grown;
    }
    pool_[run.offset + run.count++] = reference;
  }
  /// True when it was there.
  bool remove(Run& run, Reference reference) {
    // From the end: what comes and goes, as sessions do, came last, and a type's run holds all its instances.
    for (std::uint32_t i = run.count; i-- > 0;) {
      if (!(pool_[run.offset + i] == reference)) continue;
      const std::uint32_t before = capacity(run.count);
      for (std::uint32_t j = i + 1; j < run.count; ++j) pool_[run.offset + j - 1] = pool_[run.offset + j];
      --run.count;
      if (capacity(run.count) != before) shrink(run, before);
      return true;
    }
    return false;
  }
  void clear(Run& run) {
    release(run);
    run = {};
  }

 private:
  /// Room of a run with this many references: 0, then powers of two from 4.
  static std::uint32_t capacity(std::uint32_t count) { return count == 0 ? 0 : std::max(4u, std::bit_ceil(count)); }
  std::vector<std::uint32_t>& freeOf(std::uint32_t room) {
    return free_[static_cast<std::size_t>(std::countr_zero(room))];
  }
  std::uint32_t take(std::uint32_t room) {
    auto& free = freeOf(room);
    if (!free.empty()) {
      const auto offset = free.back();
      free.pop_back();
      return offset;
    }
    const auto offset = static_cast<std::uint32_t>(pool_.size());
    pool_.resize(pool_.size() + room);
    return offset;
  }
  void release(const Run& run) {
    if (const auto room = capacity(run.count)) freeOf(room).push_back(run.offset);
  }
  void shrink(Run& run, std::uint32_t before) {
    Run smaller;
    if (run.count) {
      smaller = {take(capacity(run.count)), run.count};
      for (std::uint32_t i = 0; i < run.count; ++i) pool_[smaller.offset + i] = pool_[run.offset + i];
    }
    freeOf(before).push_back(run.offset);
    run = smaller;
  }

  std::vector<Reference> pool_;
  std::array<std::vector<std::uint32_t>, 32> free_;  // offsets of free runs by log2 of their room
};

}  // namespace zunth::space
