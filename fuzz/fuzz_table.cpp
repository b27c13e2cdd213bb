// Any text as a table of variables.
#include "core/model/table.hpp"

using namespace zunth::model;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string text(reinterpret_cast<const char*>(data), size);
  Findings findings;
  (void)readTable("x.csv", text, "urn:fernhollow.example:fuzz", Units::standard(), findings);
  for (const auto& finding : findings.list()) (void)format(finding, text);
  return 0;
}
