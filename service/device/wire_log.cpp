#include "service/device/wire_log.hpp"

#include "core/ua/foreign.hpp"
#include "service/device/shared_by_name.hpp"

#include <algorithm>

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
  static SharedByName<std::string, WireLog> logs;
  return logs.get(line, [] { return std::make_shared<WireLog>(); });
}

void WireLog::keepFor(Duration time) {
  const std::lock_guard lock(mutex_);
  if (!isOn()) entries_.clear();
  until_ = (std::chrono::steady_clock::now() + time).time_since_epoch().count();
}

void WireLog::note(bool isSent, BytesView octets, std::string words) {
  const DateTime now = DateTime::from(std::chrono::system_clock::now());
  std::string digits = hexOf(octets.first(std::min(octets.size(), kMostOctets)));
  if (octets.size() > kMostOctets) digits += fmt::format(" … {} octets", octets.size());
  const std::lock_guard lock(mutex_);
  if (entries_.size() >= kMost) entries_.pop_front();
  entries_.push_back({++last_, now, isSent, std::move(digits), std::string(cut(words, kMostWords))});
}

std::vector<WireLog::Entry> WireLog::since(std::uint64_t number) const {
  const std::lock_guard lock(mutex_);
  std::vector<Entry> out;
  for (const auto& entry : entries_)
    if (entry.number > number) out.push_back(entry);
  return out;
}

}  // namespace zunth::device
