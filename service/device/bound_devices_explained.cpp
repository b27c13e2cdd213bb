// How the value of a variable comes about, from the wire to the node.
#include "core/ua/text.hpp"
#include "service/device/bound_devices.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using space::NodeIndex;

void BoundDevices::explain(NodeIndex variable, Instant deadline, ExplainDone done) {
  if (const auto computed = computed_->wayOf(variable)) return done(wayOf(*computed, variable));
  const auto source = sources_.find(variable);
  if (source == sources_.end())
    return done(Error{status::BadNotFound, space_.path(variable) + " is bound to no device: it keeps what is written",
                      "bind it in bindings/"});
  if (source->second.composition) {
    std::vector<NodeIndex> one(1, variable);
    return refresh(std::move(one), deadline, [this, variable, done = std::move(done)] {
      const auto still = sources_.find(variable);
      if (still == sources_.end() || !still->second.composition)
        return done(Error{status::BadNotFound, "it has been bound otherwise meanwhile", "zunth explain, again"});
      done(wayOf(still->second, variable));
    });
  }
  const auto& [bound, point, part] = source->second.all.front();
  bound->device->trace(point, true);
  bound->device->refresh({point}, deadline,
                         later(&BoundDevices::refreshes_, std::function<void()>([this, bound = bound, point = point,
                                                                                 variable, done = std::move(done)] {
                           bound->device->trace(point, false);
                           done(wayOf(*bound, point, variable));
                         })));
}

/// All stages from the device to the node, as far as a value has just come.
Trace BoundDevices::wayOf(Bound& bound, PointIndex point, NodeIndex variable) {
  const auto& file = bound.file;
  const auto& raw = file.points[point].raw;
  Trace way{{"device", fmt::format("{} ({}, {})", file.name, file.driver, file.address)},
            {"point", fmt::format("{}: {}", raw.name, raw.where)},
            {"beat", fmt::format("{:g} ms{}", file.beatOf(point), file.isWhenAskedFor(point) ? " when asked" : "")}};
  const auto trace = std::exchange(bound.traces[point], {});
  if (trace)
    way.insert(way.end(), trace->begin(), trace->end());
  else if (const Health health = bound.device->health(); !health.isConnected)
    way.push_back({"error", health.lastError.code.isBad() ? health.lastError.cause : "it is not connected yet"});
  else
    way.push_back({"error", "no value came"});
  showNode(way, variable);
  return way;
}

/// The parts as they came, each with the point that brings it.
Trace BoundDevices::wayOf(const Sources& sources, NodeIndex variable) const {
  constexpr std::size_t kMostShown = 100;
  Trace way;
  const auto came = sources.composition->came();
  for (const auto& source : sources.all) {
    if (way.size() == kMostShown) {
      way.push_back({"parts", fmt::format("{} in all", sources.all.size())});
      break;
    }
    const std::string& text = sources.composition->part(source.part).text;
    const auto value = std::ranges::find(came, text, &std::pair<std::string, DataValue>::first);
    way.push_back(
        {fmt::format("{} from {}/{}", text, source.bound->file.name, source.bound->file.points[source.point].name()),
         value == came.end() ? std::string("-")
                             : fmt::format("{} ({})", format(value->second.value), value->second.status.name())});
  }
  showNode(way, variable);
  return way;
}

Trace BoundDevices::wayOf(const Computed::Way& computed, NodeIndex variable) const {
  Trace way{{"computed", computed.expression}};
  for (const NodeIndex source : computed.sources) {
    const DataValue value = space_.exists(source) ? space_.value(source) : DataValue();
    way.push_back({space_.path(source), fmt::format("{} ({})", format(value.value), value.status.name())});
  }
  showNode(way, variable);
  return way;
}

void BoundDevices::showNode(Trace& way, NodeIndex variable) const {
  const DataValue value = space_.value(variable);
  const NodeIndex type = space_.traits(variable).dataType;
  const std::string length = value.value.isArray() ? fmt::format("[{}]", value.value.length()) : std::string();
  way.push_back(
      {fmt::format("node, a {}{}", type == space::kNoNode ? "value" : space_.name(type), length), format(value.value)});
  way.push_back({"status", fmt::format("{}, measured {}", value.status.name(), value.sourceTimestamp.text())});
}

}  // namespace zunth::device
