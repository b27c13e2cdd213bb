#include "core/alarm/own_alarm.hpp"

#include "core/space/instances.hpp"

namespace zunth::alarm {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;
using space::Space;

namespace {

constexpr std::uint16_t kServersNamespace = 1;

/// By the path from the node above.
NodeIndex addBelow(Space& space, NodeIndex parent, NewNode made) {
  made.nodeId = NodeId(kServersNamespace,
                       String(std::string(space.nodeId(parent).octets().view()) + "/" + made.browseName.name.str()));
  const auto added = space.add(std::move(made));
  if (!added) return kNoNode;
  space.setPermissions(*added, space::usualPermissions());
  return *added;
}

NodeIndex addValue(Space& space, NodeIndex alarm, std::string_view name, NodeIndex dataType, Variant value) {
  NewNode made;
  made.nodeClass = NodeClass::Variable;
  made.browseName = {kServersNamespace, String(name)};
  made.traits.dataType = dataType;
  made.value = std::move(value);
  const NodeIndex added = addBelow(space, alarm, std::move(made));
  if (added == kNoNode) return added;
  space.refer(alarm, id::HasProperty, added);
  space.refer(added, id::HasTypeDefinition, space.at(id::PropertyType));
  return added;
}

void set(Space& space, NodeIndex alarm, const char* name, Variant value) {
  if (const NodeIndex field = space.child(alarm, {0, name}); field != kNoNode)
    space.setValue(field, DataValue(std::move(value)));
}

}  // namespace

NodeIndex addOwnAlarm(Space& space, NodeIndex owner, const OwnAlarm& alarm) {
  const NodeId nodeId(kServersNamespace, String(alarm.id));
  if (const NodeIndex there = space.find(nodeId); there != kNoNode) return there;
  NewNode made;
  made.nodeId = nodeId;
  made.browseName = alarm.name;
  made.description = alarm.about;
  const auto added = space.add(std::move(made));
  if (!added) return kNoNode;
  space.setPermissions(*added, space::usualPermissions());
  space.refer(owner, id::HasComponent, *added);
  const NodeIndex type = space.at(alarm.type);
  space.refer(*added, id::HasTypeDefinition, type);
  const auto add = [&](NodeIndex parent, NewNode copy) { return addBelow(space, parent, std::move(copy)); };
  space::instantiate(space, *added, type, add);
  set(space, *added, "Severity", Variant(alarm.severity));
  const NodeIndex kind = space.at(alarm.conditionClass);
  std::string className(space.name(kind));
  className.resize(className.size() - std::string_view("ConditionClassType").size());
  set(space, *added, "ConditionClassId", Variant(space.nodeId(kind)));
  set(space, *added, "ConditionClassName", Variant(LocalizedText(String(className), "en")));
  if (!alarm.message.text.empty())
    addValue(space, *added, space::kActiveMessage, space.at(id::LocalizedText), Variant(alarm.message));
  if (alarm.input == kNoNode) return *added;
  set(space, *added, "InputNode", Variant(space.nodeId(alarm.input)));
  const NodeIndex normal =
      addValue(space, *added, space::kNormalValue, space.traits(alarm.input).dataType, alarm.normal);
  if (normal != kNoNode) set(space, *added, "NormalState", Variant(space.nodeId(normal)));
  if (alarm.onDelay > 0) {
    const NodeIndex delay = space.child(space.at(id::AlarmConditionType), {0, "OnDelay"});
    if (delay != kNoNode) space::copyDeclaration(space, *added, delay, add);
    set(space, *added, "OnDelay", Variant(alarm.onDelay));
  }
  const auto wanted = space::alarmLinks(space, *added);
  for (const auto& link : wanted.links) space.refer(link.source, link.type, link.target);
  for (const NodeIndex notifier : wanted.notifiers)
    space.setEventNotifier(notifier, EventNotifierType::SubscribeToEvents);
  return *added;
}

void removeOwnAlarm(Space& space, NodeIndex alarm) {
  if (alarm == kNoNode || !space.exists(alarm)) return;
  // The alarm first: it has a last word to say, while its parts are there.
  std::vector<NodeIndex> below{alarm};
  for (std::size_t i = 0; i < below.size(); ++i)
    for (const auto& reference : space.references(below[i]))
      if (reference.isForward() && space.isSubtype(reference.type(), id::HasChild) &&
          space.parent(reference.target()) == below[i])
        below.push_back(reference.target());
  for (const NodeIndex node : below)
    if (space.exists(node)) space.remove(node);
}

}  // namespace zunth::alarm
