#pragma once

#include <cstddef>
#include <cstdint>

namespace zunth::ua {

/// Octets that are held for somebody, out of those that somebody larger may hold: a subscription's out of its session's
/// out of the server's. Who holds something says so; who is about to hold more asks first.
class Allowance {
 public:
  explicit Allowance(std::size_t most, Allowance* within = nullptr) : most_(most), within_(within) {}
  Allowance(const Allowance&) = delete;
  Allowance& operator=(const Allowance&) = delete;
  ~Allowance() { pass(held_); }

  void hold(std::size_t octets) {
    for (Allowance* at = this; at; at = at->within_) at->held_ += octets;
  }
  void release(std::size_t octets) {
    for (Allowance* at = this; at; at = at->within_) at->held_ -= octets < at->held_ ? octets : at->held_;
  }
  /// Whether more is held than may be, or than one of so many parts of that, here or in what it is part of. Where
  /// others have used up what is there for all, who holds little of their own keeps it.
  bool isOver(std::size_t parts = 1) const {
    if (held_ > most_ / parts) return true;
    const std::size_t little = most_ == SIZE_MAX ? 0 : most_ / 16;
    return within_ && held_ > little && within_->isOver(parts);
  }
  std::size_t held() const { return held_; }
  std::size_t most() const { return most_; }
  /// Is part of another from now on, with all it holds.
  void moveTo(Allowance* within) {
    pass(held_);
    within_ = within;
    if (within_) within_->hold(held_);
  }

 private:
  void pass(std::size_t octets) {
    if (within_) within_->release(octets);
  }
  std::size_t most_;
  Allowance* within_;
  std::size_t held_ = 0;
};

}  // namespace zunth::ua
