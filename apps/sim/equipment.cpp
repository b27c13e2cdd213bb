#include "apps/sim/equipment.hpp"

#include <bit>

namespace zunth::sim {

void putFloat(std::uint16_t* at, double value) {
  const auto bits = std::bit_cast<std::uint32_t>(static_cast<float>(value));
  at[0] = static_cast<std::uint16_t>(bits >> 16);
  at[1] = static_cast<std::uint16_t>(bits);
}

float getFloat(const std::uint16_t* at) {
  return std::bit_cast<float>(static_cast<std::uint32_t>(at[0]) << 16 | at[1]);
}

void putText(std::span<std::uint16_t> at, std::string text) {
  text.resize(at.size() * 2, ' ');
  for (std::size_t i = 0; i < at.size(); ++i)
    at[i] = static_cast<std::uint16_t>(static_cast<unsigned char>(text[2 * i]) << 8 |
                                       static_cast<unsigned char>(text[2 * i + 1]));
}

}  // namespace zunth::sim
