#pragma once

#include <atomic>
#include <cstdint>
#include <utility>

namespace zunth::ua {

/// Base of everything that values share: immutable once published, counted, freed by its last holder.
/// Safe to hold from several threads.
class Shared {
 public:
  Shared() = default;
  Shared(const Shared&) = delete;
  Shared& operator=(const Shared&) = delete;

  void retain() const noexcept { holders_.fetch_add(1, std::memory_order_relaxed); }
  void release() const noexcept {
    if (holders_.fetch_sub(1, std::memory_order_acq_rel) == 1) destroy();
  }

 protected:
  virtual ~Shared() = default;
  virtual void destroy() const noexcept { delete this; }

 private:
  mutable std::atomic<std::uint32_t> holders_{0};
};

/// Holds a Shared; one pointer wide.
template <class T>
class Ref {
 public:
  Ref() = default;
  explicit Ref(T* held) noexcept : held_(held) {
    if (held_) held_->retain();
  }
  Ref(const Ref& other) noexcept : Ref(other.held_) {}
  Ref(Ref&& other) noexcept : held_(std::exchange(other.held_, nullptr)) {}
  Ref& operator=(Ref other) noexcept {
    std::swap(held_, other.held_);
    return *this;
  }
  ~Ref() {
    if (held_) held_->release();
  }

  T* get() const { return held_; }
  T& operator*() const { return *held_; }
  T* operator->() const { return held_; }
  explicit operator bool() const { return held_ != nullptr; }

 private:
  T* held_ = nullptr;
};

}  // namespace zunth::ua
