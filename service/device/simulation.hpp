#pragma once

#include "service/device/driver_kinds.hpp"
#include "service/device/recording.hpp"
#include "service/device/station.hpp"

#include <filesystem>
#include <random>

/// Devices that aren't there: signals by formula and values out of tables, so that a client needs no plant.
namespace zunth::device::simulation {

DriverSetup readDevice(const DeviceText& text, model::Findings& findings);

/// A value that changes with time as its words say.
struct Signal {
  enum class Shape { Constant, Ramp, Sine, Square, Walk, Steps, Lag, Table };
  Point point;
  Shape shape = Shape::Constant;
  ua::Variant constant;
  double low = 0, high = 1;  // of a ramp, sine, square or walk
  double period = 60;        // s; a lag's time constant
  double step = 0;           // of a walk, at each look
  double noise = 0;          // standard deviation of what is added
  struct Stay {
    ua::Variant value;
    double seconds;
  };
  std::vector<Stay> stays;  // of steps
  std::string of;           // the point that lags
  std::filesystem::path table;
  std::string column;
  bool isLooped = true;  // a table, or only once
  double speed = 1;      // of a table: seconds of it in one second
};
/// "sine 2..8 every 60 s noise 0.1". Nothing and a finding when it is not sound.
std::optional<Signal> parseSignal(const DeviceText::PointText& point, Conversion& conversion,
                                  model::Findings& findings);

/// Signals as a device.
class SimulatedStation final : public Station {
 public:
  SimulatedStation(std::vector<Signal> signals, std::uint64_t seed);

  const std::vector<Point>& points() const override { return names_; }
  ua::Result<void> connect() override;
  void disconnect() override {}
  ua::Result<std::vector<ua::DataValue>> read(std::span<const PointIndex> points) override;
  ua::Result<Explained> explain(PointIndex point) override;
  ua::Result<Outcome> write(const PointWrite& write) override;

  /// The value of a signal so long after the start.
  ua::DataValue at(PointIndex point, double seconds);

 private:
  double shapeAt(PointIndex point, double seconds);

  std::vector<Signal> signals_;
  std::vector<Point> names_;
  std::vector<Recording> recordings_;  // by point
  std::vector<double> last_;           // of walks and lags
  std::vector<double> lookedAt_;       // s
  std::mt19937_64 random_;
  std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
};

}  // namespace zunth::device::simulation
