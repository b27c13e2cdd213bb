#include "core/model/alarms.hpp"

#include "core/model/initial_value.hpp"
#include "core/model/words.hpp"
#include "core/space/attributes.hpp"
#include "core/space/conditions.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;

namespace {

/// A variable's path from the type in which it is declared.
std::vector<QualifiedName> pathInType(const space::Space& space, NodeIndex node) {
  std::vector<QualifiedName> out;
  while (node != kNoNode && space.nodeClass(node) != NodeClass::ObjectType && out.size() < 100) {
    out.insert(out.begin(), space.browseName(node));
    node = space.parent(node);
  }
  return out;
}

}  // namespace

void Alarms::add(NodeIndex owner, const Entry& alarms, bool inType) {
  const auto nodeClass = space_.nodeClass(owner);
  if (nodeClass != NodeClass::Object && nodeClass != NodeClass::ObjectType)
    return draft_.error(alarms.key.place, "only objects have alarms", "write them with the object of the variable");
  for (const Entry& entry : alarms.entries) addOne(owner, entry, inType);
}

void Alarms::addOne(NodeIndex owner, const Entry& entry, bool inType) {
  Text name = entry.key;
  const bool isOptional = name.text.ends_with('?');
  if (isOptional) name = name.part(0, name.text.size() - 1);
  if (isOptional && !inType)
    draft_.error(entry.key.place, "'?' marks an optional child of a type", "leave it out here");
  for (const Entry& line : entry.entries)
    if (line.key.text != "is" && line.key.text != "about" && line.key.text != "called" && line.key.text != "message" &&
        line.key.text != "options")
      draft_.error(line.key.place, fmt::format("an alarm has no '{}'", line.key.text),
                   "below an alarm stand is:, about:, called:, message:, and options: of a dialog");
  const Text* is = entry.value ? &*entry.value : entry.textOf("is");
  AlarmWords words;
  if (is) {
    auto parsed = parseAlarm(*is, draft_.findings);
    if (!parsed) return;
    words = std::move(*parsed);
  }
  NodeIndex alarm = draft_.child(owner, name.text);
  if (!words.kind && words.value)
    return draft_.error(words.value->place, "at which value an alarm comes is the same for all of a type",
                        "its limits, severity and delay can be others");
  if (!words.kind) {
    if (alarm == kNoNode) alarm = takeFromType(owner, entry, name.text, inType);
    if (alarm == kNoNode || (!space::isCondition(space_, alarm) && !space::isMetrics(space_, alarm)))
      return draft_.error(name.place, fmt::format("the type has no alarm '{}' to change", name.text),
                          "a new one says what it watches: limit pressure high 30");
  } else if (alarm != kNoNode) {
    const Place* first = draft_.placeOf(alarm);
    return draft_.error(name.place, fmt::format("'{}' is there already", name.text),
                        first ? fmt::format("the first is at {}:{}", first->file, first->line) : "");
  } else {
    alarm = addNode(owner, entry, name, words, inType, isOptional);
    if (alarm == kNoNode) return;
  }
  setWords(alarm, words, entry, inType);
  const bool isDialog = space_.isSubtype(space_.typeDefinition(alarm), id::DialogConditionType);
  if (isDialog) setDialog(alarm, entry, words.kind.has_value(), inType);
  if (const Entry* options = entry.find("options"); options && !isDialog)
    draft_.error(options->key.place, "only dialogs have options",
                 "as in: {is: dialog empty when true, message: \"Is it full again?\", options: [Yes, No]}");
  if (const Entry* message = entry.find("message"); message && !isDialog)
    if (const auto texts = draft_.textsOf(*message); !texts.empty())
      setOwn(alarm, space::kActiveMessage, space_.at(id::LocalizedText), Variant(texts.front()), entry, inType);
  draft_.describe(alarm, entry);
  if (words.kind && words.watches()) pending_.push_back({owner, alarm, std::move(words), &entry, draft_.source});
}

/// What a dialog asks, and the answers that it takes (Part 9, 5.6.2): the first means yes, the last of several no.
void Alarms::setDialog(NodeIndex dialog, const Entry& entry, bool isNew, bool inType) {
  const Entry* message = entry.find("message");
  if (message)
    if (const auto texts = draft_.textsOf(*message); !texts.empty())
      setField(dialog, "Prompt", Variant(texts.front()), entry, inType);
  if (isNew && !message)
    draft_.error(entry.key.place, "the dialog doesn't say what it asks",
                 "as in: {is: dialog empty when true, message: \"Is the hopper full again?\"}");
  const auto said = entry.textsOf("options");
  if (said.empty() && !isNew) return;
  std::vector<LocalizedText> options;
  for (const Text& option : said) options.emplace_back(String(option.text));
  if (options.empty()) options = {LocalizedText("OK"), LocalizedText("Cancel")};
  const auto last = static_cast<std::int32_t>(options.size()) - 1;
  setField(dialog, "ResponseOptionSet", Variant::array(options), entry, inType);
  setField(dialog, "DefaultResponse", Variant(std::int32_t{-1}), entry, inType);
  setField(dialog, "OkResponse", Variant(std::int32_t{0}), entry, inType);
  setField(dialog, "CancelResponse", Variant(last > 0 ? last : std::int32_t{-1}), entry, inType);
  addMethod(dialog, "Respond2", {"SelectedResponse", id::Int32}, true, entry, inType);
}

NodeIndex Alarms::addNode(NodeIndex owner, const Entry& entry, const Text& name, const AlarmWords& words, bool inType,
                          bool isOptional) {
  const Location here = draft_.below(owner, name.text);
  NewNode node;
  node.nodeId = NodeId(here.ns, String(here.path));
  node.nodeClass = NodeClass::Object;
  node.browseName = {here.ns, String(name.text)};
  const NodeIndex alarm = draft_.add(std::move(node), entry.key.place);
  if (alarm == kNoNode) return alarm;
  draft_.place(owner, alarm, id::HasComponent);
  if (inType) draft_.setRule(alarm, isOptional ? id::ModellingRule_Optional : id::ModellingRule_Mandatory);
  const NodeIndex type = space_.at(alarmTypeOf(words));
  space_.refer(alarm, id::HasTypeDefinition, type);
  space::instantiate(space_, alarm, type, draft_.copier(entry.key.place, inType), declarations_);
  return alarm;
}

NodeIndex Alarms::takeFromType(NodeIndex owner, const Entry& entry, const std::string& name, bool inType) {
  for (NodeIndex type = inType ? space_.supertype(owner) : space_.typeDefinition(owner); type != kNoNode;
       type = space_.supertype(type))
    if (const NodeIndex model = draft_.child(type, name);
        model != kNoNode && (space::isCondition(space_, model) || space::isMetrics(space_, model))) {
      space::copyDeclaration(space_, owner, model, draft_.copier(entry.key.place, inType));
      return draft_.child(owner, name);
    }
  return kNoNode;
}

void Alarms::setWords(NodeIndex alarm, const AlarmWords& words, const Entry& entry, bool inType) {
  if (space::isMetrics(space_, alarm)) {
    for (const char* name : {"CurrentAlarmRate", "MaximumAlarmRate", "AverageAlarmRate"})
      if (const NodeIndex rate = space_.child(alarm, {0, name}); rate != kNoNode && (words.kind || words.rateMinutes))
        setField(rate, "Rate", Variant(words.rateMinutes.value_or(kUsualRateMinutes)), entry, inType);
    return;
  }
  for (std::size_t i = 0; i < kLimitLevels; ++i) {
    const auto level = static_cast<LimitLevel>(i);
    const std::string name(nameOf(level));
    if (words.limits[i]) setField(alarm, name + "Limit", Variant(*words.limits[i]), entry, inType);
    const bool hasLimit = space_.child(alarm, {0, String(name + "Limit")}) != kNoNode;
    if (!hasLimit) continue;
    if (words.deadband) setField(alarm, name + "Deadband", Variant(*words.deadband), entry, inType);
    if (const auto severity = words.severityOf(level))
      setField(alarm, "Severity" + name, Variant(severity), entry, inType);
    if (words.isNonExclusive) bring(alarm, (name + "State").c_str(), entry, inType);
  }
  if (const NodeIndex machine = space_.child(alarm, {0, "LimitState"}); machine != kNoNode)
    bring(machine, "LastTransition", entry, inType);
  if (words.onDelay) setField(alarm, "OnDelay", Variant(*words.onDelay), entry, inType);
  if (words.offDelay) setField(alarm, "OffDelay", Variant(*words.offDelay), entry, inType);
  if ((words.severity || words.kind) && !space_.isSubtype(space_.typeDefinition(alarm), id::LimitAlarmType))
    setField(alarm, "Severity", Variant(words.severity.value_or(kUsualSeverity)), entry, inType);
  if (words.tolerance) setField(alarm, "Tolerance", Variant(*words.tolerance), entry, inType);
  if (words.expected) setField(alarm, "ExpectedTime", Variant(*words.expected), entry, inType);
  if (words.isConfirmed) {
    bring(alarm, "ConfirmedState", entry, inType);
    bring(alarm, "Confirm", entry, inType);
  }
  setCare(alarm, words.care, words.kind.has_value(), entry, inType);
}

/// Copies an optional member of the alarm's type, unless it is there.
void Alarms::bring(NodeIndex alarm, const char* member, const Entry& entry, bool inType) {
  if (space_.child(alarm, {0, member}) != kNoNode) return;
  for (NodeIndex type = space_.typeDefinition(alarm); type != kNoNode; type = space_.supertype(type))
    if (const NodeIndex model = space_.child(type, {0, member}); model != kNoNode) {
      space::copyDeclaration(space_, alarm, model, draft_.copier(entry.key.place, inType));
      return;
    }
}

void Alarms::setField(NodeIndex alarm, const std::string& name, Variant value, const Entry& entry, bool inType) {
  bring(alarm, name.c_str(), entry, inType);
  if (const NodeIndex field = space_.child(alarm, {0, String(name)}); field != kNoNode)
    space_.setValue(field, DataValue(std::move(value)));
}

NodeIndex Alarms::setOwn(NodeIndex alarm, std::string_view name, NodeIndex dataType, Variant value, const Entry& entry,
                         bool inType) {
  if (const NodeIndex own = space::ownProperty(space_, alarm, name); own != kNoNode) {
    space_.setValue(own, DataValue(std::move(value)));
    return own;
  }
  const Location here = draft_.locationOf(alarm).in(std::string(name));
  NewNode node;
  node.nodeId = NodeId(here.ns, String(here.path));
  node.nodeClass = NodeClass::Variable;
  node.browseName = {here.ns, String(name)};
  node.traits.dataType = dataType;
  node.value = std::move(value);
  const NodeIndex added = draft_.add(std::move(node), entry.key.place);
  if (added == kNoNode) return added;
  draft_.place(alarm, added, id::HasProperty);
  space_.refer(added, id::HasTypeDefinition, space_.at(id::PropertyType));
  if (inType) draft_.setRule(added, id::ModellingRule_Mandatory);
  return added;
}

/// The variable at a path from an object, or from a type and what those above it declare.
NodeIndex Alarms::variableAt(NodeIndex owner, const Text& path) {
  NodeIndex at = kNoNode;
  const auto names = splitPath(path);
  for (std::size_t i = 0; i < names.size(); ++i) {
    NodeIndex from = i ? at : owner;
    at = draft_.child(from, names[i].text);
    for (NodeIndex type = from;
         at == kNoNode && i == 0 && type != kNoNode && space_.nodeClass(type) == NodeClass::ObjectType;
         type = space_.supertype(type))
      at = draft_.child(type, names[i].text);
    if (at != kNoNode) continue;
    std::vector<std::string> known;
    for (const auto& reference : space_.references(from))
      if (reference.isForward() && space_.nodeClass(reference.target()) == NodeClass::Variable)
        known.emplace_back(space_.name(reference.target()));
    const std::string near = nearest(names[i].text, known);
    draft_.error(
        names[i].place, fmt::format("there is no variable '{}' to watch", names[i].text),
        near.empty() ? "alarms watch variables of their object, or below it" : fmt::format("did you mean '{}'?", near));
    return kNoNode;
  }
  if (at != kNoNode && space_.nodeClass(at) == NodeClass::Variable) return at;
  draft_.error(path.place, fmt::format("'{}' is no variable", path.text), "alarms watch variables");
  return kNoNode;
}

void Alarms::connectOne(const Pending& pending) {
  const Source* before = std::exchange(draft_.source, pending.source);
  connectTo(pending);
  draft_.source = before;
}

void Alarms::connectTo(const Pending& pending) {
  const bool inType = space::isInType(space_, pending.owner);
  const NodeIndex input = variableAt(pending.owner, *pending.words.input);
  if (input == kNoNode) return;
  if (space::isConditionState(space_, input))
    return draft_.error(pending.words.input->place, "an alarm can't watch how another stands",
                        "let both watch the same variable");
  if (pending.words.kind == AlarmWords::Kind::Dialog || pending.words.repeats())
    setOwn(pending.alarm, pending.words.repeats() ? space::kSaidBy : space::kAskedBy, space_.at(id::NodeId),
           Variant(space_.nodeId(input)), *pending.entry, inType);
  else
    setField(pending.alarm, "InputNode", Variant(space_.nodeId(input)), *pending.entry, inType);
  const NodeIndex dataType = space_.traits(input).dataType;
  if (pending.words.repeats()) {
    const bool isText = dataType != kNoNode &&
                        (space_.isSubtype(dataType, id::String) || space_.isSubtype(dataType, id::LocalizedText));
    if (!isText || space_.traits(input).valueRank >= 0)
      draft_.error(pending.words.input->place,
                   fmt::format("'{}' is no text: a condition says what its variable says", pending.words.input->text),
                   "as in: note: String writable, and condition note; what has values is watched by the other kinds");
    return;
  }
  if (pending.words.hasLimits()) {
    if (dataType != kNoNode && !space_.isSubtype(dataType, id::Number))
      return draft_.error(pending.words.input->place,
                          fmt::format("'{}' is no number: it has no limits", pending.words.input->text),
                          "for states there are discrete and off-normal");
    checkLimits(pending, input);
  } else if (!pending.words.hasSetpoint()) {
    setComparison(pending, input);
  }
  if (!pending.words.setpoint) return;
  const char* other = pending.words.kind == AlarmWords::Kind::Deviation ? "SetpointNode" : "TargetValueNode";
  if (const NodeIndex goal = variableAt(pending.owner, *pending.words.setpoint); goal != kNoNode)
    setField(pending.alarm, other, Variant(space_.nodeId(goal)), *pending.entry, inType);
}

/// Warns of limits that can't be judged, and of those that are never reached.
void Alarms::checkLimits(const Pending& pending, NodeIndex input) {
  if (pending.words.kind != AlarmWords::Kind::Limit) return;
  const auto range = space::rangeProperty(space_, input, "EURange");
  if (!range) {
    if (space_.child(input, {0, "EngineeringUnits"}, id::HasProperty) != kNoNode)
      draft_.findings.warn(pending.words.input->place,
                           fmt::format("'{}' has a unit and no range: nobody can tell whether the alarm can come",
                                       pending.words.input->text),
                           "give the variable a range, as in: Float kPa 0..50");
    return;
  }
  for (std::size_t i = 0; i < kLimitLevels; ++i) {
    const auto& limit = pending.words.limits[i];
    const bool isAbove = i < 2;
    if (limit && (isAbove ? *limit >= range->high : *limit <= range->low))
      draft_.findings.warn(pending.entry->key.place,
                           fmt::format("'{}' is never {} {}: its range is {} to {}", pending.words.input->text,
                                       isAbove ? "above" : "below", *limit, range->low, range->high));
  }
}

/// The value that a discrete or off-normal alarm compares with, of the data type of its variable.
void Alarms::setComparison(const Pending& pending, NodeIndex input) {
  const bool inType = space::isInType(space_, pending.owner);
  const auto& traits = space_.traits(input);
  const Text& said = *pending.words.value;
  auto value = valueOf(space_, traits, said.text);
  // Words for states stand for their numbers.
  for (const auto& [property, number] : {std::pair{"FalseState", false}, {"TrueState", true}})
    if (const NodeIndex state = space_.child(input, {0, property}, id::HasProperty); state != kNoNode)
      if (const auto held = space_.value(state); held.value.get<LocalizedText>())
        if (held.value.get<LocalizedText>()->text.view() == said.text) value = Variant(number);
  if (!value)
    return draft_.error(
        said.place,
        fmt::format("'{}' can't be a value of {}: {}", said.text, pending.words.input->text, value.error().cause),
        value.error().next);
  const bool isNormal = pending.words.isOffNormal();
  const NodeIndex own = setOwn(pending.alarm, isNormal ? space::kNormalValue : space::kActiveValue, traits.dataType,
                               std::move(*value), *pending.entry, inType);
  if (isNormal && own != kNoNode)
    setField(pending.alarm, "NormalState", Variant(space_.nodeId(own)), *pending.entry, inType);
}

/// An alarm that came from a type watches what its own object has, which may be a part of another type.
void Alarms::connectCopy(NodeIndex alarm) {
  const NodeIndex owner = space_.parent(alarm);
  std::vector<NodeIndex> fields{space::ownProperty(space_, alarm, space::kAskedBy),
                                space::ownProperty(space_, alarm, space::kSaidBy)};
  for (const char* name : {"InputNode", "SetpointNode", "TargetValueNode", "NormalState"})
    fields.push_back(space_.child(alarm, {0, name}, id::HasProperty));
  for (const NodeIndex field : fields) {
    if (field == kNoNode) continue;
    const DataValue held = space_.value(field);
    const auto* id = held.value.get<NodeId>();
    const NodeIndex declared = id && !id->isNull() ? space_.find(*id) : kNoNode;
    if (declared == kNoNode || !space::isInType(space_, declared)) continue;
    auto path = pathInType(space_, declared);
    // The object may be a part of the type in which the alarm is declared: its paths are shorter.
    for (NodeIndex found = kNoNode; !path.empty() && found == kNoNode; path.erase(path.begin())) {
      found = owner;
      for (const auto& step : path) found = found == kNoNode ? kNoNode : space_.child(found, step);
      if (found != kNoNode) space_.setValue(field, DataValue(Variant(space_.nodeId(found))));
    }
  }
}

void Alarms::connectInputs() {
  for (const Pending& pending : pending_)
    if (stands(pending.alarm)) connectOne(pending);
  areThereAny_ |= !pending_.empty();
  pending_.clear();
}

void Alarms::connect() {
  connectInputs();
  const auto isAlarmType = [&](NodeIndex type) {
    return type != kNoNode && (space_.isSubtype(type, id::AcknowledgeableConditionType) ||
                               space_.isSubtype(type, id::DialogConditionType));
  };
  if (!areThereAny_) return;
  for (NodeIndex node = 0; node < space_.rows(); ++node) {
    if (!space_.exists(node) || space_.nodeClass(node) != NodeClass::Object) continue;
    if (!isAlarmType(space_.typeDefinition(node))) continue;
    connectCopy(node);
    if (space::isInType(space_, node)) continue;
    connectCare(node);
    const auto wanted = space::alarmLinks(space_, node);
    for (const auto& link : wanted.links) space_.refer(link.source, link.type, link.target);
    for (const NodeIndex notifier : wanted.notifiers)
      space_.setEventNotifier(notifier, EventNotifierType::SubscribeToEvents);
  }
}

}  // namespace zunth::model
