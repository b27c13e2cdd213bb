#include "apps/sim/drum_filter.hpp"

#include <algorithm>
#include <cmath>

namespace zunth::sim {

void DrumFilter::step(double seconds) {
  age_ += seconds;
  const double wanted = running_ ? setpoint_ : 0;
  const double most = kRamp * seconds;
  speed_ += std::clamp(wanted - speed_, -most, most);
  if (isWashing()) {
    const double washed = std::min(seconds, washLeft_);
    washLeft_ -= washed;
    pressure_ = std::max(kCleanPressure, pressure_ - kWashRate * washed);
  } else if (running_) {
    // A faster drum turns clean screen into the water sooner and clogs more slowly.
    const double clogging = 0.45 * (1.4 - speed_ / kMostSpeed);
    pressure_ = std::min(kMostPressure, pressure_ + clogging * seconds);
  }
}

bool DrumFilter::setSpeed(double hertz) {
  if (!(hertz >= 0 && hertz <= kMostSpeed)) return false;
  setpoint_ = hertz;
  return true;
}

void DrumFilter::startWash(std::uint16_t seconds) {
  if (seconds == 0) return;
  washLeft_ = seconds;
  ++washCount_;
}

double DrumFilter::inflow() const {
  if (!running_) return 0;
  // The pumps breathe a little; a clogged screen lets less through.
  return 1850 + 60 * std::sin(age_ / 7) + 15 * std::sin(age_ * 1.7) - 9 * std::max(0.0, pressure_ - 20);
}

double DrumFilter::waterTemperature() const { return 11.4 + 0.3 * std::sin(age_ / 90); }

/// The water loses pressure on its way along the bar.
double DrumFilter::nozzlePressure(int nozzle) const {
  return isWashing() ? 340 - 9 * nozzle + 4 * std::sin(age_ * 3 + nozzle) : 0;
}

}  // namespace zunth::sim
