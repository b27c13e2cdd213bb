#include "core/model/alarms.hpp"
#include "core/model/words.hpp"
#include "core/space/conditions.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;

namespace {

/// What each word brings into an alarm of the standard's optional members, and of the methods of 1.05 that take a
/// comment, whose ids are the model's own.
struct PartRow {
  bool AlarmCare::*flag;
  const char* members[3];
  const char* commented[2];
};
constexpr PartRow kParts[] = {
    {&AlarmCare::isLatched, {"LatchedState", "Reset"}, {"Reset2"}},
    {&AlarmCare::isSuppressible, {"SuppressedState", "Suppress", "Unsuppress"}, {"Suppress2", "Unsuppress2"}},
    {&AlarmCare::isRemovable,
     {"OutOfServiceState", "RemoveFromService", "PlaceInService"},
     {"RemoveFromService2", "PlaceInService2"}},
    {&AlarmCare::isAudible, {"SilenceState", "Silence"}, {}},
};

}  // namespace

void Alarms::setCare(NodeIndex alarm, const AlarmCare& care, bool isNew, const Entry& entry, bool inType) {
  if (isNew || care.conditionClass) setClass(alarm, care.conditionClass, entry, inType);
  for (const auto& row : kParts) {
    if (!(care.*row.flag)) continue;
    for (const char* member : row.members)
      if (member) bring(alarm, member, entry, inType);
    for (const char* method : row.commented)
      if (method) addMethod(alarm, method, {}, true, entry, inType);
  }
  if (care.isAudible) setField(alarm, "AudibleEnabled", Variant(true), entry, inType);
  if (care.isShelvable) {
    bring(alarm, "ShelvingState", entry, inType);
    if (const NodeIndex machine = space_.child(alarm, {0, "ShelvingState"}); machine != kNoNode) {
      bring(machine, "LastTransition", entry, inType);
      addMethod(machine, "TimedShelve2", {"ShelvingTime", id::Duration}, true, entry, inType);
      addMethod(machine, "OneShotShelve2", {}, true, entry, inType);
      addMethod(machine, "Unshelve2", {}, true, entry, inType);
    }
    if (care.mostShelved) setField(alarm, "MaxTimeShelved", Variant(*care.mostShelved), entry, inType);
  }
  if (care.reAlarm) {
    setField(alarm, "ReAlarmTime", Variant(*care.reAlarm), entry, inType);
    bring(alarm, "ReAlarmRepeatCount", entry, inType);
  }
  const auto text = space_.at(id::String);
  if (care.branches) setOwn(alarm, space::kMostBranches, space_.at(id::UInt16), Variant(*care.branches), entry, inType);
  if (care.suppressedWhile || care.suppressedBy) bring(alarm, "SuppressedState", entry, inType);
  if (care.suppressedWhile) {
    setOwn(alarm, space::kSuppressedWhilePath, text, Variant(String(care.suppressedWhile->text)), entry, inType);
    setOwn(alarm, space::kSuppressedWhile, space_.at(id::NodeId), Variant(NodeId()), entry, inType);
  }
  if (care.suppressedBy)
    setOwn(alarm, space::kSuppressedBy, text, Variant(String(care.suppressedBy->text)), entry, inType);
  if (care.groups.empty()) return;
  std::vector<String> names;
  for (const auto& group : care.groups) names.emplace_back(group.text);
  const NodeIndex groups = setOwn(alarm, space::kGroups, text, Variant::array(names), entry, inType);
  if (groups != kNoNode) space_.traits(groups).valueRank = 1;
  bring(alarm, "FirstInGroupFlag", entry, inType);
  addMethod(alarm, "GetGroupMemberships", {}, false, entry, inType);
}

void Alarms::setClass(NodeIndex alarm, const std::optional<Text>& word, const Entry& entry, bool inType) {
  NodeIndex type = space_.at(id::ProcessConditionClassType);
  if (word) {
    const auto known = conditionClassNamed(word->text);
    type = known ? space_.at(*known) : draft_.findType(*word);
    if (type == kNoNode) return;  // reported
    if (!space_.isSubtype(type, id::BaseConditionClassType))
      return draft_.error(word->place, fmt::format("'{}' is no class of conditions", word->text),
                          "process, maintenance, system, safety, or a type of your own below BaseConditionClassType");
  }
  std::string name(space_.name(type));
  if (name.ends_with("ConditionClassType")) name.resize(name.size() - std::string_view("ConditionClassType").size());
  setField(alarm, "ConditionClassId", Variant(space_.nodeId(type)), entry, inType);
  setField(alarm, "ConditionClassName", Variant(LocalizedText(String(name), "en")), entry, inType);
}

/// A method of the standard's name that its types here don't declare.
void Alarms::addMethod(NodeIndex parent, const std::string& name, Taken first, bool takesComment, const Entry& entry,
                       bool inType) {
  if (space_.child(parent, {0, String(name)}) != kNoNode) return;
  const Location here = draft_.locationOf(parent).in(name);
  NewNode node;
  node.nodeId = NodeId(here.ns, String(here.path));
  node.nodeClass = NodeClass::Method;
  node.browseName = {0, String(name)};
  const NodeIndex method = draft_.add(std::move(node), entry.key.place);
  if (method == kNoNode) return;
  draft_.place(parent, method, id::HasComponent);
  if (inType) draft_.setRule(method, id::ModellingRule_Mandatory);
  const auto argument = [](const char* called, StandardId type, std::int32_t rank) {
    Argument out;
    out.name = called;
    out.dataType = type;
    out.valueRank = rank;
    return ExtensionObject::of(out);
  };
  std::vector<ExtensionObject> inputs, outputs;
  if (first.name) inputs.push_back(argument(first.name, first.type, -1));
  if (takesComment) inputs.push_back(argument("Comment", id::LocalizedText, -1));
  if (!takesComment) outputs.push_back(argument("Groups", id::NodeId, 1));
  for (const auto& [property, arguments] : {std::pair{"InputArguments", &inputs}, {"OutputArguments", &outputs}})
    if (!arguments->empty())
      draft_.addProperty(method, property, id::Argument, Variant::array(*arguments), entry.key.place, inType);
}

/// A group by its name: beside what the alarm's plant begins with, or at a path from Objects. Made when it isn't there.
NodeIndex Alarms::groupAt(NodeIndex alarm, const std::string& path) {
  static const Place nowhere;
  const Place* place = draft_.placeOf(alarm);
  if (!place) place = &nowhere;
  const NodeIndex objects = space_.at(id::ObjectsFolder);
  NodeIndex at = alarm;
  for (int depth = 0; depth < 100 && space_.parent(at) != kNoNode && space_.parent(at) != objects; ++depth)
    at = space_.parent(at);
  const auto names = splitPath(Text{path, *place});
  if (names.size() > 1) {
    at = objects;
    for (std::size_t i = 0; i + 1 < names.size() && at != kNoNode; ++i) at = draft_.child(at, names[i].text);
    if (at == kNoNode) {
      draft_.error(*place, fmt::format("there is no object for the group '{}'", path),
                   "a group stands in an object that is there: group Hatchery/Pumps");
      return kNoNode;
    }
  }
  const std::string name = names.empty() ? path : names.back().text;
  if (const NodeIndex there = draft_.child(at, name); there != kNoNode) {
    const NodeIndex type = space_.typeDefinition(there);
    if (type != kNoNode && space_.isSubtype(type, id::AlarmGroupType)) return there;
    draft_.error(*place, fmt::format("'{}' is no group of alarms", space_.path(there)), "give the group another name");
    return kNoNode;
  }
  const Location here = draft_.below(at, name);
  NewNode node;
  node.nodeId = NodeId(here.ns, String(here.path));
  node.nodeClass = NodeClass::Object;
  node.browseName = {here.ns, String(name)};
  const NodeIndex group = draft_.add(std::move(node), *place);
  if (group == kNoNode) return group;
  draft_.place(at, group, id::Organizes);
  space_.refer(group, id::HasTypeDefinition, space_.at(id::AlarmGroupType));
  return group;
}

/// Finds what the words of an alarm that is there name: groups, and the variable that suppresses it.
void Alarms::connectCare(NodeIndex alarm) {
  const auto own = [&](std::string_view name) { return space::ownProperty(space_, alarm, name); };
  if (const NodeIndex groups = own(space::kGroups); groups != kNoNode) {
    const DataValue held = space_.value(groups);
    for (const auto& name : held.value.items<String>())
      if (const NodeIndex group = groupAt(alarm, name.str()); group != kNoNode)
        space_.refer(group, id::AlarmGroupMember, alarm);
  }
  if (const NodeIndex by = own(space::kSuppressedBy); by != kNoNode) {
    const DataValue held = space_.value(by);
    if (const auto* name = held.value.get<String>())
      if (const NodeIndex group = groupAt(alarm, name->str()); group != kNoNode)
        space_.refer(alarm, id::HasAlarmSuppressionGroup, group);
  }
  const NodeIndex path = own(space::kSuppressedWhilePath), found = own(space::kSuppressedWhile);
  if (path == kNoNode || found == kNoNode) return;
  const DataValue held = space_.value(path);
  const auto* text = held.value.get<String>();
  const Place* place = draft_.placeOf(alarm);
  if (!text || !place) return;
  // From its own object, else from Objects.
  const auto follow = [&](NodeIndex at) {
    for (const auto& step : splitPath(Text{text->str(), *place}))
      at = at == kNoNode ? kNoNode : draft_.child(at, step.text);
    return at;
  };
  NodeIndex variable = follow(space_.parent(alarm));
  if (variable == kNoNode) variable = follow(space_.at(id::ObjectsFolder));
  if (variable == kNoNode || space_.nodeClass(variable) != NodeClass::Variable)
    return draft_.error(*place, fmt::format("there is no variable '{}' that could suppress the alarm", text->view()),
                        "a Boolean of its object, or at a path from Objects: suppressed while Hatchery/cleaning");
  if (const NodeIndex type = space_.traits(variable).dataType; type != kNoNode && !space_.isSubtype(type, id::Boolean))
    return draft_.error(*place, fmt::format("'{}' is no Boolean", text->view()),
                        "an alarm is suppressed while a Boolean is true");
  space_.setValue(found, DataValue(Variant(space_.nodeId(variable))));
}

}  // namespace zunth::model
