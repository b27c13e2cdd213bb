#pragma once

#include "service/device/device_file.hpp"

#include <atomic>
#include <map>
#include <mutex>

namespace zunth::device {

/// How a device is doing.
struct Health {
  bool isConnected = false;
  ua::DateTime since;  // when that began
  ua::Error lastError{ua::status::Good, {}, {}};
  Figures figures;
  std::uint64_t writes = 0;
  ua::DateTime lastContact;         // when it last brought something; null before it did
  std::uint32_t good = 0, bad = 0;  // points, by the last value of each
};

/// A value that is ready to be shown.
struct Shown {
  PointIndex point;
  ua::DataValue value;
  std::shared_ptr<const Trace> trace;  // with the steps of its conversion; only while somebody looks
  Sample::Kind kind = Sample::Kind::Current;
};

/// A device of the site: its driver, what is made of what the driver brings, and how it is doing. Calls from one
/// thread; events come on the driver's. One with a heartbeat has gone while that stands still, however well it answers:
/// what it brings meanwhile is shown when the heart beats again.
class Device final : Sink {
 public:
  struct Events {
    /// Values that belong together; call taken() when they are shown.
    std::function<void(std::vector<Shown>)> values;
    /// It shows points beyond those of its file: they follow on `first`. Comes before their values.
    std::function<void(PointIndex first, std::vector<DevicePoint>)> discovered;
    std::function<void(bool isConnected, ua::DateTime when)> link;
    /// Does something after a while, on the thread of those who call; not when the device has gone by then.
    std::function<void(ua::Duration, std::function<void(Device&)>)> after;
  };
  Device(const DeviceFile& file, Events events);

  /// What it discovered in an earlier run, as points behind those of its file; before start().
  std::vector<DevicePoint> remember(const std::vector<Discovered>& points);

  void start() { driver_->start(*this); }
  void stop(std::function<void()> done) { driver_->stop(std::move(done)); }
  /// These points in their beats, or in those that somebody asks for, and those that its actions wait for and its
  /// heartbeat; no others.
  using Paces = std::map<PointIndex, double>;  // ms
  void want(const DeviceFile& file, const std::vector<PointIndex>& points, const Paces& asked = {});
  void refresh(std::vector<PointIndex> points, ua::Instant deadline, std::function<void()> done) {
    driver_->refresh(std::move(points), deadline, std::move(done));
  }
  /// Values as they are shown; the outcome of each, on any thread.
  void write(std::vector<PointWrite> writes, ua::Instant deadline, Driver::WritesDone done);
  struct Outcome {
    ua::Error error{ua::status::Good, {}, {}};
    std::map<std::string, ua::Variant> outputs;
  };
  void act(const Action& action, const std::map<std::string, ua::Variant>& inputs, ua::Instant deadline,
           std::function<void(Outcome)> done);
  /// Has the way of a point's values shown, as long as as many have asked for it as have not ended it.
  void trace(PointIndex point, bool on) { tracing_[point] += on ? 1 : -1; }

  /// Whether it is connected and brought the point last longer ago.
  bool isOlderThan(PointIndex point, ua::Duration age) const;
  void taken() { --waiting_; }
  Health health() const;
  const std::string& name() const { return name_; }

 private:
  // Sink
  bool samples(std::vector<Sample> batch) override;
  void link(bool isConnected, const ua::Error& why) override;
  void discovered(std::vector<DevicePoint> points) override;
  bool isTraced(PointIndex point) const override { return tracing_[point] > 0; }

  // Actions, step by step
  struct Course;
  void goOn(const std::shared_ptr<Course>& course);
  void runSteps(const std::shared_ptr<Course>& course);
  void wait(const std::shared_ptr<Course>& course, const ActionStep& step);
  void waited(const std::vector<Shown>& shown);
  void endWait(std::uint64_t number, const ua::Error& why);

  // The heartbeat
  void watchHeart(std::uint64_t watch);
  bool withheld(std::vector<Shown>& shown);
  void tellLink(bool isConnected, const ua::Error& why);

  static constexpr int kMostWaiting = 64;  // batches that haven't been shown

  std::string name_;
  void grow(const std::vector<DevicePoint>& points);

  // With room for what it may discover: it is never moved, so that both sides read what they know of it.
  std::vector<DevicePoint> points_;
  Events events_;
  std::vector<std::atomic<int>> tracing_;  // by point
  std::atomic<int> waiting_{0};
  std::vector<ua::DataValue> lastShown_;  // by point, of those with a deadband; the driver's
  mutable std::mutex mutex_;
  // Under the mutex
  Health health_;
  std::vector<ua::Instant> broughtAt_;  // by point
  enum class Last : char { None, Good, Bad };
  std::vector<Last> last_;  // by point
  struct Waiting {
    std::uint64_t number;
    ActionStep step;
    ua::Variant wanted;
    std::shared_ptr<Course> course;
  };
  std::vector<Waiting> waits_;
  std::uint64_t lastWait_ = 0;
  std::optional<Heartbeat> heartbeat_;
  std::uint64_t watch_ = 0;  // of the heart; another one ends it
  bool isLinked_ = false;    // by its driver's word
  bool isHeartDead_ = false;
  ua::Variant heart_;                 // its last value
  ua::Instant beatAt_{};              // when that changed
  std::map<PointIndex, Shown> kept_;  // the last of each point, of a device with a heartbeat

  std::unique_ptr<Driver> driver_;  // the last member: it ends before what it brings things to
};

}  // namespace zunth::device
