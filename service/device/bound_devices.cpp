#include "service/device/bound_devices.hpp"

#include "core/space/attributes.hpp"
#include "core/space/node_set.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/text.hpp"
#include "service/logs/logs.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using space::NodeIndex;

namespace {

/// Of a device's time, readers who want newer values than the beat brings may have a fifth.
constexpr double kReadersShare = 5;
constexpr Duration kLeastAge = std::chrono::milliseconds(20);

}  // namespace

void BoundDevices::rebind(std::vector<DeviceFile> files, const Bindings& bindings) {
  std::vector<std::shared_ptr<Bound>> before = std::exchange(devices_, {});
  for (auto& file : files) {
    const auto same = std::ranges::find_if(before, [&](const auto& bound) {
      return bound && bound->file.name == file.name && bound->file.identity == file.identity;
    });
    if (same != before.end()) {
      // What it has discovered stays behind its own points, of which it has the same.
      const auto known = (*same)->discovered();
      file.points.insert(file.points.end(), known.begin(), known.end());
      (*same)->file = std::move(file);
      devices_.push_back(std::move(*same));
    } else {
      devices_.push_back(make(std::move(file)));
    }
  }
  for (const auto& old : before)
    if (old) forgetNodes(*old);
  if (loop_.discovered)
    for (const auto& old : before) {
      const auto is = [&](const auto& bound) { return bound->file.name == old->file.name && bound->file.room() > 0; };
      if (old && std::ranges::none_of(devices_, is)) loop_.discovered->forget(old->file.name);
    }
  auto changes = nodes_.keep(states());
  std::vector<VariableBinding> variables = bindings.variables;
  bindDiscovered(variables, changes);
  bindVariables(devices_, variables);
  bindMethods(devices_, bindings);
  bindComputed(bindings.computed);
  for (const auto& bound : devices_) want(*bound);
  for (auto& old : before)
    if (old) retire(std::move(old));
  if (!changes.empty() && isRunning_ && loop_.modelChanged) loop_.modelChanged(std::move(changes));
  if (isRunning_) startAll();
  watchInterest(++interestWatch_);
}

void BoundDevices::want(Bound& bound) {
  bound.hasWhenAsked =
      std::ranges::any_of(bound.shown, [&](const auto& shown) { return bound.file.isWhenAskedFor(shown.first); });
  const auto asked = pacesOf(bound);
  bound.asked = asked.value_or(Device::Paces());
  std::vector<PointIndex> polled;
  for (const auto& [point, places] : bound.shown)
    if (!places.empty() && (!asked || !bound.file.isWhenAskedFor(point) || asked->contains(point)))
      polled.push_back(point);
  bound.device->want(bound.file, polled, bound.asked);
}

/// How fast those points are asked for that are read no faster; nothing when there are none of this kind.
std::optional<Device::Paces> BoundDevices::pacesOf(const Bound& bound) const {
  if (!loop_.interest || !bound.hasWhenAsked) return std::nullopt;
  std::optional<Device::Paces> out;
  for (const auto& [point, places] : bound.shown) {
    if (!bound.file.isWhenAskedFor(point)) continue;
    if (!out) out.emplace();
    for (const Place& place : places)
      if (const auto interest = loop_.interest(place.variable)) {
        const double pace = std::max(*interest, bound.file.beatOf(point));
        const auto [there, isNew] = out->emplace(point, pace);
        if (!isNew) there->second = std::min(there->second, pace);
      }
  }
  return out;
}

/// Clients come and go: what they ask for is looked at several times a second, where points go by it.
void BoundDevices::watchInterest(std::uint64_t watch) {
  constexpr auto kPause = std::chrono::milliseconds(200);
  if (watch != interestWatch_ || !loop_.after) return;
  bool isAny = false;
  for (const auto& bound : devices_)
    if (const auto asked = pacesOf(*bound)) {
      isAny = true;
      if (*asked != bound->asked) want(*bound);
    }
  if (isAny)
    loop_.after(kPause, [self = weak_from_this(), watch] {
      if (const auto devices = self.lock()) devices->watchInterest(watch);
    });
}

/// The nodes of what devices have discovered, as if bindings named them.
void BoundDevices::bindDiscovered(std::vector<VariableBinding>& variables,
                                  std::vector<ModelChangeStructureDataType>& changes) {
  for (std::size_t i = 0; i < devices_.size(); ++i) {
    const Bound& bound = *devices_[i];
    const auto nodes = nodes_.keepPoints(bound.file.name, bound.discovered(), changes);
    for (std::size_t k = 0; k < nodes.size(); ++k)
      if (nodes[k] != space::kNoNode) variables.push_back({nodes[k], i, bound.ownPoints + k});
  }
}

/// What it has discovered goes with it: others may get the indexes of those nodes.
void BoundDevices::forgetNodes(const Bound& bound) {
  for (PointIndex point = bound.ownPoints; point < bound.file.points.size(); ++point)
    if (const auto shown = bound.shown.find(point); shown != bound.shown.end())
      for (const Place& place : shown->second) {
        owners_.disown(place.variable);
        sources_.erase(place.variable);
      }
}

void BoundDevices::showDiscovered(Bound& bound, PointIndex first, std::vector<DevicePoint> points) {
  const auto self = std::ranges::find_if(devices_, [&](const auto& each) { return each.get() == &bound; });
  if (self == devices_.end()) return;  // it is leaving
  std::vector<ModelChangeStructureDataType> changes;
  const auto nodes = nodes_.addPoints(bound.file.name, points, changes);
  std::vector<Discovered> kept;
  for (std::size_t i = 0; i < points.size(); ++i) {
    const auto& raw = points[i].raw;
    kept.push_back({raw.name, raw.where, raw.type});
    if (nodes[i] == space::kNoNode) continue;
    bindVariable(*self, first + i, {nodes[i]});
    showAwaited(nodes[i]);
  }
  logs::devices().info("device {}: discovered {} points, the first is '{}'", bound.file.name, points.size(),
                       ua::shown(points[0].name()));
  bound.file.points.insert(bound.file.points.end(), std::make_move_iterator(points.begin()),
                           std::make_move_iterator(points.end()));
  if (loop_.discovered) loop_.discovered->add(bound.file, kept);
  want(bound);
  if (loop_.modelChanged) loop_.modelChanged(std::move(changes));
}

std::shared_ptr<BoundDevices::Bound> BoundDevices::make(DeviceFile file) {
  auto bound = std::make_shared<Bound>();
  const std::weak_ptr<BoundDevices> self = weak_from_this();
  const std::weak_ptr<Bound> weak = bound;
  // What happens on the device's thread is handed over in whole batches.
  const auto post = [self, weak, hand = loop_.post](auto work) {
    hand([self, weak, work = std::move(work)] {
      const auto devices = self.lock();
      const auto bound = weak.lock();
      if (devices && bound) work(*devices, *bound);
    });
  };
  Device::Events events;
  events.values = [post](std::vector<Shown> batch) {
    post([batch = std::move(batch)](BoundDevices& devices, Bound& bound) { devices.show(bound, batch); });
  };
  events.discovered = [post](PointIndex first, std::vector<DevicePoint> points) {
    // Some at a time: others have their turns in between.
    constexpr std::size_t kAtOnce = 500;
    for (std::size_t from = 0; from < points.size(); from += kAtOnce) {
      const auto begin = points.begin() + static_cast<std::ptrdiff_t>(from);
      const auto count = std::min(kAtOnce, points.size() - from);
      post([first = first + from, some = std::vector<DevicePoint>(begin, begin + static_cast<std::ptrdiff_t>(count))](
               BoundDevices& devices, Bound& bound) { devices.showDiscovered(bound, first, some); });
    }
  };
  events.link = [post](bool isConnected, DateTime when) {
    post([isConnected, when](BoundDevices& devices, Bound& bound) {
      // A device that comes back shows itself by its next values.
      if (!isConnected) devices.showLost(bound, when);
      devices.tellHealth(bound, true);
      devices.tellLink(bound, isConnected);
    });
  };
  events.after = [self, weak, later = loop_.after](Duration pause, std::function<void(Device&)> work) {
    if (later)
      later(pause, [self, weak, work = std::move(work)] {
        const auto bound = weak.lock();
        if (!self.expired() && bound && bound->device) work(*bound->device);
      });
  };
  bound->device = std::make_unique<Device>(file, std::move(events));
  bound->ownPoints = file.points.size();
  if (loop_.discovered && file.room() > 0)
    std::ranges::move(bound->device->remember(loop_.discovered->of(file)), std::back_inserter(file.points));
  bound->file = std::move(file);
  return bound;
}

void BoundDevices::retire(std::shared_ptr<Bound> old) {
  old->shown.clear();  // what it still says is nobody's any more
  Bound* const leaving = leaving_.emplace_back(std::move(old)).get();
  leaving->device->stop([self = weak_from_this(), leaving, post = loop_.post] {
    post([self, leaving] {
      const auto devices = self.lock();
      if (!devices) return;
      std::erase_if(devices->leaving_, [leaving](const auto& each) { return each.get() == leaving; });
      if (devices->isRunning_) devices->startAll();
    });
  });
}

bool BoundDevices::isLeaving(const std::string& line) const {
  return std::ranges::any_of(leaving_, [&](const auto& bound) { return bound->file.line == line; });
}

/// Those whose line is free: many devices take one connection only.
void BoundDevices::startAll() {
  for (const auto& bound : devices_)
    if (!bound->isStarted && !isLeaving(bound->file.line)) {
      bound->isStarted = true;
      bound->device->start();
    }
}

void BoundDevices::start() {
  isRunning_ = true;
  startAll();
}

void BoundDevices::stop() {
  isRunning_ = false;
  // All are asked before the first is waited for.
  for (const auto& bound : devices_) bound->device->stop([] {});
  sources_.clear();
  commands_.clear();
  devices_.clear();
  leaving_.clear();
  refreshes_.clear();
  writes_.clear();
  calls_.clear();
}

DeviceState BoundDevices::stateOf(const Bound& bound) {
  const auto isShown = [](const auto& shown) { return !shown.second.empty(); };
  return {bound.file.name,
          bound.file.driver,
          bound.file.address,
          bound.file.every,
          static_cast<std::size_t>(std::ranges::count_if(bound.shown, isShown)),
          !bound.isStarted,
          bound.device->health()};
}

std::vector<DeviceState> BoundDevices::states() const {
  std::vector<DeviceState> out;
  for (const auto& bound : devices_) out.push_back(stateOf(*bound));
  return out;
}

std::shared_ptr<WireLog> BoundDevices::wireOf(const std::string& device) const {
  for (const auto& bound : devices_)
    if (bound->file.name == device)
      return WireLog::of(bound->file.line.empty() ? bound->file.address : bound->file.line);
  return nullptr;
}

/// Its nodes show at once what is news, and its figures each second.
void BoundDevices::tellHealth(Bound& bound, bool isNews) {
  const Instant now = std::chrono::steady_clock::now();
  if (!isNews && now - bound.toldAt < std::chrono::seconds(1)) return;
  bound.toldAt = now;
  nodes_.show(stateOf(bound));
}

/// Once for each time that it comes or goes, whatever else it says of why it is away.
void BoundDevices::tellLink(Bound& bound, bool isConnected) {
  const auto before = std::exchange(bound.wasConnected, isConnected);
  if (before != isConnected && loop_.cameOrWent) loop_.cameOrWent(nodes_.nodeOf(bound.file.name), stateOf(bound));
}

void BoundDevices::bindComputed(const std::vector<ComputedBinding>& bindings) {
  std::vector<NodeIndex> before = computed_->variables();
  computed_->rebind(bindings);
  for (const NodeIndex variable : before)
    if (space_.exists(variable) && !owners_.of(variable)) showReleased(variable);
}

void BoundDevices::bindVariable(const std::shared_ptr<Bound>& bound, PointIndex point, Place place) {
  bound->shown[point].push_back(place);
  sources_[place.variable].all.push_back({bound, point, place.part});
  owners_.own(place.variable, shared_from_this());
}

void BoundDevices::bindVariables(const std::vector<std::shared_ptr<Bound>>& devices,
                                 const std::vector<VariableBinding>& variables) {
  auto before = std::exchange(sources_, {});
  for (const auto& bound : devices) bound->shown.clear();
  std::vector<NodeIndex> inOrder;
  for (const auto& binding : variables) {
    if (!sources_.contains(binding.variable)) inOrder.push_back(binding.variable);
    bindVariable(devices[binding.device], binding.point,
                 {binding.variable, binding.part ? binding.part->number : kWhole});
  }
  std::shared_ptr<const TypeCatalog> types;
  for (const NodeIndex variable : inOrder) {
    Sources& now = sources_[variable];
    const auto old = before.find(variable);
    const bool isSame = old != before.end() && old->second.all == now.all;
    const bool isComposed = now.all.front().part != kWhole;
    if (isComposed && !types) types = std::make_shared<const TypeCatalog>(space::typeCatalog(space_));
    if (isComposed && isSame && old->second.composition->fits(space_, *types, variable)) {
      now.composition = std::move(old->second.composition);
    } else if (isComposed) {
      now.composition = std::make_unique<Composition>(space_, types, variable);
      for (const auto& source : now.all) now.composition->expect(source.part);
    }
    if (!isSame && old != before.end()) showReleased(variable);
    if (old == before.end()) showAwaited(variable);
    if (old != before.end()) before.erase(old);
  }
  for (const auto& [variable, source] : before) {
    owners_.disown(variable);
    showReleased(variable);
  }
}

void BoundDevices::bindMethods(const std::vector<std::shared_ptr<Bound>>& devices, const Bindings& bindings) {
  for (const auto& [method, command] : std::exchange(commands_, {})) owners_.disown(method);
  for (const auto& binding : bindings.methods) {
    const auto& bound = devices[binding.device];
    commands_[binding.method] = {bound, *bound->file.action(binding.action),
                                 space::methodArguments(space_, binding.method, "InputArguments"),
                                 space::methodArguments(space_, binding.method, "OutputArguments")};
    owners_.own(binding.method, shared_from_this());
  }
}

void BoundDevices::show(Bound& bound, const std::vector<Shown>& batch) {
  std::vector<space::Change> changes;
  space::NodeSet composed;  // each once, when all its parts of the batch are there
  for (const auto& each : batch) {
    if (each.trace) bound.traces[each.point] = each.trace;
    const auto shown = bound.shown.find(each.point);
    if (shown == bound.shown.end()) continue;
    for (const auto& [variable, part] : shown->second) {
      if (part != kWhole) {
        if (each.kind != Sample::Kind::Current) continue;  // of the whole at that time nothing is known
        sources_.at(variable).composition->take(part, each.value);
        composed.add(variable);
      } else if (each.kind == Sample::Kind::Current) {
        changes.push_back({variable, shownAs(space_, variable, each.value)});
      } else if (loop_.past) {
        loop_.past(variable, shownAs(space_, variable, each.value));
      }
    }
  }
  for (const NodeIndex variable : composed) changes.push_back({variable, sources_.at(variable).composition->value()});
  space_.setValues(std::move(changes));
  bound.device->taken();
  tellHealth(bound, false);
  loop_.served();
}

void BoundDevices::showLost(const Bound& bound, DateTime when) {
  std::vector<space::Change> changes;
  const DataValue lost(Variant(), when, status::BadNoCommunication);
  for (const auto& [point, places] : bound.shown)
    for (const auto& [variable, part] : places) {
      if (part != kWhole) sources_.at(variable).composition->take(part, lost);
      changes.push_back({variable, lost});
    }
  space_.setValues(std::move(changes));
  loop_.served();
}

void BoundDevices::showReleased(NodeIndex variable) {
  if (!space_.exists(variable)) return;
  DataValue last = space_.value(variable);
  last.status = last.value.isNull() ? status::BadWaitingForInitialData : status::UncertainLastUsableValue;
  last.sourceTimestamp = wallClock();
  space_.setValue(variable, std::move(last));
}

void BoundDevices::showAwaited(NodeIndex variable) {
  DataValue first = space_.value(variable);
  first.status = first.value.isNull() ? status::BadWaitingForInitialData : status::UncertainInitialValue;
  first.sourceTimestamp = wallClock();
  space_.setValue(variable, std::move(first));
}

bool BoundDevices::isOlderThan(NodeIndex variable, Duration age) const {
  const auto source = sources_.find(variable);
  if (source == sources_.end()) return false;
  return std::ranges::any_of(source->second.all, [&](const Source& each) {
    const Duration share = milliseconds(each.bound->device->health().figures.roundTrip * kReadersShare);
    return each.bound->device->isOlderThan(each.point, std::max({age, kLeastAge, share}));
  });
}

void BoundDevices::refresh(std::vector<NodeIndex> variables, Instant deadline, std::function<void()> done) {
  std::map<std::shared_ptr<Bound>, std::vector<PointIndex>> asked;
  for (const NodeIndex variable : variables)
    if (const auto source = sources_.find(variable); source != sources_.end())
      for (const auto& each : source->second.all) asked[each.bound].push_back(each.point);
  if (asked.empty()) return done();
  // The values were posted before: they are shown by then.
  const auto left = std::make_shared<std::size_t>(asked.size());
  const std::function<void()> arrived = [left, done = std::move(done)] {
    if (--*left == 0) done();
  };
  for (auto& [bound, points] : asked)
    bound->device->refresh(std::move(points), deadline, later(&BoundDevices::refreshes_, arrived));
}

void BoundDevices::write(std::vector<Write> writes, Instant deadline, WriteDone done) {
  struct Share {
    std::vector<PointWrite> writes;
    std::vector<std::size_t> numbers;
  };
  std::map<std::shared_ptr<Bound>, Share> shares;
  // What is put together out of several points is told of when the last of them is, by the first that failed.
  struct Left {
    std::size_t count = 1;
    Error outcome{status::Good, {}, {}};
  };
  const auto left = std::make_shared<std::map<std::size_t, Left>>();
  for (std::size_t i = 0; i < writes.size(); ++i) {
    const auto source = sources_.find(writes[i].variable);
    if (source == sources_.end()) {
      done(i, {status::BadNoCommunication, space_.path(writes[i].variable) + " is bound to no device any more", {}});
      continue;
    }
    const auto add = [&](const Source& to, Variant value) {
      auto& share = shares[to.bound];
      share.writes.push_back({to.point, std::move(value)});
      share.numbers.push_back(i);
    };
    const auto& [all, composition] = source->second;
    if (!composition) {
      add(all.front(), std::move(writes[i].value));
      continue;
    }
    auto parts = composition->split(writes[i].value);
    if (!parts) {
      done(i, parts.error());
      continue;
    }
    (*left)[i].count = parts->size();
    for (auto& [number, value] : *parts) add(*std::ranges::find(all, number, &Source::part), std::move(value));
  }
  for (auto& [bound, share] : shares)
    bound->device->write(std::move(share.writes), deadline,
                         later(&BoundDevices::writes_,
                               std::function<void(std::vector<Error>)>(
                                   [done, left, numbers = std::move(share.numbers)](std::vector<Error> outcomes) {
                                     for (std::size_t i = 0; i < numbers.size(); ++i) {
                                       const auto several = left->find(numbers[i]);
                                       if (several == left->end()) {
                                         done(numbers[i], outcomes[i]);
                                         continue;
                                       }
                                       auto& [count, outcome] = several->second;
                                       if (outcome.code.isGood()) outcome = outcomes[i];
                                       if (--count == 0) done(numbers[i], outcome);
                                     }
                                   })));
}

void BoundDevices::call(NodeIndex method, std::vector<Variant> inputs, Instant deadline,
                        std::function<void(space::CallOutcome)> done) {
  const auto found = commands_.find(method);
  if (found == commands_.end())
    return done({{status::BadNoCommunication, space_.path(method) + " is bound to no device any more", {}}, {}});
  const Command& command = found->second;
  std::map<std::string, Variant> named;
  for (std::size_t i = 0; i < command.inputs.size(); ++i) named[command.inputs[i].name.str()] = inputs[i];
  std::vector<std::pair<std::string, BuiltInType>> wanted;
  for (const auto& output : command.outputs)
    wanted.emplace_back(output.name.str(), space_.builtInType(space_.find(output.dataType)));
  const std::function<void(Device::Outcome)> answer = [wanted, done = std::move(done)](Device::Outcome outcome) {
    space::CallOutcome told{outcome.error, {}};
    for (const auto& [name, type] : wanted) {
      const auto given = outcome.outputs.find(name);
      auto value = given == outcome.outputs.end() ? Result<Variant>(Variant()) : convert(given->second, type, true);
      told.outputs.push_back(value ? *value : Variant());
    }
    done(std::move(told));
  };
  command.bound->device->act(command.action, named, deadline, later(&BoundDevices::calls_, answer));
}

void BoundDevices::removed(NodeIndex node) {
  commands_.erase(node);
  const auto source = sources_.find(node);
  if (source == sources_.end()) return;
  for (const auto& each : source->second.all)
    if (const auto shown = each.bound->shown.find(each.point); shown != each.bound->shown.end())
      std::erase_if(shown->second, [node](const Place& place) { return place.variable == node; });
  sources_.erase(source);
}

}  // namespace zunth::device
