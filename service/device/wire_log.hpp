#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/instant.hpp"
#include "core/ua/variant.hpp"

#include <atomic>
#include <deque>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

namespace zunth::device {

/// What goes over one line, while somebody looks: octets and what they say. From any thread. Nothing is kept, and
/// nothing is made, while nobody does.
class WireLog {
 public:
  struct Entry {
    std::uint64_t number = 0;
    ua::DateTime when;
    bool isSent = false;
    std::string octets;  // "01 04 00 00", cut
    std::string words;   // "read input registers 0 to 9"
  };

  /// The log of a line, by how the line is called.
  static std::shared_ptr<WireLog> of(const std::string& line);

  bool isOn() const { return std::chrono::steady_clock::now().time_since_epoch().count() < until_.load(); }
  void keepFor(ua::Duration time);
  void note(bool isSent, ua::BytesView octets, std::string words);
  /// What was noted after the entry of this number.
  std::vector<Entry> since(std::uint64_t number) const;

 private:
  static constexpr std::size_t kMost = 1'000, kMostOctets = 256, kMostWords = 512;
  std::atomic<std::chrono::steady_clock::rep> until_{0};
  mutable std::mutex mutex_;
  std::deque<Entry> entries_;
  std::uint64_t last_ = 0;
};

/// "01 04 00 00": octets as people write them.
std::string hexOf(ua::BytesView octets);

}  // namespace zunth::device
