// Any text as a model file.
#include "core/model/build.hpp"
#include "core/space/namespace0.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size > 4096) return 0;
  const std::string text(reinterpret_cast<const char*>(data), size);
  // Loading namespace 0 for each input costs most of the time, so the words' grammars are tried without it, too.
  zunth::model::Findings findings;
  zunth::model::readYaml("x.yaml", text, findings);
  zunth::space::Space space("urn:fernhollow.example:fuzz");
  zunth::space::loadNamespace0(space);
  zunth::model::build(space, {{"x.yaml", text}}, findings);
  for (const auto& finding : findings.list()) (void)zunth::model::format(finding, text);
  return 0;
}
