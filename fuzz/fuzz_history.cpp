// Any octets as a block of history; what is a block is written and read again.
#include "core/history/block.hpp"

#include <cstdlib>

using namespace zunth;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const auto samples = history::decodeBlock({reinterpret_cast<const std::byte*>(data), size});
  if (!samples) return 0;
  const auto again = history::decodeBlock(history::encodeBlock(*samples));
  if (!again || again->size() != samples->size()) std::abort();
  return 0;
}
