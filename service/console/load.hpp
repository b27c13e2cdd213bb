#pragma once

#include <chrono>
#include <cstddef>

namespace zunth::console {

/// What the process takes of the machine.
class Load {
 public:
  struct Figures {
    double processor;    // percent of one core, over the last seconds
    std::size_t memory;  // resident, in octets
  };
  /// Asked more often than each second, it says the same again.
  Figures look(std::chrono::steady_clock::time_point now);

 private:
  std::chrono::steady_clock::time_point seen_{};
  std::chrono::duration<double> used_{};  // processor time until then
  double processor_ = 0;
};

}  // namespace zunth::console
