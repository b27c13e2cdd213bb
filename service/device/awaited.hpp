#pragma once

#include <cstdint>
#include <functional>
#include <unordered_map>

namespace zunth::device {

/// Keeps who waits for a device's answer on the thread of those who wait. The device gets a number only: what it holds
/// may end on its own thread, and with it whatever waits.
template <class... Answer>
class Awaited {
 public:
  using Done = std::function<void(Answer...)>;
  std::uint64_t keep(Done done) {
    waiting_.emplace(++last_, std::move(done));
    return last_;
  }
  /// Once for each number; later ones are nobody's.
  void answer(std::uint64_t number, Answer... answer) {
    const auto found = waiting_.find(number);
    if (found == waiting_.end()) return;
    const Done done = std::move(found->second);
    waiting_.erase(found);
    done(std::move(answer)...);
  }
  void clear() { waiting_.clear(); }

 private:
  std::unordered_map<std::uint64_t, Done> waiting_;
  std::uint64_t last_ = 0;
};

}  // namespace zunth::device
