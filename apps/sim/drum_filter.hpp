#pragma once

#include <cstdint>
#include <string>

namespace zunth::sim {

/// A rotating screen that strains solids out of return water. Solids clog it and its back pressure climbs; a wash
/// clears it. The drum's speed follows its setpoint with a ramp. Pure arithmetic: time is passed in.
class DrumFilter {
 public:
  static constexpr double kMostSpeed = 50;     // Hz
  static constexpr double kMostPressure = 50;  // kPa
  static constexpr double kRamp = 4;           // Hz a second
  static constexpr double kCleanPressure = 6;  // kPa, just washed
  static constexpr double kWashRate = 9;       // kPa a second, while washing
  static constexpr double kOverPressure = 38;  // kPa, at which the filter trips

  /// Lets `seconds` pass.
  void step(double seconds);
  /// Hz; false, and nothing changes, when the drive can't run so fast.
  bool setSpeed(double hertz);
  void startWash(std::uint16_t seconds);
  void setRunning(bool on) { running_ = on; }

  double pressure() const { return pressure_; }  // kPa
  double speed() const { return speed_; }        // Hz
  double setpoint() const { return setpoint_; }  // Hz
  double inflow() const;                         // L/min
  double waterTemperature() const;               // °C
  bool isRunning() const { return running_; }
  bool isWashing() const { return washLeft_ > 0; }
  bool isOverPressure() const { return pressure_ > kOverPressure; }
  std::uint32_t washCount() const { return washCount_; }
  double nozzlePressure(int nozzle) const;  // kPa, at one of the four that spray the screen
  /// Counts seconds while its program runs.
  std::uint16_t beats() const { return static_cast<std::uint16_t>(age_); }

 private:
  double age_ = 0;  // s
  double pressure_ = 9;
  double speed_ = 20;
  double setpoint_ = 20;
  double washLeft_ = 0;  // s
  std::uint32_t washCount_ = 0;
  bool running_ = true;
};

}  // namespace zunth::sim
