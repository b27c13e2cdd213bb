#include "service/client/event_fields.hpp"

#include <algorithm>

namespace zunth::client {

using namespace ua;

SimpleAttributeOperand eventField(std::string_view path, NodeId type) {
  SimpleAttributeOperand out;
  out.typeDefinitionId = std::move(type);
  out.attributeId = static_cast<std::uint32_t>(path.empty() ? AttributeId::NodeId : AttributeId::Value);
  while (!path.empty()) {
    const auto slash = std::min(path.find('/'), path.size());
    out.browsePath.push_back(QualifiedName::parse(path.substr(0, slash)));
    path.remove_prefix(std::min(slash + 1, path.size()));
  }
  return out;
}

}  // namespace zunth::client
