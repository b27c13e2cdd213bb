#pragma once

#include <cstddef>
#include <memory>
#include <span>
#include <vector>

namespace zunth::ua {

/// Leaves new elements uninitialised, so that growing a buffer costs nothing.
template <class T>
struct UninitialisedAllocator : std::allocator<T> {
  template <class U>
  struct rebind {
    using other = UninitialisedAllocator<U>;
  };
  template <class U>
  void construct(U* at) {
    ::new (static_cast<void*>(at)) U;
  }
  template <class U, class... Args>
  void construct(U* at, Args&&... args) {
    ::new (static_cast<void*>(at)) U(std::forward<Args>(args)...);
  }
};

using Bytes = std::vector<std::byte, UninitialisedAllocator<std::byte>>;
using BytesView = std::span<const std::byte>;

}  // namespace zunth::ua
