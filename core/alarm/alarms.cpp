#include "core/alarm/alarms.hpp"

#include <algorithm>

namespace zunth::alarm {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

Alarms::Alarms(space::Space& space, Surroundings surroundings)
    : space_(space), surroundings_(std::move(surroundings)), tap_(space.tap([this](auto changes) {
        for (const auto& change : changes) valueChanged(change.variable);
      })) {}

Alarms::~Alarms() {
  for (const auto& [variable, watchers] : watchers_)
    if (space_.exists(variable)) space_.watch(variable, tap_, false);
  space_.untap(tap_);
}

void Alarms::bind() {
  std::unordered_map<NodeId, std::unique_ptr<Alarm>> before;
  for (auto& [node, alarm] : alarms_)
    if (space_.exists(node)) before.emplace(space_.nodeId(node), std::move(alarm));
  for (const auto& [variable, watchers] : watchers_)
    if (space_.exists(variable)) space_.watch(variable, tap_, false);
  alarms_.clear();
  watchers_.clear();
  for (NodeIndex node = 0; node < space_.rows(); ++node) {
    if (!space_.exists(node) || !space::isCondition(space_, node) || space::isInType(space_, node)) continue;
    auto found = Alarm::from(space_, node);
    if (!found) continue;
    auto alarm = std::make_unique<Alarm>(std::move(*found));
    if (const auto known = before.find(space_.nodeId(node)); known != before.end()) alarm->takeOver(*known->second);
    for (const NodeIndex variable : alarm->inputs()) {
      auto& watchers = watchers_[variable];
      if (watchers.empty()) space_.watch(variable, tap_, true);
      watchers.push_back(alarm.get());
    }
    alarms_.emplace(node, std::move(alarm));
  }
  for (auto& [node, alarm] : alarms_) {
    alarm->begin(moment());
    look(*alarm);
  }
  findDue();
}

void Alarms::look(Alarm& alarm) {
  if (alarm.look(moment())) surroundings_.raise(alarm.event());
}

void Alarms::valueChanged(NodeIndex variable) {
  const auto found = watchers_.find(variable);
  if (found == watchers_.end()) return;
  for (Alarm* alarm : found->second) {
    look(*alarm);
    due_ = std::min(due_, alarm->due());
  }
}

void Alarms::drop(NodeIndex node) {
  const auto found = alarms_.find(node);
  if (found == alarms_.end()) return;
  if (found->second->isRetained()) {
    found->second->leave(moment());
    surroundings_.raise(found->second->event());
  }
  for (const NodeIndex variable : found->second->inputs()) {
    const auto watched = watchers_.find(variable);
    if (watched == watchers_.end()) continue;
    std::erase(watched->second, found->second.get());
    if (!watched->second.empty()) continue;
    watchers_.erase(watched);
    if (space_.exists(variable)) space_.watch(variable, tap_, false);
  }
  alarms_.erase(found);
}

void Alarms::nodeRemoved(NodeIndex node) {
  // A part of an alarm, too: it can't show any longer how it stands.
  for (NodeIndex at = node, depth = 0; at != kNoNode && depth < 5; at = space_.parent(at), ++depth) drop(at);
  const auto found = watchers_.find(node);
  if (found == watchers_.end()) return;
  for (Alarm* alarm : std::vector(found->second)) drop(alarm->node());
}

void Alarms::tick() {
  const Instant now = surroundings_.now();
  if (now < due_) return;
  for (auto& [node, alarm] : alarms_)
    if (alarm->due() <= now) look(*alarm);
  findDue();
}

void Alarms::findDue() {
  due_ = Instant::max();
  for (const auto& [node, alarm] : alarms_) due_ = std::min(due_, alarm->due());
}

std::optional<Answer> Alarms::call(NodeIndex method, const std::vector<Variant>& inputs, const String& user) {
  const auto found = alarms_.find(space_.parent(method));
  if (found == alarms_.end() || space_.browseName(method).namespaceIndex != 0) return std::nullopt;
  Alarm& alarm = *found->second;
  const auto name = space_.name(method);
  const auto withEvent = [&](auto carryOut) {
    const auto* eventId = inputs.size() == 2 ? inputs[0].get<ByteString>() : nullptr;
    const auto* comment = inputs.size() == 2 ? inputs[1].get<LocalizedText>() : nullptr;
    if (!eventId) return Answer{status::BadInvalidArgument, "an event id and a comment are needed"};
    return (alarm.*carryOut)(*eventId, comment ? *comment : LocalizedText(), user, moment());
  };
  Answer answer;
  if (name == "Acknowledge")
    answer = withEvent(&Alarm::acknowledge);
  else if (name == "Confirm")
    answer = withEvent(&Alarm::confirm);
  else if (name == "AddComment")
    answer = withEvent(&Alarm::addComment);
  else if (name == "Enable" || name == "Disable")
    answer = alarm.enable(name == "Enable", user, moment());
  else
    return std::nullopt;
  if (!answer.code.isBad()) surroundings_.raise(alarm.event());
  findDue();
  return answer;
}

std::vector<monitor::Event> Alarms::retained() const {
  std::vector<monitor::Event> out;
  for (const auto& [node, alarm] : alarms_)
    if (alarm->isRetained()) out.push_back(alarm->event());
  return out;
}

}  // namespace zunth::alarm
