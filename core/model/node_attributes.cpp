#include "core/model/node_attributes.hpp"

#include "core/space/conditions.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <array>
#include <bit>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::NodeIndex;
using space::Space;

namespace {

using Effect = Change::Effect;
using enum NodeAttribute::Kind;

constexpr std::uint32_t mask(std::initializer_list<NodeClass> classes) {
  std::uint32_t out = 0;
  for (const auto each : classes) out |= static_cast<std::uint32_t>(each);
  return out;
}
constexpr std::uint32_t kAll = 0xFF;
constexpr std::uint32_t kTypes =
    mask({NodeClass::ObjectType, NodeClass::VariableType, NodeClass::ReferenceType, NodeClass::DataType});
constexpr std::uint32_t kVariables = mask({NodeClass::Variable, NodeClass::VariableType});

Effect none(const Pair&) { return Effect::None; }
Effect seen(const Pair&) { return Effect::Seen; }
Effect breaks(const Pair&) { return Effect::Breaks; }

/// Who may do less than before is who notices.
template <class T>
Effect breaksWhenLess(T before, T after) {
  return (before & ~after) != 0 ? Effect::Breaks : Effect::Seen;
}

std::string yesOrNo(bool is) { return is ? "yes" : "no"; }
std::string textOf(const LocalizedText& text) { return std::string(text.text.view()); }

/// A language that isn't said is the same as an empty one.
bool isSame(const LocalizedText& a, const LocalizedText& b) {
  return a.text.view() == b.text.view() && a.locale.view() == b.locale.view();
}
bool areSame(const std::vector<LocalizedText>& a, const std::vector<LocalizedText>& b) {
  return std::ranges::equal(a, b, [](const auto& x, const auto& y) { return isSame(x, y); });
}

std::string listed(const std::vector<LocalizedText>& texts) {
  std::string out;
  for (const auto& text : texts)
    out += fmt::format("{}{}: {}", out.empty() ? "" : ", ", text.locale.view(), text.text.view());
  return out;
}

std::string accessWordsOf(std::uint32_t level) {
  static constexpr std::pair<std::uint32_t, const char*> kWords[] = {
      {AccessLevelExType::CurrentRead, "readable"},
      {AccessLevelExType::CurrentWrite, "writable"},
      {AccessLevelExType::HistoryRead, "history readable"},
      {AccessLevelExType::HistoryWrite, "history writable"},
      {AccessLevelExType::SemanticChange, "tells changes of meaning"},
      {AccessLevelExType::StatusWrite, "status writable"},
      {AccessLevelExType::TimestampWrite, "time writable"},
  };
  std::string out;
  for (const auto& [bit, word] : kWords)
    if (std::exchange(level, level & ~bit) & bit) out += (out.empty() ? "" : ", ") + std::string(word);
  if (level) out += fmt::format("{}{:#x}", out.empty() ? "" : ", ", level);
  return out.empty() ? "none" : out;
}

std::string notifierWords(std::uint8_t bits) {
  std::string out;
  for (const auto& [bit, word] : {std::pair{EventNotifierType::SubscribeToEvents, "events"},
                                  std::pair{EventNotifierType::HistoryRead, "history readable"},
                                  std::pair{EventNotifierType::HistoryWrite, "history writable"}})
    if (bits & bit) out += (out.empty() ? "" : ", ") + std::string(word);
  return out.empty() ? "none" : out;
}

std::string permissionWords(const Space& space, NodeIndex node) {
  std::string out;
  const auto& set = space.permissionSets()[space.permissionSet(node)];
  for (const auto& role : set.roles) {
    const auto roleNode = space.find(role.roleId);
    out += fmt::format("{}{}={:X}", out.empty() ? "" : " ",
                       roleNode == space::kNoNode ? role.roleId.text() : std::string(space.name(roleNode)),
                       role.permissions);
  }
  if (set.restrictions) out += fmt::format(" restricted={:X}", set.restrictions);
  return out;
}

std::string dimensionWords(const List<std::uint32_t>& dimensions) {
  return dimensions.empty() ? "" : fmt::format("[{}]", fmt::join(dimensions, ", "));
}

const space::RareAttributes& rare(const Space& space, NodeIndex node) {
  static const space::RareAttributes nothing;
  const auto* own = space.rare(node);
  return own ? *own : nothing;
}

/// Whether the value is part of the model: a property that no device is behind says something, a type what instances
/// begin with. Another variable's is the plant's, and a condition's is its alarm's.
bool isOfTheModel(const Pair& pair) {
  if (pair.isOwned) return false;
  // What a model leaves open is nobody's to take away.
  if (pair.wanted.value(pair.twin).value.isNull() || pair.is.value(pair.node).value.isNull()) return false;
  if (pair.wanted.nodeClass(pair.twin) == NodeClass::VariableType) return true;
  const NodeIndex type = pair.wanted.typeDefinition(pair.twin);
  return type != space::kNoNode && pair.wanted.nodeId(type).is(id::PropertyType);
}
bool hasSameValue(const Pair& pair) {
  const auto is = pair.is.value(pair.node).value, wanted = pair.wanted.value(pair.twin).value;
  if (is.isNull() && wanted.isNull()) return true;
  return is == pair.twins.renumbered()(wanted) || space::isConditionState(pair.wanted, pair.twin);
}
std::string valueText(const Space& space, NodeIndex node) { return format(space.value(node).value); }

const NodeAttribute kAttributes[] = {
    {"browse name", Fact, kAll, breaks,
     [](const Pair& p) {
       const auto is = p.is.browseName(p.node), wanted = p.wanted.browseName(p.twin);
       return is.name == wanted.name && is.namespaceIndex == p.twins.renumbered()(wanted.namespaceIndex);
     },
     [](const Space& s, NodeIndex n) { return std::string(s.name(n)); },
     [](const Pair& p, Space& to) { to.setBrowseName(p.node, p.twins.renumbered()(p.wanted.browseName(p.twin))); }},
    {"display name", Fact, kAll, seen,
     [](const Pair& p) {
       // In several languages they are told together.
       const bool isTranslated = !p.rareIs.displayNames.empty() || !p.rareWanted.displayNames.empty();
       return isTranslated || p.is.displayName(p.node).text.view() == p.wanted.displayName(p.twin).text.view();
     },
     [](const Space& s, NodeIndex n) { return textOf(s.displayName(n)); },
     [](const Pair& p, Space& to) { to.setDisplayNames(p.node, {p.wanted.displayName(p.twin)}); }},
    {"translations", Fact, kAll, seen,
     [](const Pair& p) { return areSame(p.rareIs.displayNames, p.rareWanted.displayNames); },
     [](const Space& s, NodeIndex n) { return listed(rare(s, n).displayNames); },
     [](const Pair& p, Space& to) {
       const auto& names = p.rareWanted.displayNames;
       to.setDisplayNames(p.node, names.empty() ? std::vector{p.wanted.displayName(p.twin)} : names);
     }},
    {"description", Fact, kAll, none,
     [](const Pair& p) { return isSame(p.rareIs.description, p.rareWanted.description); },
     [](const Space& s, NodeIndex n) { return textOf(rare(s, n).description); },
     [](const Pair& p, Space& to) { to.rareOf(p.node).description = p.rareWanted.description; }},
    {"translated descriptions", Fact, kAll, none,
     [](const Pair& p) { return areSame(p.rareIs.descriptions, p.rareWanted.descriptions); },
     [](const Space& s, NodeIndex n) { return listed(rare(s, n).descriptions); },
     [](const Pair& p, Space& to) { to.rareOf(p.node).descriptions = p.rareWanted.descriptions; }},
    {"access", Permissions, kAll, seen, [](const Pair& p) { return p.twins.haveSamePermissions(p.twin, p.node); },
     permissionWords,
     [](const Pair& p, Space& to) {
       to.setPermissions(p.node, p.twins.renumbered(p.wanted.permissionSets()[p.wanted.permissionSet(p.twin)]));
     }},
    {"abstract", Fact, kTypes, seen,
     [](const Pair& p) { return p.is.isAbstract(p.node) == p.wanted.isAbstract(p.twin); },
     [](const Space& s, NodeIndex n) { return yesOrNo(s.isAbstract(n)); },
     [](const Pair& p, Space& to) { to.setAbstract(p.node, p.wanted.isAbstract(p.twin)); }},
    {"symmetric", Fact, mask({NodeClass::ReferenceType}), seen,
     [](const Pair& p) { return p.is.isSymmetric(p.node) == p.wanted.isSymmetric(p.twin); },
     [](const Space& s, NodeIndex n) { return yesOrNo(s.isSymmetric(n)); },
     [](const Pair& p, Space& to) { to.setSymmetric(p.node, p.wanted.isSymmetric(p.twin)); }},
    {"inverse name", Fact, mask({NodeClass::ReferenceType}), seen,
     [](const Pair& p) { return isSame(p.rareIs.inverseName, p.rareWanted.inverseName); },
     [](const Space& s, NodeIndex n) { return textOf(rare(s, n).inverseName); },
     [](const Pair& p, Space& to) { to.rareOf(p.node).inverseName = p.rareWanted.inverseName; }},
    {"executable", Fact, mask({NodeClass::Method}),
     [](const Pair& p) { return breaksWhenLess<int>(p.is.isExecutable(p.node), p.wanted.isExecutable(p.twin)); },
     [](const Pair& p) { return p.is.isExecutable(p.node) == p.wanted.isExecutable(p.twin); },
     [](const Space& s, NodeIndex n) { return yesOrNo(s.isExecutable(n)); },
     [](const Pair& p, Space& to) { to.setExecutable(p.node, p.wanted.isExecutable(p.twin)); }},
    {"contains no loops", Fact, mask({NodeClass::View}), seen,
     [](const Pair& p) { return p.is.containsNoLoops(p.node) == p.wanted.containsNoLoops(p.twin); },
     [](const Space& s, NodeIndex n) { return yesOrNo(s.containsNoLoops(n)); },
     [](const Pair& p, Space& to) { to.setContainsNoLoops(p.node, p.wanted.containsNoLoops(p.twin)); }},
    {"event notifier", Fact, mask({NodeClass::Object, NodeClass::View}),
     [](const Pair& p) { return breaksWhenLess<int>(p.is.eventNotifier(p.node), p.wanted.eventNotifier(p.twin)); },
     [](const Pair& p) { return p.is.eventNotifier(p.node) == p.wanted.eventNotifier(p.twin); },
     [](const Space& s, NodeIndex n) { return notifierWords(s.eventNotifier(n)); },
     [](const Pair& p, Space& to) { to.setEventNotifier(p.node, p.wanted.eventNotifier(p.twin)); }},
    {"definition", Fact, mask({NodeClass::DataType}), breaks,
     [](const Pair& p) { return p.rareIs.typeDefinition == p.twins.renumbered()(p.rareWanted.typeDefinition); },
     [](const Space& s, NodeIndex n) { return format(Variant(rare(s, n).typeDefinition)); },
     [](const Pair& p, Space& to) {
       to.rareOf(p.node).typeDefinition = p.twins.renumbered()(p.rareWanted.typeDefinition);
     }},
    {"data type", Fact, kVariables, breaks,
     [](const Pair& p) { return p.is.traits(p.node).dataType == p.twins(p.wanted.traits(p.twin).dataType); },
     [](const Space& s, NodeIndex n) {
       const NodeIndex type = s.traits(n).dataType;
       return type == space::kNoNode ? "" : std::string(s.name(type));
     },
     [](const Pair& p, Space& to) { to.traits(p.node).dataType = p.twins(p.wanted.traits(p.twin).dataType); }},
    {"value rank", Fact, kVariables, breaks,
     [](const Pair& p) { return p.is.traits(p.node).valueRank == p.wanted.traits(p.twin).valueRank; },
     [](const Space& s, NodeIndex n) { return std::to_string(s.traits(n).valueRank); },
     [](const Pair& p, Space& to) { to.traits(p.node).valueRank = p.wanted.traits(p.twin).valueRank; }},
    {"array dimensions", Fact, kVariables, breaks,
     [](const Pair& p) { return p.rareIs.arrayDimensions == p.rareWanted.arrayDimensions; },
     [](const Space& s, NodeIndex n) { return dimensionWords(rare(s, n).arrayDimensions); },
     [](const Pair& p, Space& to) { to.rareOf(p.node).arrayDimensions = p.rareWanted.arrayDimensions; }},
    {"access level", Fact, kVariables,
     [](const Pair& p) { return breaksWhenLess(p.is.traits(p.node).accessLevel, p.wanted.traits(p.twin).accessLevel); },
     [](const Pair& p) { return p.is.traits(p.node).accessLevel == p.wanted.traits(p.twin).accessLevel; },
     [](const Space& s, NodeIndex n) { return accessWordsOf(s.traits(n).accessLevel); },
     [](const Pair& p, Space& to) { to.traits(p.node).accessLevel = p.wanted.traits(p.twin).accessLevel; }},
    {"historizing", Fact, kVariables, seen,
     [](const Pair& p) { return p.is.traits(p.node).historizing == p.wanted.traits(p.twin).historizing; },
     [](const Space& s, NodeIndex n) { return yesOrNo(s.traits(n).historizing); },
     [](const Pair& p, Space& to) { to.traits(p.node).historizing = p.wanted.traits(p.twin).historizing; }},
    {"minimum sampling interval", Fact, kVariables, seen,
     [](const Pair& p) {
       return p.is.traits(p.node).minimumSamplingInterval == p.wanted.traits(p.twin).minimumSamplingInterval;
     },
     [](const Space& s, NodeIndex n) { return fmt::format("{} ms", s.traits(n).minimumSamplingInterval); },
     [](const Pair& p, Space& to) {
       to.traits(p.node).minimumSamplingInterval = p.wanted.traits(p.twin).minimumSamplingInterval;
     }},
    {"value", Fact, kVariables, seen, [](const Pair& p) { return hasSameValue(p) || !isOfTheModel(p); }, valueText,
     [](const Pair& p, Space& to) { to.setValue(p.node, p.twins.renumbered()(p.wanted.value(p.twin))); }},
    {"initial value", InitialValue, kVariables, none, [](const Pair& p) { return hasSameValue(p) || isOfTheModel(p); },
     valueText, nullptr},
};

}  // namespace

std::span<const NodeAttribute* const> attributesOf(NodeClass nodeClass) {
  constexpr std::size_t kClasses = 8;  // a bit each
  static const auto byClass = [] {
    std::array<std::vector<const NodeAttribute*>, kClasses> out;
    for (std::size_t i = 0; i < kClasses; ++i)
      for (const auto& attribute : kAttributes)
        if (attribute.classes & (1u << i)) out[i].push_back(&attribute);
    return out;
  }();
  const auto bit = static_cast<std::size_t>(std::countr_zero(static_cast<std::uint32_t>(nodeClass)));
  return bit < kClasses ? std::span<const NodeAttribute* const>(byClass[bit]) : std::span<const NodeAttribute* const>();
}

}  // namespace zunth::model
