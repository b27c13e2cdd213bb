// Any octets as what was kept: how alarms stood, an event, and a value from the columns of a database that others write
// to; what is sound is written and read again.
#include "core/alarm/kept_state.hpp"
#include "core/history/kept_event.hpp"
#include "service/history/postgres_rows.hpp"

#include <cstdlib>

using namespace zunth;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 2) return 0;
  const ua::BytesView octets(reinterpret_cast<const std::byte*>(data), size);
  if (const auto state = alarm::decodeState(octets)) {
    const auto written = alarm::encodeState(state->trunk, state->branches);
    const auto again = alarm::decodeState(written);
    if (!again || alarm::encodeState(again->trunk, again->branches) != written) std::abort();
  }
  (void)history::wordsOf(octets);
  (void)history::eventIdOf(octets);
  static const space::Space space("urn:fernhollow.example:fuzz");
  if (const auto event = history::decodeEvent(space, octets)) (void)history::encodeEvent(space, *event);
  history::RowValue row;
  row.type = data[0];
  const std::string text(reinterpret_cast<const char*>(data) + 2, size - 2);
  (data[1] & 1 ? row.exact : row.number) = text;
  if (const auto value = row.value()) {
    // What comes out goes in again as the same, but for what isn't a number.
    const auto back = history::RowValue::of(*value).value();
    if (!back) std::abort();
  }
  return 0;
}
