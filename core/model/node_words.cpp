#include "core/model/node_words.hpp"

#include "core/model/yaml_text.hpp"
#include "core/space/attributes.hpp"
#include "core/space/type_catalog.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

std::string rangeWords(const Range& range) { return fmt::format("{}..{}", range.low, range.high); }

}  // namespace

NodeWords::NodeWords(const Space& space, const Units& units, LanguageNames& names)
    : space_(space), units_(units), names_(names), catalog_(space::typeCatalog(space)) {}

bool NodeWords::sameShape(NodeIndex a, NodeIndex b) const {
  if (space_.nodeClass(a) != NodeClass::Variable) return true;
  const auto &x = space_.traits(a), &y = space_.traits(b);
  return x.dataType == y.dataType && x.valueRank == y.valueRank && dimensions(a) == dimensions(b) &&
         x.minimumSamplingInterval == y.minimumSamplingInterval;
}

List<std::uint32_t> NodeWords::dimensions(NodeIndex node) const {
  const auto* rare = space_.rare(node);
  return rare ? rare->arrayDimensions : List<std::uint32_t>();
}

std::string NodeWords::dataType(NodeIndex node) {
  const auto& traits = space_.traits(node);
  std::string out = traits.dataType == kNoNode ? "BaseDataType" : names_.ofType(traits.dataType);
  if (traits.valueRank < 1) return out;
  const auto sizes = dimensions(node);
  std::string inside;
  for (std::int32_t i = 0; i < traits.valueRank; ++i) {
    const auto at = static_cast<std::size_t>(i);
    if (i) inside += ",";
    if (at < sizes.size() && sizes[at]) inside += std::to_string(sizes[at]);
  }
  return out + "[" + inside + "]";
}

std::string NodeWords::unit(NodeIndex node) const {
  const NodeIndex units = space_.child(node, {0, "EngineeringUnits"}, id::HasProperty);
  if (units == kNoNode) return {};
  const DataValue held = space_.value(units);
  const auto* object = held.value.get<ExtensionObject>();
  const auto unit = object ? object->as<EUInformation>() : Result<EUInformation>(status::BadNoData);
  if (!unit) return {};
  const auto known = units_.find(unit->displayName.text.view());
  return known && *known == *unit ? unit->displayName.text.str() : std::string();
}

std::string NodeWords::property(NodeIndex node, const char* name) const {
  const NodeIndex at = space_.child(node, {0, name}, id::HasProperty);
  return at == kNoNode ? "" : format(space_.value(at).value);
}

std::string NodeWords::facts(NodeIndex node) const {
  std::string out;
  if (const auto symbol = unit(node); !symbol.empty()) out += " " + symbol;
  if (const auto range = space::rangeProperty(space_, node, "EURange")) out += " " + rangeWords(*range);
  if (const auto range = space::rangeProperty(space_, node, "InstrumentRange"))
    out += " instrument " + rangeWords(*range);
  if (const auto precision = property(node, "ValuePrecision"); !precision.empty()) out += " precision " + precision;
  return states(node) + out;
}

std::string NodeWords::states(NodeIndex node) const {
  const std::string no = property(node, "FalseState"), yes = property(node, "TrueState");
  if (!no.empty() && !yes.empty()) return " " + no + " | " + yes;
  const NodeIndex strings = space_.child(node, {0, "EnumStrings"}, id::HasProperty);
  if (strings == kNoNode) return {};
  std::string out;
  for (const auto& text : space_.value(strings).value.items<LocalizedText>())
    out += (out.empty() ? " " : " | ") + text.text.str();
  return out;
}

std::string NodeWords::flags(NodeIndex node) const {
  const auto& traits = space_.traits(node);
  std::string out;
  if (traits.minimumSamplingInterval > 0) out += fmt::format(" every {}ms", traits.minimumSamplingInterval);
  if (traits.accessLevel & AccessLevelType::CurrentWrite) out += " writable";
  if (!(traits.accessLevel & AccessLevelType::CurrentRead)) out += " unreadable";
  if (traits.historizing || (traits.accessLevel & AccessLevelType::HistoryRead)) out += " history";
  return out;
}

StandardId NodeWords::usualDefinition(NodeIndex node) const {
  if (space::rangeProperty(space_, node, "EURange")) return id::AnalogItemType;
  if (!unit(node).empty() || space::rangeProperty(space_, node, "InstrumentRange")) return id::AnalogUnitType;
  if (!states(node).empty())
    return property(node, "TrueState").empty() ? id::MultiStateDiscreteType : id::TwoStateDiscreteType;
  return property(node, "ValuePrecision").empty() ? id::BaseDataVariableType : id::DataItemType;
}

Variant NodeWords::ownValue(NodeIndex node, NodeIndex model) const {
  if (space_.hasSource(node)) return {};
  Variant value = space_.value(node).value;
  return model != kNoNode && space_.value(model).value == value ? Variant() : value;
}

std::string NodeWords::initial(NodeIndex node, NodeIndex model) const {
  const Variant value = ownValue(node, model);
  if (value.isNull() || value.isArray() || value.type() == BuiltInType::ExtensionObject || isOpen(node)) return {};
  const auto text = yamlValue(space_, catalog_, value, space_.traits(node).dataType);
  const bool isWord = text && !text->empty() && std::ranges::all_of(*text, [](unsigned char c) {
                        return std::isalnum(c) || c == '.' || c == '-' || c == '_' || c == '+';
                      });
  return isWord ? " = " + *text : std::string();
}

bool NodeWords::isOpen(NodeIndex node) const {
  const auto& traits = space_.traits(node);
  return traits.dataType == kNoNode || space_.builtInType(traits.dataType) == BuiltInType::Variant;
}

std::string NodeWords::changes(NodeIndex node, NodeIndex model) const {
  std::string out;
  const auto own = space::rangeProperty(space_, node, "EURange"),
             above = space::rangeProperty(space_, model, "EURange");
  if (own && !(own == above)) out += rangeWords(*own);
  const auto instrument = space::rangeProperty(space_, node, "InstrumentRange");
  if (instrument && !(instrument == space::rangeProperty(space_, model, "InstrumentRange")))
    out += " instrument " + rangeWords(*instrument);
  const auto &mine = space_.traits(node), &its = space_.traits(model);
  const auto gained = mine.accessLevel & ~its.accessLevel, lost = its.accessLevel & ~mine.accessLevel;
  if (gained & AccessLevelType::CurrentWrite) out += " writable";
  if (lost & AccessLevelType::CurrentWrite) out += " readonly";
  if (lost & AccessLevelType::CurrentRead) out += " unreadable";
  if (mine.historizing && !its.historizing) out += " history";
  out += initial(node, model);
  return out.empty() ? out : out.substr(out.front() == ' ');
}

std::optional<std::string> NodeWords::starts(NodeIndex node, const Variant& value) const {
  auto text = yamlValue(space_, catalog_, value, space_.traits(node).dataType);
  if (!text || !isOpen(node)) return text;
  const NodeIndex own = space_.find(NodeId(static_cast<std::uint32_t>(value.type())));
  if (own == kNoNode) return std::nullopt;
  return fmt::format("{{{}: {}}}", names_.plain(own), *text);
}

}  // namespace zunth::model
