// Answers of a device: any octets end in values, a refusal or an error.
#include "service/device/modbus_frames.hpp"

#include <cstdint>

using namespace zunth;
using namespace zunth::device::modbus;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 6) return 0;
  const auto* octets = reinterpret_cast<const std::byte*>(data);
  const auto count = static_cast<std::uint16_t>(1 + data[1] % 125);
  const auto request = data[0] % 5 == 4 ? writeOne(Table::Coil, data[2], data[3])
                                        : readRequest(static_cast<Table>(data[0] % 4), data[2], count);
  const auto answer = answerTo(request, ua::BytesView(octets + 4, size - 4));
  if (answer && !answer->refusal.isBad() && data[0] % 5 != 4 && answer->registers.size() != count) __builtin_trap();
  return 0;
}
