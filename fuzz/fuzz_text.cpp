// Any text as a node id, a time, an index range, a typed value: what people and configuration hand in; and as what a
// browser asks for.
#include "core/ua/index_range.hpp"
#include "core/ua/text.hpp"
#include "service/console/request.hpp"

#include <cstdlib>

using namespace zunth::ua;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 1) return 0;
  const std::string_view text(reinterpret_cast<const char*>(data + 1), size - 1);
  if (auto id = NodeId::parse(text))
    if (!(*NodeId::parse(id->text()) == *id)) std::abort();
  if (auto id = ExpandedNodeId::parse(text))
    if (!(*ExpandedNodeId::parse(id->text()) == *id)) std::abort();
  if (auto time = DateTime::parse(text))
    if (!(*DateTime::parse(time->text()) == *time)) std::abort();
  const auto type = static_cast<BuiltInType>(data[0] % 25 + 1);
  if (auto value = parse(text, type, data[0] & 0x80)) (void)format(*value);
  if (auto range = IndexRange::parse(text)) {
    const Variant matrix = Variant::array(std::vector<std::int32_t>{1, 2, 3, 4, 5, 6}, {2, 3});
    if (auto part = range->of(matrix))
      if (auto whole = range->replace(matrix, *part); whole && !(*whole == matrix)) std::abort();
    (void)range->of(Variant("trout"));
    (void)range->of(Variant::array({String("a"), String("bcd")}));
  }
  zunth::console::Request request;
  if (zunth::console::readTarget(text, request)) {
    (void)request.number("points", 5, 100);
    for (const auto& [name, value] : request.query) (void)zunth::console::momentOf(value);
  }
  (void)zunth::console::cookieNamed(text, "zunth");
  return 0;
}
