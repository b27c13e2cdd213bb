#include "core/model/state_machine.hpp"

#include "core/model/words.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;
using space::Space;

namespace {

class StateMachine {
 public:
  StateMachine(Draft& draft, NodeIndex type, const Entry& entry)
      : draft_(draft), space_(draft.space), type_(type), entry_(entry) {}

  void run() {
    const Entry* states = entry_.find("states");
    const Entry* transitions = entry_.find("transitions");
    if (states) addStates(*states);
    if (!transitions) return;
    for (const Entry& line : transitions->entries) addTransition(line);
  }

 private:
  void addStates(const Entry& entry) {
    if (!entry.value)
      return draft_.error(entry.key.place, "states are names with bars between", "as in: states: Idle | Running");
    const std::string& text = entry.value->text;
    std::uint32_t number = 1;
    for (std::size_t from = 0; from <= text.size(); ++number) {
      const auto bar = std::min(text.find('|', from), text.size());
      const Text part = entry.value->part(from, bar - from);
      const auto words = splitWords(part);
      from = bar + 1;
      if (words.size() != 1) {
        draft_.error(part.place, "a state's name is one word", "as in: states: Idle | Running");
        continue;
      }
      const std::string& name = words.front().text;
      if (draft_.child(type_, name) != kNoNode) {
        draft_.error(words.front().place, fmt::format("'{}' is there already", name));
        continue;
      }
      const NodeIndex state = add(name, number == 1 ? id::InitialStateType : id::StateType, "StateNumber", number);
      if (state != kNoNode) states_.emplace_back(name, state);
    }
  }

  void addTransition(const Entry& line) {
    const auto arrow = line.key.text.find("->");
    if (arrow == std::string::npos)
      return draft_.error(line.key.place, fmt::format("'{}' leads nowhere", line.key.text),
                          "as in: Idle -> Running: start()");
    const NodeIndex from = state(line.key.part(0, arrow)), to = state(line.key.part(arrow + 2));
    if (from == kNoNode || to == kNoNode) return;
    const std::string name = fmt::format("{}To{}", space_.name(from), space_.name(to));
    if (draft_.child(type_, name) != kNoNode)
      return draft_.error(line.key.place, fmt::format("'{}' stands here twice", line.key.text),
                          "several methods may cause it: write them with commas");
    const NodeIndex transition = add(name, id::TransitionType, "TransitionNumber", ++transitions_);
    if (transition == kNoNode) return;
    space_.refer(transition, id::FromState, from);
    space_.refer(transition, id::ToState, to);
    space_.refer(transition, id::HasEffect, space_.at(id::TransitionEventType));
    if (!line.value) return;
    std::size_t begin = 0;
    while (begin <= line.value->text.size()) {
      const auto comma = std::min(line.value->text.find(',', begin), line.value->text.size());
      cause(transition, line.value->part(begin, comma - begin));
      begin = comma + 1;
    }
  }

  void cause(NodeIndex transition, const Text& text) {
    const auto words = splitWords(text);
    if (words.size() != 1 || !words.front().text.ends_with("()"))
      return draft_.error(text.place, fmt::format("'{}' is no method", text.text),
                          "write its name with brackets: start()");
    const Text name = words.front().part(0, words.front().text.size() - 2);
    NodeIndex method = kNoNode;
    for (NodeIndex type = type_; type != kNoNode && method == kNoNode; type = space_.supertype(type))
      method = draft_.child(type, name.text);
    if (method == kNoNode || space_.nodeClass(method) != NodeClass::Method) {
      std::vector<std::string> methods;
      for (const auto& reference : space_.references(type_))
        if (reference.isForward() && space_.nodeClass(reference.target()) == NodeClass::Method)
          methods.push_back(space_.browseName(reference.target()).name.str());
      const std::string near = nearest(name.text, methods);
      return draft_.error(name.place, fmt::format("the type has no method '{}'", name.text),
                          near.empty() ? fmt::format("add a line: {}(): what it does", name.text)
                                       : fmt::format("did you mean '{}'?", near));
    }
    space_.refer(transition, id::HasCause, method);
  }

  NodeIndex state(const Text& text) {
    const auto words = splitWords(text);
    const Text name = words.empty() ? text : words.front();
    // A state of the types above will do as well.
    for (NodeIndex type = type_; type != kNoNode; type = space_.supertype(type))
      if (const NodeIndex found = draft_.child(type, name.text);
          found != kNoNode && space_.typeDefinition(found) != kNoNode &&
          space_.isSubtype(space_.typeDefinition(found), id::StateType))
        return found;
    std::vector<std::string> names;
    for (const auto& [known, node] : states_) names.push_back(known);
    const std::string near = nearest(name.text, names);
    draft_.error(name.place, fmt::format("there is no state '{}'", name.text),
                 near.empty() ? "list it under 'states:'" : fmt::format("did you mean '{}'?", near));
    return kNoNode;
  }

  NodeIndex add(const std::string& name, StandardId definition, const char* numberName, std::uint32_t number) {
    const Location here = draft_.locationOf(type_).in(name);
    NewNode node;
    node.nodeId = NodeId(here.ns, String(here.path));
    node.nodeClass = NodeClass::Object;
    node.browseName = {here.ns, String(name)};
    const NodeIndex added = draft_.add(std::move(node), entry_.key.place);
    if (added == kNoNode) return kNoNode;
    draft_.place(type_, added, id::HasComponent);
    space_.refer(added, id::HasTypeDefinition, space_.at(definition));
    draft_.addProperty(added, numberName, id::UInt32, Variant(number), entry_.key.place, false);
    return added;
  }

  Draft& draft_;
  Space& space_;
  NodeIndex type_;
  const Entry& entry_;
  std::vector<std::pair<std::string, NodeIndex>> states_;
  std::uint32_t transitions_ = 0;
};

}  // namespace

void addStates(Draft& draft, NodeIndex type, const Entry& entry) { StateMachine(draft, type, entry).run(); }

void enterFirstState(Space& space, NodeIndex machine) {
  const NodeIndex current = space.child(machine, {0, "CurrentState"});
  if (current == kNoNode || !space.value(current).value.isNull()) return;
  NodeIndex first = kNoNode;
  for (NodeIndex type = space.typeDefinition(machine); type != kNoNode && first == kNoNode;
       type = space.supertype(type))
    for (const auto& reference : space.references(type))
      if (reference.isForward() && space.typeDefinition(reference.target()) != kNoNode &&
          space.nodeId(space.typeDefinition(reference.target())).is(id::InitialStateType))
        first = reference.target();
  if (first == kNoNode) return;
  space.setValue(current, DataValue(Variant(space.displayName(first))));
  if (const NodeIndex at = space.child(current, {0, "Id"}); at != kNoNode)
    space.setValue(at, DataValue(Variant(space.nodeId(first))));
  const NodeIndex number = space.child(current, {0, "Number"}), own = space.child(first, {0, "StateNumber"});
  if (number != kNoNode && own != kNoNode) space.setValue(number, space.value(own));
}

}  // namespace zunth::model
