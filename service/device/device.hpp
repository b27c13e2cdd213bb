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

inline ua::DateTime wallClock() { return ua::DateTime::from(std::chrono::system_clock::now()); }

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
  using Write = std::pair<PointIndex, ua::Variant>;
  using WritesDone = std::function<void(std::vector<ua::Error>)>;
  /// As many writes, actions and refreshes wait at most; the next is refused with BadTooManyOperations.
  static constexpr std::size_t kMostJobs = 1'000;

  Device(std::string name, std::unique_ptr<Driver> driver, ua::Duration every, std::vector<PointIndex> polled,
         Events events);
  ~Device();

  void start();
  /// Begins to stop; with several devices, ask all before waiting for the first.
  void askToStop() { thread_.request_stop(); }
  /// Waits for what is under way, at most about the driver's time-out.
  void stop();
  /// Polls other points from the next beat on; the connection goes on.
  void want(std::vector<PointIndex> polled, ua::Duration every);
  /// The driver's answer to each, or BadNoCommunication when the device is away. The points are read again at once.
  /// What has not begun at the deadline is not done any more, and answered BadTimeout.
  void write(std::vector<Write> writes, ua::Instant deadline, WritesDone done);
  void act(Action action, std::map<std::string, ua::Variant> inputs, ua::Instant deadline, Done done);

  using ExplainDone = std::function<void(ua::Result<std::vector<Stage>>)>;
  void explain(PointIndex point, ua::Instant deadline, ExplainDone done);

  /// Polls at once, beside the beat, then calls `done`; a device that is away calls it without.
  void refresh(std::function<void()> done);
  /// Whether it is connected and the last poll began longer ago.
  bool isOlderThan(ua::Duration age) const;

  const std::string& name() const { return name_; }
  Health health() const;

 private:
  /// Carried out on the device's thread.
  struct Job {
    /// False when the connection is lost meanwhile; `done` is called then, too.
    std::function<bool()> run;
    std::function<void(ua::Error)> refuse;
    ua::Instant deadline;
  };
  static constexpr auto kFirstPause = std::chrono::milliseconds(500);
  static constexpr auto kLongestPause = std::chrono::seconds(30);

  void run(const std::stop_token& stop);
  bool tryToConnect(ua::Duration& pause);
  bool poll(std::span<const PointIndex> points);
  void put(Job job);
  bool runWrites(const std::vector<Write>& writes, const WritesDone& done);
  bool runAction(const Action& action, const std::map<std::string, ua::Variant>& inputs, const Done& done);
  void work(Job job, bool& connected);
  void disconnected(const ua::Error& why);
  ua::Error away() const;

  std::string name_;
  std::unique_ptr<Driver> driver_;
  ua::Duration every_;
  std::vector<PointIndex> polled_, pollsNow_;  // what is wanted, and what the thread polls
  Events events_;
  mutable std::mutex mutex_;  // guards jobs_, refreshes_, polled_, every_, lastPoll_ and health_
  std::condition_variable_any wake_;
  std::deque<Job> jobs_;
  std::vector<std::function<void()>> refreshes_;
  ua::Instant lastPoll_{};
  Health health_;
  std::jthread thread_;
};

}  // namespace zunth::device
