#pragma once

#include "core/ua/variant.hpp"

#include <atomic>

namespace zunth::space {

/// A variable's current value. Reading and writing take a lock of a few nanoseconds, so that drivers, the service's
/// loop and others may share it.
class ValueCell {
 public:
  ValueCell() = default;
  ValueCell(const ValueCell& other) : value_(other.read()) {}

  ua::DataValue read() const {
    Hold hold(*this);
    return value_;
  }
  void write(ua::DataValue value) {
    {
      Hold hold(*this);
      std::swap(value_, value);
    }  // the old value is freed outside the lock
  }

 private:
  struct Hold {
    explicit Hold(const ValueCell& c) : cell(c) {
      while (cell.busy_.test_and_set(std::memory_order_acquire)) cell.busy_.wait(true, std::memory_order_relaxed);
    }
    ~Hold() {
      cell.busy_.clear(std::memory_order_release);
      cell.busy_.notify_one();
    }
    const ValueCell& cell;
  };
  ua::DataValue value_;
  mutable std::atomic_flag busy_;
};

}  // namespace zunth::space
