#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <unordered_map>

namespace zunth::server {

/// How many of something each of several holds: sessions of a user, of an address. Who holds none takes no memory.
class Shares {
 public:
  std::uint32_t of(const std::string& whose) const {
    const auto found = held_.find(whose);
    return found == held_.end() ? 0 : found->second;
  }
  void add(const std::string& whose, std::uint32_t count = 1) {
    if (count) held_[whose] += count;
  }
  void remove(const std::string& whose, std::uint32_t count = 1) {
    const auto found = held_.find(whose);
    if (found == held_.end()) return;
    if (found->second <= count)
      held_.erase(found);
    else
      found->second -= count;
  }

 private:
  std::unordered_map<std::string, std::uint32_t> held_;
};

/// "127.0.0.1" of "127.0.0.1:51234", "::1" of "::1:51234".
inline std::string hostOf(std::string_view address) { return std::string(address.substr(0, address.rfind(':'))); }

}  // namespace zunth::server
