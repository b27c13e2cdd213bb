#include "service/server/login_guard.hpp"

#include <algorithm>
#include <vector>

namespace zunth::server {

using namespace ua;

double LoginGuard::Bucket::at(Instant now) const {
  const double seconds = std::chrono::duration<double>(now - filled).count();
  return std::min(kTriesInARow, tries + std::max(0.0, seconds) * kTriesASecond);
}

double LoginGuard::waitOf(const Records& records, const std::string& key, Instant now) {
  const auto found = records.find(key);
  if (found == records.end()) return 0;
  return std::max(0.0, std::chrono::duration<double, std::milli>(found->second.until - now).count());
}

namespace {

/// Drops the tenth that was touched longest ago, so that not every new record costs a look at all of them.
template <class Map, class When>
void forgetOldest(Map& records, When when) {
  std::vector<Instant> times;
  times.reserve(records.size());
  for (const auto& entry : records) times.push_back(when(entry.second));
  const auto tenth = times.begin() + static_cast<std::ptrdiff_t>(times.size() / 10);
  std::ranges::nth_element(times, tenth);
  std::erase_if(records, [&, latest = *tenth](const auto& entry) { return when(entry.second) <= latest; });
}

}  // namespace

bool LoginGuard::isKnown(const std::string& pair, Instant now) const {
  const auto found = known_.find(pair);
  return found != known_.end() && now - found->second < std::chrono::hours(24 * 30);
}

double LoginGuard::wait(const std::string& name, const std::string& origin, Instant now) const {
  const std::string pair = pairOf(name, origin);
  double own = waitOf(pairs_, pair, now);
  if (const auto found = origins_.find(origin); found != origins_.end())
    if (const double tries = found->second.at(now); tries < 1) own = std::max(own, (1 - tries) / kTriesASecond * 1000);
  if (isKnown(pair, now)) return own;
  return std::max(own, waitOf(names_, name, now));
}

void LoginGuard::fail(Records& records, const Kind& kind, const std::string& key, Instant now) {
  // Those that failed longest ago give way.
  if (records.size() >= kMost && !records.contains(key))
    forgetOldest(records, [](const Record& record) { return record.last; });
  auto& record = records[key];
  if (now - record.last > kMemory) record = {};
  record.last = now;
  if (++record.failures <= kind.free) return;
  const double seconds = std::min<double>(kind.mostSeconds, 1u << std::min(record.failures - kind.free - 1, 10u));
  record.until = now + milliseconds(seconds * 1000);
}

void LoginGuard::forgive(Records& records, const std::string& key) {
  const auto found = records.find(key);
  if (found == records.end()) return;
  if (--found->second.failures == 0)
    records.erase(found);
  else
    found->second.until = {};
}

void LoginGuard::begun(const std::string& name, const std::string& origin, Instant now) {
  fail(pairs_, kPair, pairOf(name, origin), now);
  if (origins_.size() >= kMost && !origins_.contains(origin))
    forgetOldest(origins_, [](const Bucket& bucket) { return bucket.filled; });
  auto& bucket = origins_[origin];
  bucket = {bucket.at(now) - 1, now};
  fail(names_, kName, name, now);
}

void LoginGuard::abandoned(const std::string& name, const std::string& origin) {
  forgive(pairs_, pairOf(name, origin));
  if (const auto found = origins_.find(origin); found != origins_.end()) ++found->second.tries;
  forgive(names_, name);
}

void LoginGuard::succeeded(const std::string& name, const std::string& origin, Instant now) {
  // The pair starts afresh. What was failed at under other names still counts: an account of one's own is no way to
  // guess on at somebody else's.
  pairs_.erase(pairOf(name, origin));
  if (const auto found = origins_.find(origin); found != origins_.end()) ++found->second.tries;
  forgive(names_, name);
  if (known_.size() >= kMost) forgetOldest(known_, [](Instant at) { return at; });
  known_[pairOf(name, origin)] = now;
}

}  // namespace zunth::server
