#include "service/net/allocation.hpp"

#include <malloc.h>

namespace zunth::net {

void keepFreedMemory() {
  constexpr int kKept = 64 << 20, kLargestKept = 32 << 20;  // octets
  mallopt(M_TRIM_THRESHOLD, kKept);
  mallopt(M_MMAP_THRESHOLD, kLargestKept);
}

}  // namespace zunth::net
