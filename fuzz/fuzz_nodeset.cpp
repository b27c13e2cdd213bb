// Any text as a NodeSet2 file; what is read is written again.
#include "core/model/nodeset.hpp"
#include "core/space/namespace0.hpp"

using namespace zunth;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size > 65536) return 0;
  const std::string text(reinterpret_cast<const char*>(data), size);
  if (text.find("UANodeSet") == std::string::npos) return 0;
  space::Space space("urn:fernhollow.example:fuzz");
  space::loadNamespace0(space);
  model::Findings findings;
  model::readNodeSet(space, {"x.xml", text}, findings);
  for (const auto& finding : findings.list()) (void)model::format(finding, text);
  for (std::uint16_t ns = 2; ns < space.namespaces().size(); ++ns) (void)model::writeNodeSet(space, {&ns, 1});
  return 0;
}
