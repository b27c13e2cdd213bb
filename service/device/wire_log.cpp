#include "service/device/wire_log.hpp"

#include <algorithm>
#include <map>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;

std::string hexOf(BytesView octets) {
  std::string out;
  for (const auto octet : octets)
    out += fmt::format("{}{:02X}", out.empty() ? "" : " ", std::to_integer<unsigned>(octet));
  return out;
}

std::shared_ptr<WireLog> WireLog::of(const std::string& line) {
  static std::mutex guard;
  static std::map<std::string, std::weak_ptr<WireLog>> logs;
  const std::lock_guard lock(guard);
  std::erase_if(logs, [](const auto& log) { return log.second.expired(); });
  auto& known = logs[line];
  auto log = known.lock();
  if (!log) known = log = std::make_shared<WireLog>();
  return log;
}

void WireLog::keepFor(Duration time) {
  const std::lock_guard lock(mutex_);
  if (!isOn()) entries_.clear();
  until_ = (std::chrono::steady_clock::now() + time).time_since_epoch().count();
}

void WireLog::note(bool isSent, BytesView octets, std::string words) {
  const DateTime now = DateTime::from(std::chrono::system_clock::now());
  std::string shown = hexOf(octets.first(std::min(octets.size(), kMostOctets)));
  if (octets.size() > kMostOctets) shown += fmt::format(" … {} octets", octets.size());
  const std::lock_guard lock(mutex_);
  if (entries_.size() >= kMost) entries_.pop_front();
  entries_.push_back({++last_, now, isSent, std::move(shown), std::move(words)});
}

std::vector<WireLog::Entry> WireLog::since(std::uint64_t number) const {
  const std::lock_guard lock(mutex_);
  std::vector<Entry> out;
  for (const auto& entry : entries_)
    if (entry.number > number) out.push_back(entry);
  return out;
}

}  // namespace zunth::device
