#include "core/space/conditions.hpp"

#include <algorithm>

namespace zunth::space {

using namespace ua;

namespace {

/// Fields of conditions that say what is watched and how; all others say how it stands.
constexpr std::string_view kSettings[] = {"InputNode",
                                          "SetpointNode",
                                          "NormalState",
                                          "HighHighLimit",
                                          "HighLimit",
                                          "LowLimit",
                                          "LowLowLimit",
                                          "SeverityHighHigh",
                                          "SeverityHigh",
                                          "SeverityLow",
                                          "SeverityLowLow",
                                          "HighHighDeadband",
                                          "HighDeadband",
                                          "LowDeadband",
                                          "LowLowDeadband",
                                          "OnDelay",
                                          "OffDelay",
                                          "MaxTimeShelved",
                                          "EngineeringUnits",
                                          "InputArguments",
                                          "OutputArguments",
                                          "ReAlarmTime",
                                          "BaseHighHighLimit",
                                          "BaseHighLimit",
                                          "BaseLowLimit",
                                          "BaseLowLowLimit",
                                          "ConditionClassId",
                                          "ConditionClassName",
                                          "ConditionSubClassId",
                                          "ConditionSubClassName",
                                          "TargetValueNode",
                                          "ExpectedTime",
                                          "Tolerance",
                                          "AudibleEnabled",
                                          "AudibleSound",
                                          "SupportsFilteredRetain",
                                          "Prompt",
                                          "ResponseOptionSet",
                                          "DefaultResponse",
                                          "OkResponse",
                                          "CancelResponse"};

constexpr int kDeepest = 100;  // of what a foreign model may have go round in circles

}  // namespace

std::string_view nameOf(LimitLevel level) {
  constexpr std::string_view names[kLimitLevels] = {"HighHigh", "High", "Low", "LowLow"};
  return names[static_cast<std::size_t>(level)];
}

bool isCondition(const Space& space, NodeIndex node) {
  if (space.nodeClass(node) != NodeClass::Object) return false;
  const NodeIndex type = space.typeDefinition(node);
  return type != kNoNode && space.isSubtype(type, id::ConditionType);
}

bool isPlainCondition(const Space& space, NodeIndex type) {
  return space.isSubtype(type, id::AcknowledgeableConditionType) && !space.isSubtype(type, id::AlarmConditionType);
}

bool isMetrics(const Space& space, NodeIndex node) {
  if (space.nodeClass(node) != NodeClass::Object) return false;
  const NodeIndex type = space.typeDefinition(node);
  return type != kNoNode && space.isSubtype(type, id::AlarmMetricsType);
}

bool isInType(const Space& space, NodeIndex node) {
  for (int depth = 0; node != kNoNode && depth < kDeepest; ++depth, node = space.parent(node)) {
    const auto nodeClass = space.nodeClass(node);
    if (nodeClass == NodeClass::ObjectType || nodeClass == NodeClass::VariableType) return true;
  }
  return false;
}

bool isConditionState(const Space& space, NodeIndex variable) {
  const auto name = space.browseName(variable);
  if (name.namespaceIndex != 0) return false;
  NodeIndex above = space.parent(variable);
  for (int depth = 0; above != kNoNode && depth < 3; ++depth, above = space.parent(above)) {
    if (isMetrics(space, above)) return name.name.view() != "Rate";
    if (!isCondition(space, above)) continue;
    if (std::ranges::find(kSettings, name.name.view()) != std::end(kSettings)) return false;
    // Alarms without limits have one severity, which the model gives them.
    const bool isFixed =
        name.name.view() == "Severity" && !space.isSubtype(space.typeDefinition(above), id::LimitAlarmType);
    return !isFixed;
  }
  return false;
}

NodeIndex ownProperty(const Space& space, NodeIndex node, std::string_view name) {
  for (const auto& reference : space.references(node))
    if (reference.isForward() && space.nodeId(reference.type()).is(id::HasProperty) &&
        space.name(reference.target()) == name && space.browseName(reference.target()).namespaceIndex != 0)
      return reference.target();
  return kNoNode;
}

AlarmLinks alarmLinks(const Space& space, NodeIndex alarm) {
  AlarmLinks out;
  const NodeIndex type = space.typeDefinition(alarm), owner = space.parent(alarm);
  if (type == kNoNode || owner == kNoNode || space.nodeClass(owner) != NodeClass::Object) return out;
  NodeIndex property = kNoNode;
  if (space.isSubtype(type, id::AlarmConditionType))
    property = space.child(alarm, {0, "InputNode"}, id::HasProperty);
  else if (space.isSubtype(type, id::DialogConditionType))
    property = ownProperty(space, alarm, kAskedBy);
  else if (isPlainCondition(space, type))
    property = ownProperty(space, alarm, kSaidBy);
  if (property == kNoNode) return out;
  const DataValue held = space.value(property);
  const auto* input = held.value.get<NodeId>();
  const NodeIndex source = input && !input->isNull() ? space.find(*input) : kNoNode;
  if (source == kNoNode) return out;
  out.links.push_back({source, space.at(id::HasCondition), alarm});
  out.links.push_back({owner, space.at(id::HasEventSource), source});
  const NodeIndex objects = space.at(id::ObjectsFolder), hasNotifier = space.at(id::HasNotifier);
  NodeIndex at = owner;
  for (int depth = 0; at != kNoNode && at != objects && depth < kDeepest; ++depth) {
    const NodeIndex above = space.parent(at);
    out.notifiers.push_back(at);
    const bool isTop = above == kNoNode || above == objects || space.nodeClass(above) != NodeClass::Object;
    out.links.push_back({isTop ? space.at(id::Server) : above, hasNotifier, at});
    at = isTop ? kNoNode : above;
  }
  return out;
}

}  // namespace zunth::space
