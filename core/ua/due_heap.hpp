#pragma once

#include "core/ua/instant.hpp"

#include <cstddef>
#include <utility>
#include <vector>

namespace zunth::ua {

/// Something that falls due, and where it stands in its heap.
struct Due {
  static constexpr std::size_t kNowhere = SIZE_MAX;
  Due() = default;
  Due(const Due&) = delete;
  Due& operator=(const Due&) = delete;

  ua::Instant dueAt{};
  std::size_t slot = kNowhere;
  bool isWaiting() const { return slot != kNowhere; }
};

/// What falls due, the earliest first. Each thing stands in it once at most, and leaves it at once when it goes: its
/// size is that of what there is. T derives from Due.
template <class T>
class DueHeap {
 public:
  /// Puts it in, or moves it to another time.
  void put(T& one, Instant when) {
    one.dueAt = when;
    if (!one.isWaiting()) {
      one.slot = heap_.size();
      heap_.push_back(&one);
    }
    sink(rise(one.slot));
  }
  void remove(T& one) {
    if (!one.isWaiting()) return;
    const std::size_t at = std::exchange(one.slot, Due::kNowhere);
    T* const last = heap_.back();
    heap_.pop_back();
    if (last == &one) return;
    heap_[at] = last;
    last->slot = at;
    sink(rise(at));
  }
  /// The earliest when it is due by then, taken out; or null.
  T* take(Instant now) {
    if (heap_.empty() || heap_.front()->dueAt > now) return nullptr;
    T* const first = heap_.front();
    remove(*first);
    return first;
  }
  Instant next() const { return heap_.empty() ? Instant::max() : heap_.front()->dueAt; }
  std::size_t size() const { return heap_.size(); }

 private:
  bool isEarlier(std::size_t a, std::size_t b) const { return heap_[a]->dueAt < heap_[b]->dueAt; }
  void swap(std::size_t a, std::size_t b) {
    std::swap(heap_[a], heap_[b]);
    heap_[a]->slot = a;
    heap_[b]->slot = b;
  }
  std::size_t rise(std::size_t at) {
    while (at > 0 && isEarlier(at, (at - 1) / 2)) {
      swap(at, (at - 1) / 2);
      at = (at - 1) / 2;
    }
    return at;
  }
  void sink(std::size_t at) {
    while (true) {
      std::size_t least = at;
      for (const std::size_t child : {2 * at + 1, 2 * at + 2})
        if (child < heap_.size() && isEarlier(child, least)) least = child;
      if (least == at) return;
      swap(at, least);
      at = least;
    }
  }
  std::vector<T*> heap_;
};

}  // namespace zunth::ua
