#pragma once

#include "core/ua/allowance.hpp"

#include <cstdint>

namespace zunth::space {
class Rights;
}

namespace zunth::monitor {

class MonitoredItem;

/// Where monitored items bring what they queue: a subscription, which reports it to a client, or another that gives
/// values and events on, such as a writer of PubSub.
class NotificationSink {
 public:
  explicit NotificationSink(std::uint32_t id) : id_(id) {}
  virtual ~NotificationSink() = default;
  NotificationSink(const NotificationSink&) = delete;
  NotificationSink& operator=(const NotificationSink&) = delete;

  /// Among the sinks of a server.
  std::uint32_t id() const { return id_; }
  /// What the items' queues, and what is kept of what they told, may hold.
  ua::Allowance& allowance() { return allowance_; }
  /// What whoever listens may hear of events; anything, without one.
  const space::Rights* listener() const { return listener_; }
  void setListener(const space::Rights* rights) { listener_ = rights; }

  /// An item has queued something. It stays in the item's queue until the sink takes it.
  virtual void itemQueued(MonitoredItem& item) = 0;

 private:
  std::uint32_t id_;
  ua::Allowance allowance_{SIZE_MAX};
  const space::Rights* listener_ = nullptr;
};

}  // namespace zunth::monitor
