#include "apps/sim/machines.hpp"

#include <algorithm>
#include <cmath>

namespace zunth::sim {

namespace {

constexpr int kSetpoint = 0, kWashSeconds = 2, kSerial = 10;
constexpr int kPortion = 0, kMode = 1, kPause = 2;
constexpr double kSpreading = 50;  // g a second

std::uint16_t decimal(unsigned number) {
  unsigned digits = 0;
  for (int i = 0; i < 4; ++i, number /= 10) digits |= number % 10 << (4 * i);
  return static_cast<std::uint16_t>(digits);
}

}  // namespace

void DrumFilterMachine::prepare(const Tables& tables) {
  putFloat(&tables.holding[kSetpoint], filter_.setpoint());
  tables.holding[kWashSeconds] = 3;
  tables.coils[1] = 1;
  putText(tables.holding.subspan(kSerial, 8), serial_);
}

void DrumFilterMachine::show(const Tables& tables) const {
  auto& input = tables.input;
  putFloat(&input[0], filter_.pressure());
  putFloat(&input[2], filter_.speed());
  input[4] = static_cast<std::uint16_t>(std::lround(filter_.inflow() * 10));
  input[5] = static_cast<std::uint16_t>(std::lround(filter_.waterTemperature() * 100));
  input[6] = static_cast<std::uint16_t>(filter_.washCount() >> 16);
  input[7] = static_cast<std::uint16_t>(filter_.washCount());
  input[8] = filter_.isOverPressure() ? 1 : 0;
  input[9] = filter_.beats();
  for (int i = 0; i < 4; ++i) putFloat(&input[static_cast<std::size_t>(10 + 2 * i)], filter_.nozzlePressure(i));
  tables.discrete[0] = filter_.isRunning();
  tables.discrete[1] = filter_.isWashing();
  tables.coils[0] = filter_.isWashing();
}

/// Whether the drive can run so fast.
bool DrumFilterMachine::accepts(int first, std::span<const std::uint16_t> values) const {
  if (first != kSetpoint || values.size() < 2) return true;
  const float wanted = getFloat(values.data());
  return wanted >= 0 && wanted <= static_cast<float>(DrumFilter::kMostSpeed);
}

void DrumFilterMachine::obey(const Tables& tables) {
  filter_.setSpeed(getFloat(&tables.holding[kSetpoint]));
  filter_.setRunning(tables.coils[1] != 0);
  if (tables.coils[0] && !filter_.isWashing()) filter_.startWash(tables.holding[kWashSeconds]);
}

void FeederMachine::prepare(const Tables& tables) {
  tables.holding[kPortion] = static_cast<std::uint16_t>(portion_);
  tables.holding[kMode] = 1;
  tables.holding[kPause] = static_cast<std::uint16_t>(pause_);
}

void FeederMachine::begin() {
  if (isLocked_ || left_ > 0) return;
  left_ = std::min<double>(portion_, hopper_);
  sincePortion_ = 0;
  ++portions_;
}

void FeederMachine::step(double seconds) {
  sincePortion_ += seconds;
  if (byTheClock_ && sincePortion_ >= pause_) begin();
  const double now = std::min(left_, kSpreading * seconds);
  left_ -= now;
  spread_ += now;
  hopper_ -= now;
  if (hopper_ < 500) hopper_ = 8'000;  // somebody comes by with a bag
}

void FeederMachine::show(const Tables& tables) const {
  const auto grams = static_cast<std::uint32_t>(spread_);
  tables.input[0] = static_cast<std::uint16_t>(grams);
  tables.input[1] = static_cast<std::uint16_t>(grams >> 16);
  tables.input[2] = static_cast<std::uint16_t>(hopper_ / 10);
  tables.input[3] = decimal(portions_);
  tables.discrete[0] = left_ > 0;
  tables.coils[0] = left_ > 0;
}

bool FeederMachine::accepts(int first, std::span<const std::uint16_t> values) const {
  if (first != kPortion || values.empty()) return true;
  return values[0] >= 1 && values[0] <= 5'000;
}

void FeederMachine::obey(const Tables& tables) {
  portion_ = tables.holding[kPortion];
  pause_ = std::max<unsigned>(tables.holding[kPause], 1);
  byTheClock_ = tables.holding[kMode] & 1;
  isLocked_ = tables.holding[kMode] & 2;
  if (tables.coils[0]) begin();
}

}  // namespace zunth::sim
