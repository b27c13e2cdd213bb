// Any octets as a block of history, as they are and packed as blocks are, so that what is inside is read, too; what is
// a block is written and read again.
#include "core/history/block.hpp"

#include <cstdlib>

#include <zstd.h>

using namespace zunth;

namespace {

void readAndWrite(ua::BytesView octets) {
  const auto samples = history::decodeBlock(octets);
  if (!samples) return;
  const auto again = history::decodeBlock(history::encodeBlock(*samples));
  if (!again || again->size() != samples->size()) std::abort();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  readAndWrite({reinterpret_cast<const std::byte*>(data), size});
  ua::Bytes packed(ZSTD_compressBound(size));
  packed.resize(ZSTD_compress(packed.data(), packed.size(), data, size, 1));
  readAndWrite(packed);
  return 0;
}
