// Any text as a file of the model language; what is sound is written and read again.
#include "core/model/build.hpp"
#include "core/model/language_writer.hpp"
#include "core/space/namespace0.hpp"

using namespace zunth;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size > 16384) return 0;
  const std::string text(reinterpret_cast<const char*>(data), size);
  model::Findings findings;
  const model::Entry root = model::readYaml("x.yaml", text, findings);
  for (const auto& finding : findings.list()) (void)model::format(finding, text);
  // Loading namespace 0 for each input costs most of the time: what is no model at all goes without.
  if (findings.hasErrors() || !root.find("namespace")) return 0;
  space::Space space("urn:fernhollow.example:fuzz");
  space::loadNamespace0(space);
  model::build(space, {{"x.yaml", text}}, findings);
  for (const auto& finding : findings.list()) (void)model::format(finding, text);
  if (!findings.hasErrors())
    for (std::uint16_t ns = 2; ns < space.namespaces().size(); ++ns) (void)model::writeModel(space, ns);
  return 0;
}
