#pragma once

#include <cstddef>

namespace zunth::ua {

/// Steps that a piece of work may take, for work whose length somebody else decides. What is out of steps gives up with
/// what it has, and says so.
class Steps {
 public:
  explicit Steps(std::size_t most) : left_(most) {}
  /// False when there are no more.
  bool take(std::size_t steps = 1) {
    isOut_ |= steps > left_;
    left_ -= steps < left_ ? steps : left_;
    return !isOut_;
  }
  bool isOut() const { return isOut_; }

 private:
  std::size_t left_;
  bool isOut_ = false;
};

}  // namespace zunth::ua
