#pragma once

#include "service/device/driver.hpp"

#include <span>

namespace zunth::device {

/// A device that is asked and answers, through a library or calls that block; Polled makes a driver of it. All calls
/// come from one thread, each for about the device's time-out at most. A failed Result means that the connection is
/// gone; what one point refuses is that point's status.
class Station {
 public:
  virtual ~Station() = default;
  virtual const std::vector<Point>& points() const = 0;
  virtual ua::Result<void> connect() = 0;
  virtual void disconnect() = 0;
  /// One value for each point, in order, with the time it was measured; Bad statuses for points that the device
  /// refuses.
  virtual ua::Result<std::vector<ua::DataValue>> read(std::span<const PointIndex> points) = 0;
  /// The same for one point, with each stage of how its value comes about.
  struct Explained {
    Trace trace;
    ua::DataValue value;
  };
  virtual ua::Result<Explained> explain(PointIndex point) = 0;
  /// What the device says to it: Good, or BadOutOfRange, BadNotWritable, BadDeviceFailure...
  struct Outcome {
    ua::Error error{ua::status::Good, {}, {}};
  };
  virtual ua::Result<Outcome> write(const PointWrite& write) = 0;

  /// Driver::remember().
  virtual std::vector<DevicePoint> remember(const std::vector<Discovered>& points);
  /// Points that its file doesn't name and that it has come to know since the last call, for the sink.
  virtual std::vector<DevicePoint> takeDiscovered();

  /// Whether it also sends by itself. Then listen() is called over and over: it waits as long as `patience` for
  /// something to come, and gives all that did.
  virtual bool sendsByItself() const { return false; }
  virtual ua::Result<std::vector<Sample>> listen(ua::Duration patience) {
    (void)patience;
    return std::vector<Sample>();
  }
};

}  // namespace zunth::device
