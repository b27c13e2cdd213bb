#pragma once

#include "core/ua/generated/node_ids.hpp"
#include "core/ua/generated/structures.hpp"

namespace zunth::client {

/// A field of events by its path of names, as a filter asks for it (Part 4, 7.4.4.5): "Severity", "ActiveState/Id",
/// "2:pump/3:speed". Without a path, the node of the condition itself (Part 9, 5.5.2).
ua::SimpleAttributeOperand eventField(std::string_view path, ua::NodeId type = ua::id::BaseEventType);

}  // namespace zunth::client
