#include "service/device/scan.hpp"

#include "service/device/device.hpp"

#include <algorithm>
#include <condition_variable>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;

namespace {

/// Keeps what a device brings, for one who waits.
class Tryout {
 public:
  Tryout(const DeviceFile& file, std::vector<PointIndex> points, Duration patience)
      : file_(withoutHeart(file)),
        points_(std::move(points)),
        deadline_(std::chrono::steady_clock::now() + patience),
        came_(file.points.size()) {
    Device::Events events;
    events.values = [this](std::vector<Shown> batch) { take(std::move(batch)); };
    events.discovered = [](PointIndex, std::vector<DevicePoint>) {};
    events.link = [this](bool isConnected, DateTime) { linked(isConnected); };
    device_.emplace(file_, std::move(events));
  }

  Result<std::vector<TriedPoint>> run() {
    for (const PointIndex point : points_) device_->trace(point, true);
    device_->want(file_, points_);
    device_->start();
    std::unique_lock lock(mutex_);
    changed_.wait_until(lock, deadline_, [this] { return isConnected_ || hasFailed_; });
    lock.unlock();
    if (!isConnected_) {
      const Error why = device_->health().lastError;
      return why.code.isBad() ? why
                              : Error{status::BadTimeout, fmt::format("{} does not answer in time", file_.address), {}};
    }
    device_->refresh(points_, deadline_, [] {});
    lock.lock();
    changed_.wait_until(lock, deadline_, [this] { return left_ == 0; });
    std::vector<TriedPoint> out;
    for (const PointIndex i : points_) {
      const DevicePoint& point = file_.points[i];
      TriedPoint tried{point.name(), point.raw.where, came_[i].value, {}};
      if (came_[i].trace) tried.trace = *came_[i].trace;
      if (!came_[i].isThere) tried.value = DataValue(Variant(), wallClock(), status::BadTimeout);
      out.push_back(std::move(tried));
    }
    return out;
  }

 private:
  /// A look is over before a heart is missed.
  static DeviceFile withoutHeart(DeviceFile file) {
    file.heartbeat.reset();
    return file;
  }
  struct Came {
    bool isThere = false;
    DataValue value;
    std::shared_ptr<const Trace> trace;
  };
  void take(std::vector<Shown> batch) {
    const std::lock_guard lock(mutex_);
    for (auto& each : batch) {
      if (each.point >= came_.size()) continue;  // discovered
      Came& came = came_[each.point];
      if (!std::exchange(came.isThere, true) && std::ranges::find(points_, each.point) != points_.end()) --left_;
      came.value = std::move(each.value);
      if (each.trace) came.trace = std::move(each.trace);
    }
    device_->taken();
    changed_.notify_all();
  }
  void linked(bool isConnected) {
    const std::lock_guard lock(mutex_);
    isConnected_ = isConnected;
    hasFailed_ |= !isConnected;
    changed_.notify_all();
  }

  const DeviceFile file_;
  const std::vector<PointIndex> points_;  // each once
  const Instant deadline_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::vector<Came> came_;
  std::size_t left_ = points_.size();
  bool isConnected_ = false, hasFailed_ = false;
  std::optional<Device> device_;  // the last member: it ends before what it brings things to
};

}  // namespace

Result<std::vector<TriedPoint>> tryOut(const DeviceFile& file, Duration patience) {
  std::vector<PointIndex> all(file.points.size());
  for (PointIndex i = 0; i < all.size(); ++i) all[i] = i;
  return tryOut(file, all, patience);
}

Result<std::vector<TriedPoint>> tryOut(const DeviceFile& file, const std::vector<PointIndex>& points,
                                       Duration patience) {
  return Tryout(file, points, patience).run();
}

Trace nameplateOf(const DeviceFile& file) {
  if (!file.nameplate) return {};
  auto told = file.nameplate();
  return told ? std::move(*told) : Trace();
}

Result<std::vector<FoundPoint>> scan(const DriverKind& kind, const DeviceText& text, const ScanWish& wish,
                                     model::Findings& findings) {
  if (!kind.scan)
    return Error{status::BadNotSupported, fmt::format("devices of the kind {} can't be looked through", kind.name),
                 "write its points by hand: docs/devices.md"};
  return kind.scan(text, wish, findings);
}

}  // namespace zunth::device
