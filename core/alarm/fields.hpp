#pragma once

#include "core/alarm/condition_state.hpp"
#include "core/monitor/event.hpp"

#include <map>

namespace zunth::alarm {

/// A text of the server's own.
inline ua::LocalizedText english(std::string_view text) { return ua::LocalizedText(ua::String(text), "en"); }

/// What of a condition's fields isn't in its state.
struct About {
  ua::NodeId eventType, sourceNode, conditionClass;
  ua::String sourceName, conditionName;
  ua::LocalizedText className;
  bool hasLimits = false, isDialog = false;
  ua::DateTime now;  // for times that run
};

/// A field that tells how a condition stands: its path in the types of the standard, and what it is of a state.
struct StateField {
  std::string_view path;
  ua::Variant (*of)(const ConditionState& state, const About& about);
};
/// All that there are. One is a condition's when the node is there that its path begins with.
std::span<const StateField> stateFields();

/// The fields that conditions of one make have: those of their state, and their other variables. Shared by them.
struct Layout {
  static constexpr std::size_t kOther = SIZE_MAX;
  std::shared_ptr<const monitor::Event::Names> names;
  std::vector<std::size_t> states;  // of each name: its row of stateFields(), or kOther
};

/// A condition's own: where each field of its layout is shown.
struct Fields {
  std::shared_ptr<const Layout> layout;
  std::vector<space::NodeIndex> nodes;  // kNoNode for what is told, but has no node
};

/// Makes layouts, each once.
class Layouts {
 public:
  Fields of(const space::Space& space, space::NodeIndex condition);

 private:
  std::map<std::string, std::shared_ptr<const Layout>> known_;
};

}  // namespace zunth::alarm
