#pragma once

#include <cstddef>
#include <utility>
#include <vector>

namespace zunth::monitor {

/// What waits to be published of one item, oldest first, each with the octets that it takes, as counting them may take
/// long. Takes away lazily from the front, so that a burst moves nothing.
template <class T>
class NotificationQueue {
 public:
  struct Entry {
    T item;
    std::size_t octets;
  };
  std::size_t size() const { return items_.size() - taken_; }
  bool empty() const { return size() == 0; }
  Entry& front() { return items_[taken_]; }
  const Entry& front() const { return items_[taken_]; }
  /// The newest but one; there are two at least.
  const Entry& secondNewest() const { return items_.end()[-2]; }
  auto begin() const { return items_.begin() + static_cast<std::ptrdiff_t>(taken_); }
  auto end() const { return items_.end(); }
  Entry& back() { return items_.back(); }
  void push(T item, std::size_t octets) { items_.push_back({std::move(item), octets}); }
  T take() {
    T item = std::move(items_[taken_].item);
    dropFront();
    return item;
  }
  void dropFront() {
    items_[taken_++] = {};  // what it held goes at once
    if (taken_ == items_.size()) {
      clear();
    } else if (taken_ > 8 && taken_ * 2 > items_.size()) {
      items_.erase(items_.begin(), items_.begin() + static_cast<std::ptrdiff_t>(taken_));
      taken_ = 0;
    }
  }
  /// The newest but one gives way to the newest.
  void dropSecondNewest() { items_.erase(items_.end() - 2); }
  void clear() {
    items_.clear();
    taken_ = 0;
  }

 private:
  std::vector<Entry> items_;
  std::size_t taken_ = 0;  // of items_, already gone
};

}  // namespace zunth::monitor
