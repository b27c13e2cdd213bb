// Any text as a model file: what begins like XML as a node set, else in the model language.
#include "core/model/nodeset.hpp"
#include "core/space/namespace0.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size > 16384) return 0;
  const std::string text(reinterpret_cast<const char*>(data), size);
  // Loading namespace 0 for each input costs most of the time, so the words' grammars are tried without it, too.
  zunth::model::Findings findings;
  zunth::space::Space space("urn:fernhollow.example:fuzz");
  if (text.starts_with('<')) {
    zunth::space::loadNamespace0(space);
    zunth::model::readNodeSet(space, {"x.xml", text}, findings);
    for (std::uint16_t i = 2; i < space.namespaces().size(); ++i) (void)zunth::model::writeNodeSet(space, {&i, 1});
  } else {
    zunth::model::readYaml("x.yaml", text, findings);
    zunth::space::loadNamespace0(space);
    zunth::model::build(space, {{"x.yaml", text}}, findings);
  }
  for (const auto& finding : findings.list()) (void)zunth::model::format(finding, text);
  return 0;
}
