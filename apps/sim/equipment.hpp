#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace zunth::sim {

/// The registers and bits behind which equipment is seen.
struct Tables {
  std::span<std::uint16_t> input, holding;
  std::span<std::uint8_t> coils, discrete;
};

/// Values of two registers, the high one first.
void putFloat(std::uint16_t* at, double value);
float getFloat(const std::uint16_t* at);
void putText(std::span<std::uint16_t> at, std::string text);

/// A machine with Modbus registers. Time is passed in.
class Equipment {
 public:
  virtual ~Equipment() = default;
  virtual std::string name() const = 0;
  /// Who made it, what it is, its revision; nothing when it doesn't say (Modbus application protocol, 6.21).
  virtual std::vector<std::string> nameplate() const { return {}; }
  /// How many registers and bits its tables have.
  virtual std::size_t registers() const { return 32; }
  virtual std::size_t bits() const { return 16; }
  /// What the registers hold at the beginning.
  virtual void prepare(const Tables& tables) = 0;
  /// Lets `seconds` pass.
  virtual void step(double seconds) = 0;
  /// Puts its state into the tables.
  virtual void show(const Tables& tables) const = 0;
  /// Whether it takes what is to be written to holding registers from `first` on; what it refuses changes nothing.
  virtual bool accepts(int first, std::span<const std::uint16_t> values) const = 0;
  /// Does what the tables now ask for.
  virtual void obey(const Tables& tables) = 0;
};

}  // namespace zunth::sim
