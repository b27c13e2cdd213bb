#include "service/admin/device_desk.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"

#include <fmt/format.h>

namespace zunth::admin {

using namespace ua;
using space::NodeIndex;

void DeviceDesk::open(Control& control) {
  control.on("explain",
             [this](const Actor&, const Json& asked, const Control::Answer& answer) { explain(asked, answer); });
  control.on("devices", [this](const Actor&, const Json&, const Control::Answer& answer) { answer(tellDevices()); });
  control.on("wire",
             [this](const Actor&, const Json& asked, const Control::Answer& answer) { answer(tellWire(asked)); });
}

void DeviceDesk::explain(const Json& asked, const Control::Answer& answer) {
  const auto& space = server_.space();
  const std::string path = asked.value("node", "");
  NodeIndex node = space::kNoNode;
  if (const auto id = NodeId::parse(path)) node = space.find(*id);
  if (node == space::kNoNode) node = space::nodeAt(space, path);
  const auto refuse = [&](StatusCode code, std::string cause, std::string next) {
    answer({{"error", jsonOf(Error{code, std::move(cause), std::move(next)})}});
  };
  if (node == space::kNoNode) return refuse(status::BadNodeIdUnknown, "there is no node " + shown(path), "zunth tree");
  if (space.nodeClass(node) != NodeClass::Variable)
    return refuse(status::BadAttributeIdInvalid, shown(path) + " has no value", "name a variable");
  constexpr auto kPatience = std::chrono::seconds(10);
  devices_.explain(node, std::chrono::steady_clock::now() + kPatience,
                   [this, node, answer](Result<device::Trace> stages) {
                     if (!stages) return answer({{"error", jsonOf(stages.error())}});
                     for (auto& stage : watchedBy(node)) stages->push_back(std::move(stage));
                     if (shows_)
                       for (auto& stage : shows_(server_.space().nodeId(node))) stages->push_back(std::move(stage));
                     Json list = Json::array();
                     for (const auto& stage : *stages) list.push_back({{"stage", stage.what}, {"shows", stage.shows}});
                     answer({{"stages", std::move(list)}});
                   });
}

/// What each client that watches the variable got last.
device::Trace DeviceDesk::watchedBy(NodeIndex variable) const {
  constexpr std::size_t kMost = 20;
  device::Trace out;
  const auto watchers = server_.watchersOf(variable);
  for (const auto& watcher : watchers) {
    if (out.size() == kMost) {
      out.push_back({"and", fmt::format("{} more", watchers.size() - kMost)});
      break;
    }
    const std::string who = watcher.session.empty() ? "nobody, just now" : shown(watcher.session);
    out.push_back({fmt::format("sent to {}", who),
                   fmt::format("{} ({}), {}, subscription {}", format(watcher.last.value), watcher.last.status.name(),
                               watcher.interval > 0 ? fmt::format("every {:g} ms", watcher.interval) : "each change",
                               watcher.subscription)});
  }
  return out;
}

/// What goes over a device's line, from when it is first asked for until nobody asks for ten seconds.
Json DeviceDesk::tellWire(const Json& asked) const {
  const std::string name = asked.value("device", "");
  const auto log = devices_.wireOf(name);
  if (!log)
    return {{"error", jsonOf(Error{status::BadNotFound, fmt::format("there is no device '{}'", shown(name)),
                                   "zunth device shows them all"})}};
  const auto after = asked.value("after", std::uint64_t{0});
  log->keepFor(std::chrono::seconds(10));
  Json lines = Json::array();
  for (const auto& entry : log->since(after))
    lines.push_back({{"number", entry.number},
                     {"time", entry.when.text()},
                     {"way", entry.isSent ? "sent" : "came"},
                     {"octets", entry.octets},
                     {"words", entry.words}});
  return {{"lines", std::move(lines)}};
}

Json DeviceDesk::tellDevices() const {
  Json list = Json::array();
  for (const auto& device : devices_.states()) {
    const auto& health = device.health;
    list.push_back({{"device", device.name},
                    {"driver", device.driver},
                    {"address", device.address},
                    {"state", device.isStarting    ? "starting"
                              : health.isConnected ? "connected"
                                                   : "away"},
                    {"since", health.since.text()},
                    {"every", device.every},
                    {"points", device.points},
                    {"polls", health.figures.polls},
                    {"failures", health.figures.failures},
                    {"writes", health.writes},
                    {"roundTrip", health.figures.roundTrip},
                    {"lastError", health.lastError.cause}});
  }
  return {{"devices", std::move(list)}};
}

/// As an event of the device's own object (Part 5, 6.4.30).
void DeviceDesk::cameOrWent(NodeIndex node, const device::DeviceState& device) {
  constexpr std::uint16_t kGone = 600, kBack = 100;
  const bool isThere = device.health.isConnected;
  auto& announcer = server_.announcer();
  announcer.raise(announcer.make(
      isThere ? id::SystemEventType : id::DeviceFailureEventType, isThere ? kBack : kGone,
      isThere ? fmt::format("the device {} answers", device.name)
              : fmt::format("the device {} is away: {}", device.name, shown(device.health.lastError.cause)),
      node));
}

}  // namespace zunth::admin
