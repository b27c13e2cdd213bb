#include "core/model/variable_facts.hpp"

#include "core/model/initial_value.hpp"
#include "core/space/attributes.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;

void VariableFacts::add(NodeIndex node, const Spec& spec, const Place& at, bool isDeclaration) {
  const auto& traits = space_.traits(node);
  const auto typeName = [&] { return std::string(traits.dataType == kNoNode ? "" : space_.name(traits.dataType)); };
  if (spec.unit || spec.range || spec.instrumentRange) {
    const Place& place = spec.unit ? spec.unit->place : spec.range ? spec.range->place : spec.instrumentRange->place;
    if (traits.dataType != kNoNode && !space_.isSubtype(traits.dataType, id::Number))
      return draft_.error(place,
                          spec.unit ? fmt::format("'{}' is no word for a {}", spec.unit->text, typeName())
                                    : fmt::format("a {} has no range", typeName()),
                          "units and ranges go with numbers");
    if (spec.isProperty) return draft_.error(place, "a property has no unit or range", "leave out 'property'");
  }
  const Set set = [&](const char* name, StandardId type, Variant value) {
    if (const NodeIndex own = space_.child(node, {0, name}, id::HasProperty); own != kNoNode)
      space_.setValue(own, DataValue(std::move(value)));
    else
      draft_.addProperty(node, name, type, std::move(value), at, isDeclaration);
  };
  const auto range = [](const Spec::Range& r) { return Variant(ExtensionObject::of(Range{r.low, r.high})); };
  if (spec.range) set("EURange", id::Range, range(*spec.range));
  if (spec.instrumentRange) set("InstrumentRange", id::Range, range(*spec.instrumentRange));
  if (spec.unit) addUnit(*spec.unit, set);
  if (spec.precision) {
    if (auto digits = parse(spec.precision->text, BuiltInType::Double))
      set("ValuePrecision", id::Double, *digits);
    else
      draft_.error(spec.precision->place, fmt::format("'{}' is no number of digits", spec.precision->text));
  }
  addStateTexts(traits, spec, set);
}

void VariableFacts::addUnit(const Text& unit, const Set& set) {
  if (auto known = units_.find(unit.text))
    return set("EngineeringUnits", id::EUInformation, Variant(ExtensionObject::of(*known)));
  const std::string near = units_.nearest(unit.text);
  draft_.error(unit.place, fmt::format("there is no unit '{}'", unit.text),
               near.empty() ? "units.csv in the site's folder may add it" : fmt::format("did you mean '{}'?", near));
}

void VariableFacts::addStateTexts(const space::ValueTraits& traits, const Spec& spec, const Set& set) {
  if (spec.states.empty()) return;
  const auto text = [&](std::size_t i) { return LocalizedText(String(spec.states[i].text)); };
  const bool isBoolean = traits.dataType != kNoNode && space_.isSubtype(traits.dataType, id::Boolean);
  if (isBoolean && spec.states.size() != 2)
    return draft_.error(spec.states.front().place, "a Boolean has two states", "as in: Boolean Closed | Open");
  if (isBoolean) {
    set("FalseState", id::LocalizedText, Variant(text(0)));
    set("TrueState", id::LocalizedText, Variant(text(1)));
  } else if (traits.dataType != kNoNode && space_.isSubtype(traits.dataType, id::UInteger)) {
    std::vector<LocalizedText> texts;
    for (std::size_t i = 0; i < spec.states.size(); ++i) texts.push_back(text(i));
    set("EnumStrings", id::LocalizedText, Variant::array(texts));
  } else {
    draft_.error(spec.states.front().place, "states go with Boolean and with unsigned integers",
                 "for others declare a type: Mode: enum Off | Auto");
  }
}

void VariableFacts::setInitial(NodeIndex node, const Text& text, const Text* status) {
  auto value = valueOf(space_, space_.traits(node), text.text);
  if (!value)
    return draft_.error(
        text.place,
        fmt::format("'{}' can't be the value of {}: {}", text.text, draft_.locationOf(node).path, value.error().cause),
        value.error().next);
  double number = 0;
  if (const auto range = space::rangeProperty(space_, node, "EURange");
      range && value->toDouble(number) && (number < range->low || number > range->high))
    draft_.findings.warn(text.place, fmt::format("{} starts outside its range {} to {}", draft_.locationOf(node).path,
                                                 range->low, range->high));
  StatusCode code;
  if (status) {
    const auto known = statusNamed(status->text);
    if (!known)
      draft_.error(status->place, fmt::format("there is no status '{}'", status->text),
                   "as in: status UncertainInitialValue");
    else
      code = *known;
  }
  space_.setValue(node, DataValue(std::move(*value), {}, code));
}
void VariableFacts::setInitial(NodeIndex node, const Entry& starts) {
  if (auto value = valueOf(draft_, space_.traits(node), starts)) space_.setValue(node, DataValue(std::move(*value)));
}

void setDimensions(NewNode& node, const std::string& inside, const Place& place, Findings& findings) {
  node.traits.valueRank = 1 + static_cast<std::int32_t>(std::ranges::count(inside, ','));
  node.arrayDimensions = {};
  std::size_t from = 0;
  while (from <= inside.size()) {
    const auto comma = std::min(inside.find(',', from), inside.size());
    const std::string_view one = std::string_view(inside).substr(from, comma - from);
    auto length = one.empty() ? Result<Variant>(Variant(std::uint32_t{0})) : parse(one, BuiltInType::UInt32);
    if (!length)
      return findings.error(place, fmt::format("'{}' is no array length", one),
                            "write Double[], Double[8] or Double[2,3]");
    node.arrayDimensions.push_back(*length->get<std::uint32_t>());
    from = comma + 1;
  }
}

}  // namespace zunth::model
