#pragma once

#include "service/device/bound_devices.hpp"

namespace zunth::bench {

/// Hands over what it is given, as a driver does.
class Hand final : public device::Driver {
 public:
  explicit Hand(std::vector<device::Point> points) : points_(std::move(points)) {}
  const std::vector<device::Point>& points() const override { return points_; }
  void start(device::Sink& sink) override { this->sink = &sink; }
  void stop(std::function<void()> done) override { done(); }
  void want(std::vector<device::Wish>) override {}
  void refresh(std::vector<device::PointIndex>, ua::Instant, std::function<void()> done) override { done(); }
  void write(std::vector<device::PointWrite>, ua::Instant, WritesDone) override {}
  void act(std::vector<device::Step>, ua::Instant, ActDone) override {}
  device::Sink* sink = nullptr;

 private:
  std::vector<device::Point> points_;
};

}  // namespace zunth::bench
