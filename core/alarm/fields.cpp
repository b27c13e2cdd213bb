#include "core/alarm/fields.hpp"

#include <algorithm>
#include <limits>

namespace zunth::alarm {

using namespace ua;
using monitor::Event;
using space::kNoNode;
using space::LimitLevel;
using space::NodeIndex;
using space::Space;

namespace {

using S = const ConditionState&;
using A = const About&;

/// One of two texts that are always the same.
struct Words {
  LocalizedText yes, no;
  Words(std::string_view whenTrue, std::string_view whenFalse) : yes(english(whenTrue)), no(english(whenFalse)) {}
  Variant of(bool is) const { return Variant(is ? yes : no); }
};

/// The state of the exclusive limits' machine that stands for a level, or null.
NodeId stateOf(const std::optional<LimitLevel>& level) {
  if (!level) return {};
  switch (*level) {
    case LimitLevel::HighHigh: return id::ExclusiveLimitStateMachineType_HighHigh;
    case LimitLevel::High: return id::ExclusiveLimitStateMachineType_High;
    case LimitLevel::Low: return id::ExclusiveLimitStateMachineType_Low;
    case LimitLevel::LowLow: return id::ExclusiveLimitStateMachineType_LowLow;
  }
  return {};
}

/// The last transition of that machine: there are four, the others come and go without one.
std::pair<const char*, NodeId> transitionOf(S state) {
  const auto now = outermost(state.exceeded), before = state.levelBefore;
  if (!now || !before) return {"", {}};
  if (*before == LimitLevel::HighHigh && *now == LimitLevel::High)
    return {"HighHighToHigh", id::ExclusiveLimitStateMachineType_HighHighToHigh};
  if (*before == LimitLevel::High && *now == LimitLevel::HighHigh)
    return {"HighToHighHigh", id::ExclusiveLimitStateMachineType_HighToHighHigh};
  if (*before == LimitLevel::LowLow && *now == LimitLevel::Low)
    return {"LowLowToLow", id::ExclusiveLimitStateMachineType_LowLowToLow};
  if (*before == LimitLevel::Low && *now == LimitLevel::LowLow)
    return {"LowToLowLow", id::ExclusiveLimitStateMachineType_LowToLowLow};
  return {"", {}};
}

const char* nameOf(Shelved shelved) {
  return shelved == Shelved::No ? "Unshelved" : shelved == Shelved::Timed ? "TimedShelved" : "OneShotShelved";
}
NodeId idOf(Shelved shelved) {
  return shelved == Shelved::No      ? id::ShelvedStateMachineType_Unshelved
         : shelved == Shelved::Timed ? id::ShelvedStateMachineType_TimedShelved
                                     : id::ShelvedStateMachineType_OneShotShelved;
}
NodeId shelvingTransition(S state) {
  using enum Shelved;
  const auto is = [&](Shelved from, Shelved to) { return state.shelvedBefore == from && state.shelved == to; };
  if (is(No, Timed)) return id::ShelvedStateMachineType_UnshelvedToTimedShelved;
  if (is(No, OneShot)) return id::ShelvedStateMachineType_UnshelvedToOneShotShelved;
  if (is(Timed, No)) return id::ShelvedStateMachineType_TimedShelvedToUnshelved;
  if (is(Timed, OneShot)) return id::ShelvedStateMachineType_TimedShelvedToOneShotShelved;
  if (is(OneShot, No)) return id::ShelvedStateMachineType_OneShotShelvedToUnshelved;
  if (is(OneShot, Timed)) return id::ShelvedStateMachineType_OneShotShelvedToTimedShelved;
  return {};
}
std::string shelvingTransitionName(S state) {
  return state.shelved == state.shelvedBefore ? std::string()
                                              : std::string(nameOf(state.shelvedBefore)) + "To" + nameOf(state.shelved);
}

/// Milliseconds until it comes back by itself: 0 when it isn't shelved, and as much as there can be where nothing ends
/// it (Part 9, 5.8.17.2).
Variant unshelveTime(S state, A about) {
  if (state.shelved == Shelved::No) return Variant(0.0);
  if (state.shelvedUntil.isNull()) return Variant(std::numeric_limits<double>::max());
  return Variant(std::max(0.0, static_cast<double>(state.shelvedUntil.ticks - about.now.ticks) / 1e4));
}

/// What is worth knowing of an active alarm in one phrase: "Active/HighHigh".
Variant activePhrase(S state, A about) {
  if (!state.active.is) return Variant(english("Inactive"));
  const auto worst = about.hasLimits ? outermost(state.exceeded) : std::nullopt;
  return Variant(english(worst ? "Active/" + std::string(space::nameOf(*worst)) : "Active"));
}
/// The same of all that is enabled: "Active | Unacknowledged | Shelved".
Variant wholePhrase(S state, A about) {
  if (!state.enabled.is) return Variant(english("Disabled"));
  if (about.isDialog) return Variant(english(state.asked.is ? "Active" : "Inactive"));
  std::string out = state.active.is ? "Active" : "Inactive";
  if (!state.acknowledged.is)
    out += " | Unacknowledged";
  else if (!state.confirmed.is)
    out += " | Unconfirmed";
  else
    out += " | Acknowledged";
  if (state.latched.is) out += " | Latched";
  if (state.suppressed.is) out += " | Suppressed";
  if (state.outOfService.is) out += " | Out of service";
  if (state.shelved != Shelved::No) out += " | Shelved";
  return Variant(english(out));
}

/// Texts, flags and times of the parts that are one of two.
#define ZUNTH_TWO_STATE(path, member, yes, no)                             \
  {path,                                                                   \
   [](S s, A) {                                                            \
     static const Words words(yes, no);                                    \
     return words.of(s.member.is);                                         \
   }},                                                                     \
      {path "/Id", [](S s, A) { return Variant(s.member.is); }}, {         \
    path "/TransitionTime", [](S s, A) { return Variant(s.member.since); } \
  }
#define ZUNTH_LEVEL(level, number)                                                              \
  {level "State",                                                                               \
   [](S s, A) {                                                                                 \
     static const Words words(level " active", level " inactive");                              \
     return words.of(s.exceeded & (1u << number));                                              \
   }},                                                                                          \
      {level "State/Id", [](S s, A) { return Variant((s.exceeded & (1u << number)) != 0); }}, { \
    level "State/TransitionTime", [](S s, A) { return Variant(s.levelSince[number]); }          \
  }

constexpr StateField kStateFields[] = {
    {"EventId", [](S s, A) { return s.eventIds.empty() ? Variant(ByteString()) : Variant(s.eventIds.back()); }},
    {"EventType", [](S, A a) { return Variant(a.eventType); }},
    {"SourceNode", [](S, A a) { return Variant(a.sourceNode); }},
    {"SourceName", [](S, A a) { return Variant(a.sourceName); }},
    {"Time", [](S s, A) { return Variant(s.time); }},
    {"ReceiveTime", [](S s, A) { return Variant(s.receiveTime); }},
    {"Message", [](S s, A) { return Variant(s.message); }},
    {"Severity", [](S s, A) { return Variant(s.severity); }},
    {"ConditionClassId", [](S, A a) { return Variant(a.conditionClass); }},
    {"ConditionClassName", [](S, A a) { return Variant(a.className); }},
    {"ConditionName", [](S, A a) { return Variant(a.conditionName); }},
    {"BranchId", [](S s, A) { return Variant(s.branchId); }},
    {"Retain", [](S s, A) { return Variant(s.retain); }},
    ZUNTH_TWO_STATE("EnabledState", enabled, "Enabled", "Disabled"),
    {"EnabledState/EffectiveDisplayName", wholePhrase},
    {"Quality", [](S s, A) { return Variant(s.quality); }},
    {"Quality/SourceTimestamp", [](S s, A) { return Variant(s.qualitySince); }},
    {"LastSeverity", [](S s, A) { return Variant(s.lastSeverity); }},
    {"LastSeverity/SourceTimestamp", [](S s, A) { return Variant(s.severitySince); }},
    {"Comment", [](S s, A) { return Variant(s.comment); }},
    {"Comment/SourceTimestamp", [](S s, A) { return Variant(s.commentSince); }},
    {"ClientUserId", [](S s, A) { return Variant(s.commentator); }},
    ZUNTH_TWO_STATE("AckedState", acknowledged, "Acknowledged", "Unacknowledged"),
    ZUNTH_TWO_STATE("ConfirmedState", confirmed, "Confirmed", "Unconfirmed"),
    ZUNTH_TWO_STATE("ActiveState", active, "Active", "Inactive"),
    {"ActiveState/EffectiveDisplayName", activePhrase},
    ZUNTH_TWO_STATE("DialogState", asked, "Active", "Inactive"),
    {"LastResponse", [](S s, A) { return Variant(s.lastResponse); }},
    ZUNTH_TWO_STATE("SuppressedState", suppressed, "Suppressed", "Unsuppressed"),
    ZUNTH_TWO_STATE("OutOfServiceState", outOfService, "Out of service", "In service"),
    ZUNTH_TWO_STATE("SilenceState", silenced, "Silenced", "Not silenced"),
    ZUNTH_TWO_STATE("LatchedState", latched, "Latched", "Unlatched"),
    {"ShelvingState/CurrentState", [](S s, A) { return Variant(english(nameOf(s.shelved))); }},
    {"ShelvingState/CurrentState/Id", [](S s, A) { return Variant(idOf(s.shelved)); }},
    {"ShelvingState/LastTransition", [](S s, A) { return Variant(english(shelvingTransitionName(s))); }},
    {"ShelvingState/LastTransition/Id", [](S s, A) { return Variant(shelvingTransition(s)); }},
    {"ShelvingState/LastTransition/TransitionTime", [](S s, A) { return Variant(s.shelvedSince); }},
    {"ShelvingState/UnshelveTime", unshelveTime},
    {"SuppressedOrShelved", [](S s, A) { return Variant(s.isSuppressedOrShelved()); }},
    {"ReAlarmRepeatCount", [](S s, A) { return Variant(s.reAlarms); }},
    {"FirstInGroupFlag", [](S s, A) { return Variant(s.isFirstInGroup); }},
    {"LimitState/CurrentState",
     [](S s, A) {
       const auto worst = outermost(s.exceeded);
       return Variant(worst ? english(space::nameOf(*worst)) : LocalizedText());
     }},
    {"LimitState/CurrentState/Id", [](S s, A) { return Variant(stateOf(outermost(s.exceeded))); }},
    {"LimitState/LastTransition", [](S s, A) { return Variant(english(transitionOf(s).first)); }},
    {"LimitState/LastTransition/Id", [](S s, A) { return Variant(transitionOf(s).second); }},
    ZUNTH_LEVEL("HighHigh", 0),
    ZUNTH_LEVEL("High", 1),
    ZUNTH_LEVEL("Low", 2),
    ZUNTH_LEVEL("LowLow", 3),
};
#undef ZUNTH_TWO_STATE
#undef ZUNTH_LEVEL

constexpr std::size_t kDeepest = 4;  // LimitState/CurrentState/Id

/// The variables below a node, each with its path.
void collect(const Space& space, NodeIndex at, const Event::Path& path,
             std::vector<std::pair<Event::Path, NodeIndex>>& out) {
  if (path.size() >= kDeepest) return;
  for (const auto& reference : space.references(at)) {
    const NodeIndex child = reference.target();
    if (!reference.isForward() || !space.isSubtype(reference.type(), id::HasChild) || space.parent(child) != at)
      continue;
    const auto nodeClass = space.nodeClass(child);
    if (nodeClass != NodeClass::Variable && nodeClass != NodeClass::Object) continue;
    Event::Path below = path;
    below.push_back(space.browseName(child));
    if (nodeClass == NodeClass::Variable) out.emplace_back(below, child);
    collect(space, child, below, out);
  }
}

Event::Path pathOf(std::string_view text) {
  Event::Path out;
  while (!text.empty()) {
    const auto slash = std::min(text.find('/'), text.size());
    out.push_back({0, String(text.substr(0, slash))});
    text.remove_prefix(std::min(slash + 1, text.size()));
  }
  return out;
}

std::string textOf(const Event::Path& path) {
  std::string out;
  for (const auto& name : path) out += (out.empty() ? "" : "/") + name.text();
  return out;
}

}  // namespace

std::span<const StateField> stateFields() { return kStateFields; }

Fields Layouts::of(const Space& space, NodeIndex condition) {
  std::vector<std::pair<Event::Path, NodeIndex>> variables;
  collect(space, condition, {}, variables);
  std::map<std::string, std::pair<Event::Path, NodeIndex>, std::less<>> byPath;
  for (auto& [path, node] : variables) byPath.emplace(textOf(path), std::pair(path, node));

  Layout layout;
  Fields out;
  auto names = std::make_shared<Event::Names>();
  std::string key;
  const auto add = [&](const std::string& text, Event::Path path, NodeIndex node, std::size_t state) {
    names->push_back(std::move(path));
    layout.states.push_back(state);
    out.nodes.push_back(node);
    key += text + (node == kNoNode ? "-\n" : "\n");
  };
  for (std::size_t i = 0; i < std::size(kStateFields); ++i) {
    const std::string_view path = kStateFields[i].path;
    const auto first = path.substr(0, path.find('/'));
    if (space.child(condition, {0, String(first)}) == kNoNode) continue;
    const auto node = byPath.find(path);
    add(std::string(path), pathOf(path), node == byPath.end() ? kNoNode : node->second.second, i);
    if (node != byPath.end()) byPath.erase(node);
  }
  for (auto& [text, variable] : byPath) add(text, std::move(variable.first), variable.second, Layout::kOther);
  // What has no field of its own but its id (Part 9, 5.5.2).
  add("ConditionId", {{0, "ConditionId"}}, kNoNode, Layout::kOther);

  auto& known = known_[key];
  if (!known) {
    layout.names = std::move(names);
    known = std::make_shared<const Layout>(std::move(layout));
  }
  out.layout = known;
  return out;
}

}  // namespace zunth::alarm
