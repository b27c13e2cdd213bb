#pragma once

#include "core/ua/instant.hpp"
#include "service/device/driver.hpp"

#include <condition_variable>
#include <deque>
#include <functional>
#include <mutex>
#include <optional>
#include <thread>

namespace zunth::device {

/// How a device is doing.
struct Health {
  bool isConnected = false;
  ua::DateTime since;  // when that began
  ua::Error lastError{ua::status::Good, {}, {}};
  std::uint64_t polls = 0, failures = 0, writes = 0;
  double lastRoundTrip = 0;  // ms, of a poll
};

/// A driver on a thread of its own: connects, polls, writes, and reconnects with a growing pause, so that no device
/// waits for another.
class Device {
 public:
  /// Called from the device's thread; pass on what they bring, don't work there.
  struct Events {
    /// Values of some points, as read together.
    std::function<void(std::vector<std::pair<PointIndex, ua::DataValue>>)> values;
    std::function<void(bool isConnected, ua::DateTime when, const ua::Error& why)> connection;
  };
  using Done = std::function<void(Driver::Outcome)>;

  Device(std::string name, std::unique_ptr<Driver> driver, ua::Duration every, std::vector<PointIndex> polled,
         Events events);
  ~Device();

  void start();
  /// Begins to stop; with several devices, ask all before waiting for the first.
  void askToStop() { thread_.request_stop(); }
  /// Waits for what is under way, at most about the driver's time-out.
  void stop();
  /// The driver's answer to a write, or BadNoCommunication when the device is away. The point is read again at once.
  void write(PointIndex point, ua::Variant value, Done done);
  void act(Action action, std::map<std::string, ua::Variant> inputs, Done done);

  /// Polls at once, beside the beat, then calls `done`; a device that is away calls it without.
  void refresh(std::function<void()> done);
  /// Whether it is connected and the last poll began longer ago.
  bool isOlderThan(ua::Duration age) const;

  const std::string& name() const { return name_; }
  Health health() const;

 private:
  struct Job {
    std::function<ua::Result<Driver::Outcome>(Driver&)> run;
    Done done;
    std::optional<PointIndex> readBack;
  };
  static constexpr auto kFirstPause = std::chrono::milliseconds(500);
  static constexpr auto kLongestPause = std::chrono::seconds(30);

  void run(const std::stop_token& stop);
  bool tryToConnect(ua::Duration& pause);
  bool poll(std::span<const PointIndex> points);
  bool work(Job job);
  void disconnected(const ua::Error& why);
  void refuse(Job& job);

  std::string name_;
  std::unique_ptr<Driver> driver_;
  ua::Duration every_;
  std::vector<PointIndex> polled_;
  Events events_;
  mutable std::mutex mutex_;  // guards jobs_, refreshes_, lastPoll_ and health_
  std::condition_variable_any wake_;
  std::deque<Job> jobs_;
  std::vector<std::function<void()>> refreshes_;
  ua::Instant lastPoll_{};
  Health health_;
  std::jthread thread_;
};

}  // namespace zunth::device
