#pragma once

#include "apps/sim/drum_filter.hpp"
#include "apps/sim/equipment.hpp"

namespace zunth::sim {

/// A drum filter's registers.
///
///     input    0 Float   pressure, kPa          discrete 0  running
///     input    2 Float   speed, Hz              discrete 1  washing
///     input    4 UInt16  inflow, 0.1 L/min      coil     0  start a wash
///     input    5 Int16   temperature, 0.01 °C   coil     1  run
///     input    6 UInt32  washes so far          holding  0 Float   speed setpoint, Hz (0 to 50, else refused)
///     input    8 UInt16  alarms, bit 0: over pressure
///     holding 10 String  serial, 8 registers    holding  2 UInt16  seconds of the next wash
class DrumFilterMachine final : public Equipment {
 public:
  explicit DrumFilterMachine(std::string serial) : serial_(std::move(serial)) {}
  std::string name() const override { return "drum filter " + serial_; }
  std::vector<std::string> nameplate() const override { return {"Fernhollow Workshop", "DF", "2.1"}; }
  void prepare(const Tables& tables) override;
  void step(double seconds) override { filter_.step(seconds); }
  void show(const Tables& tables) const override;
  bool accepts(int first, std::span<const std::uint16_t> values) const override;
  void obey(const Tables& tables) override;

 private:
  std::string serial_;
  DrumFilter filter_;
};

/// A feeder above a tank: it spreads portions of pellets out of a hopper.
///
///     input    0 UInt32  grams spread so far, low register first     coil     0  spread a portion now
///     input    2 UInt16  pellets in the hopper, 10 g                 discrete 0  spreading
///     input    3 BCD     portions today                              holding  0 UInt16  grams a portion (1 to 5000)
///     holding  1 UInt16  bit 0: by the clock, bit 1: locked          holding  2 UInt16  seconds between portions
class FeederMachine final : public Equipment {
 public:
  std::string name() const override { return "feeder"; }
  std::vector<std::string> nameplate() const override { return {"Fernhollow Workshop", "FL", "1.4"}; }
  void prepare(const Tables& tables) override;
  void step(double seconds) override;
  void show(const Tables& tables) const override;
  bool accepts(int first, std::span<const std::uint16_t> values) const override;
  void obey(const Tables& tables) override;

 private:
  void begin();
  double left_ = 0;          // g of the portion that is being spread
  double spread_ = 0;        // g
  double hopper_ = 8'000;    // g
  double sincePortion_ = 0;  // s
  unsigned portions_ = 0;
  unsigned portion_ = 400, pause_ = 30;
  bool byTheClock_ = true, isLocked_ = false;
};

}  // namespace zunth::sim
