#include "core/model/outline.hpp"

#include "core/model/alarm_words.hpp"
#include "core/space/attributes.hpp"
#include "core/space/conditions.hpp"
#include "core/ua/json.hpp"
#include "core/ua/letters.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::isType;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

std::string propertyText(const Space& space, NodeIndex node, const char* name) {
  const NodeIndex property = space.child(node, {0, name}, id::HasProperty);
  return property == kNoNode || space.hasSource(property) ? "" : format(space.value(property).value);
}

std::string typeText(const Space& space, NodeIndex node) {
  const NodeIndex definition = space.typeDefinition(node);
  if (space.nodeClass(node) == NodeClass::Object)
    return definition == kNoNode || space.nodeId(definition).is(id::BaseObjectType)
               ? std::string()
               : std::string(space.name(definition));
  const auto& traits = space.traits(node);
  const bool isOwn = definition != kNoNode && space.nodeId(definition).namespaceIndex() != 0;
  std::string out(isOwn                        ? space.name(definition)
                  : traits.dataType == kNoNode ? "BaseDataType"
                                               : space.name(traits.dataType));
  if (traits.valueRank >= 1) out += "[" + std::string(static_cast<std::size_t>(traits.valueRank - 1), ',') + "]";
  if (const auto no = propertyText(space, node, "FalseState"); !no.empty())
    out += " " + no + " | " + propertyText(space, node, "TrueState");
  return out;
}

bool isFactOf(const Space& space, NodeIndex owner, NodeIndex child) {
  static constexpr std::string_view facts[] = {
      "EURange",     "InstrumentRange", "EngineeringUnits", "ValuePrecision", "FalseState",     "TrueState",
      "EnumStrings", "EnumValues",      "OptionSetValues",  "InputArguments", "OutputArguments"};
  const auto ownerClass = space.nodeClass(owner);
  return space.browseName(child).namespaceIndex == 0 && ownerClass != NodeClass::Object &&
         ownerClass != NodeClass::ObjectType && std::ranges::find(facts, space.name(child)) != std::end(facts);
}

class Outliner {
 public:
  Outliner(const Space& space, const OutlineOptions& options)
      : space_(space), options_(options), wanted_(lower(options.filter)) {}

  bool below(NodeIndex node, const std::string& lead, int depth, bool isWanted) {
    std::vector<NodeIndex> shown;
    std::vector<std::vector<OutlineRow>> parts;
    for (const NodeIndex child : membersOf(space_, node)) {
      if (std::ranges::find(underway_, child) != underway_.end()) continue;
      const bool matches = isWanted || wanted_.empty() || isMatch(child);
      underway_.push_back(child);
      auto rows = std::exchange(rows_, {});
      const bool any = depth + 1 < options_.depth ? below(child, {}, depth + 1, matches && !wanted_.empty()) : false;
      auto part = std::exchange(rows_, std::move(rows));
      underway_.pop_back();
      if (!matches && !any) continue;
      shown.push_back(child);
      parts.push_back(std::move(part));
    }
    for (std::size_t i = 0; i < shown.size(); ++i) {
      const bool isLast = i + 1 == shown.size();
      OutlineRow row{shown[i], lead + (isLast ? "└─ " : "├─ ")};
      if (depth + 1 >= options_.depth) row.hidden = count(shown[i]);
      rows_.push_back(std::move(row));
      for (auto& each : parts[i]) {
        each.lead = lead + (isLast ? "   " : "│  ") + each.lead;
        rows_.push_back(std::move(each));
      }
    }
    return !shown.empty();
  }
  std::vector<OutlineRow> rows() { return std::move(rows_); }

 private:
  bool isMatch(NodeIndex node) const {
    const auto facts = factsOf(space_, node);
    for (const auto* text : {&facts.name, &facts.type, &facts.unit, &facts.about})
      if (lower(*text).find(wanted_) != std::string::npos) return true;
    return false;
  }
  std::size_t count(NodeIndex node) {
    std::size_t all = 0;
    underway_.push_back(node);
    for (const NodeIndex child : membersOf(space_, node))
      if (std::ranges::find(underway_, child) == underway_.end()) all += 1 + count(child);
    underway_.pop_back();
    return all;
  }

  const Space& space_;
  const OutlineOptions& options_;
  std::string wanted_;
  std::vector<NodeIndex> underway_;
  std::vector<OutlineRow> rows_;
};

}  // namespace

std::string unitText(const Space& space, NodeIndex node) {
  const NodeIndex property = space.child(node, {0, "EngineeringUnits"}, id::HasProperty);
  if (property == kNoNode) return {};
  const DataValue held = space.value(property);
  const auto* object = held.value.get<ExtensionObject>();
  if (!object) return {};
  const auto unit = object->as<EUInformation>();
  return unit ? unit->displayName.text.str() : std::string();
}

NodeFacts factsOf(const Space& space, NodeIndex node, const TypeCatalog* types) {
  NodeFacts facts;
  facts.name = std::string(space.name(node));
  facts.about = space.description(node).text.str();
  const auto nodeClass = space.nodeClass(node);
  if (nodeClass == NodeClass::Object) facts.type = typeText(space, node);
  const bool isSaid = space::isCondition(space, node) || space::isMetrics(space, node);
  if (const auto alarm = isSaid ? alarmWordsOf(space, node) : std::nullopt) {
    facts.type = kAlarmType;
    facts.value = text(*alarm);
  }
  if (nodeClass == NodeClass::Method) facts.type = signatureText(space, node).substr(facts.name.size());
  if (nodeClass != NodeClass::Variable && nodeClass != NodeClass::VariableType) return facts;
  facts.type = typeText(space, node);
  facts.unit = unitText(space, node);
  if (const auto range = space::rangeProperty(space, node, "EURange"))
    facts.range = fmt::format("{}..{}", range->low, range->high);
  const auto& traits = space.traits(node);
  if (traits.accessLevel & AccessLevelType::CurrentWrite) facts.access = "writable";
  if (traits.historizing) facts.access += facts.access.empty() ? "history" : ", history";
  const NodeIndex definition = space.typeDefinition(node);
  if (definition != kNoNode && space.nodeId(definition).is(id::PropertyType))
    facts.access += facts.access.empty() ? "property" : ", property";
  if (space.hasSource(node)) return facts;
  const Variant value = space.value(node).value;
  if (!value.isNull())
    facts.value = value.type() == BuiltInType::ExtensionObject && types
                      ? toJson(value, JsonOptions{JsonForm::Plain, types, {}})
                            .dump(-1, ' ', false, Json::error_handler_t::replace)
                      : format(value);
  if (const auto name = space::enumerationName(space, traits.dataType, value)) facts.value = name->str();
  return facts;
}

std::string argumentsText(const Space& space, NodeIndex method, const char* property) {
  std::string out;
  for (const auto& argument : space::methodArguments(space, method, property)) {
    const NodeIndex type = space.find(argument.dataType);
    out += fmt::format("{}{} {}{}", out.empty() ? "" : ", ", argument.name.view(),
                       type == kNoNode ? argument.dataType.text() : std::string(space.name(type)),
                       argument.valueRank >= 1 ? "[]" : "");
  }
  return out;
}

std::string signatureText(const Space& space, NodeIndex method) {
  const std::string out = argumentsText(space, method, "OutputArguments");
  return fmt::format("{}({}){}{}", space.name(method), argumentsText(space, method, "InputArguments"),
                     out.empty() ? "" : " -> ", out);
}

std::vector<NodeIndex> membersOf(const Space& space, NodeIndex node) {
  std::vector<NodeIndex> out;
  // The dozens of fields that a condition has are the standard's.
  if (space.nodeClass(node) == NodeClass::Object && space::isCondition(space, node)) return out;
  const NodeIndex hierarchical = space.at(id::HierarchicalReferences);
  for (const auto& reference : space.references(node)) {
    const NodeIndex child = reference.target();
    if (!reference.isForward() || isType(space.nodeClass(child)) || !space.isSubtype(reference.type(), hierarchical) ||
        space.isSubtype(reference.type(), id::HasEventSource) || isFactOf(space, node, child) ||
        std::ranges::find(out, child) != out.end())
      continue;
    // What every server has is no part of a model.
    if (space.nodeId(child).namespaceIndex() < 2 && space.nodeId(node).is(id::ObjectsFolder)) continue;
    out.push_back(child);
  }
  return out;
}

std::vector<NodeIndex> typesOf(const Space& space, NodeClass nodeClass) {
  std::vector<NodeIndex> out;
  for (NodeIndex node = 0; node < space.rows(); ++node)
    if (space.exists(node) && space.nodeClass(node) == nodeClass && space.nodeId(node).namespaceIndex() >= 2)
      out.push_back(node);
  return out;
}

std::string modellingRule(const Space& space, NodeIndex node) {
  for (const auto& reference : space.references(node))
    if (reference.isForward() && space.nodeId(reference.type()).is(id::HasModellingRule))
      return std::string(space.name(reference.target()));
  return {};
}

std::vector<OutlineRow> outline(const Space& space, NodeIndex root, const OutlineOptions& options) {
  Outliner outliner(space, options);
  outliner.below(root, {}, 0, false);
  return outliner.rows();
}

}  // namespace zunth::model
