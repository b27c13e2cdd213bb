#pragma once

#include "service/device/driver_kinds.hpp"
#include "service/device/station.hpp"

#include <condition_variable>
#include <deque>
#include <mutex>
#include <optional>
#include <thread>

namespace zunth::device {

/// A driver that polls a station on a thread of its own: connects, reads each point in its beat, and reconnects with a
/// growing pause, so that no device waits for another. What is asked for goes before the beats, and never instead of
/// them.
class Polled final : public Driver {
 public:
  /// As many writes and actions wait at most.
  static constexpr std::size_t kMostJobs = 1'000;

  /// `name` is the device's, for what it says of it.
  Polled(std::string name, std::unique_ptr<Station> station);
  ~Polled() override;

  const std::vector<Point>& points() const override { return station_->points(); }
  std::vector<DevicePoint> remember(const std::vector<Discovered>& points) override {
    return station_->remember(points);
  }
  void start(Sink& sink) override;
  void stop(std::function<void()> done) override;
  void want(std::vector<Wish> wishes) override;
  void refresh(std::vector<PointIndex> points, ua::Instant deadline, std::function<void()> done) override;
  void write(std::vector<PointWrite> writes, ua::Instant deadline, WritesDone done) override;
  void act(std::vector<Step> steps, ua::Instant deadline, ActDone done) override;
  Figures figures() const override;

 private:
  /// Carried out on the station's thread.
  struct Job {
    /// False when the connection is lost meanwhile; who waits is told then, too.
    std::function<bool()> run;
    std::function<void(ua::Error)> refuse;
    ua::Instant deadline;
  };
  struct Refresh {
    std::vector<PointIndex> points;
    ua::Instant deadline;
    std::function<void()> done;
  };
  /// Points that are read together.
  struct Beat {
    ua::Duration every;
    std::vector<PointIndex> points;
    ua::Instant next;
  };
  static constexpr auto kFirstPause = std::chrono::milliseconds(500);
  static constexpr auto kLongestPause = std::chrono::seconds(30);

  void run(const std::stop_token& stop);
  void takeWishes();
  ua::Instant nextDue() const;
  void put(Job job);
  void work(Job job);
  void serve(std::vector<Refresh> refreshes);
  void keepBeats();
  void listen();
  void tryToConnect();
  bool poll(std::span<const PointIndex> points);
  bool bring(std::vector<Sample> batch);
  bool runWrites(const std::vector<PointWrite>& writes, const WritesDone& done);
  bool runSteps(const std::vector<Step>& steps, const ActDone& done);
  void lost(const ua::Error& why);
  ua::Error away() const;

  std::string name_;
  std::unique_ptr<Station> station_;
  Sink* sink_ = nullptr;

  // The thread's
  std::vector<Beat> beats_;
  bool isConnected_ = false;
  ua::Duration pause_ = kFirstPause;
  ua::Instant triesAt_{};
  ua::Instant listensAt_{};  // again to one that sends by itself
  std::string toldWhy_;      // it can't connect

  mutable std::mutex mutex_;
  std::condition_variable_any wake_;
  // Under the mutex
  std::deque<Job> jobs_;
  std::vector<Refresh> refreshes_;
  std::optional<std::vector<Wish>> wishes_;  // that haven't been taken up
  std::function<void()> stopped_;
  Figures figures_;

  std::jthread thread_;
};

}  // namespace zunth::device
