// Any octets as a message body: decoding must end in a value or an error, and a value must encode to octets that
// decode to the same again.
#include "core/ua/json.hpp"
#include "core/ua/structure_codec.hpp"
#include "core/ua/text.hpp"

#include <cstdlib>

#include "tests/recode.hpp"

using namespace zunth::ua;
using zunth::test::recode;

namespace {

void require(bool condition) {
  if (!condition) std::abort();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const BytesView octets(reinterpret_cast<const std::byte*>(data), size);
  BinaryReader reader(octets);
  const auto id = reader.next<NodeId>();
  if (reader.ok() && id.isNumericIn0()) {
    if (auto once = recode(id.numeric(), reader.rest())) {
      auto twice = recode(id.numeric(), *once);
      require(twice && *twice == *once);
    }
  }
  if (auto value = decode<Variant>(octets)) {
    const Bytes once = encode(*value);
    auto again = decode<Variant>(once);
    require(again && encode(*again) == once);
    (void)format(*value);
    (void)toJson(*value);
  }
  return 0;
}
