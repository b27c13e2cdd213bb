#pragma once

#include <map>
#include <memory>
#include <mutex>

namespace zunth::device {

/// What several devices share, such as a line or a broker's session: made for the first who wants it, and gone with the
/// last. From any thread.
template <class Key, class Shared>
class SharedByName {
 public:
  template <class Make>
  std::shared_ptr<Shared> get(const Key& key, Make make) {
    const std::lock_guard lock(mutex_);
    std::erase_if(known_, [](const auto& each) { return each.second.expired(); });
    auto& known = known_[key];
    auto shared = known.lock();
    if (!shared) known = shared = make();
    return shared;
  }

 private:
  std::mutex mutex_;
  std::map<Key, std::weak_ptr<Shared>> known_;
};

}  // namespace zunth::device
