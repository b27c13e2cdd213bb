#include "service/device/bindings.hpp"

#include "core/ua/text.hpp"

#include <algorithm>
#include <map>
#include <unordered_set>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using model::Entry;
using model::Findings;
using model::Text;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

using Captures = std::map<std::string, std::string>;

std::vector<std::string> segmentsOf(std::string_view path) {
  std::vector<std::string> out;
  std::size_t from = 0;
  while (from <= path.size()) {
    const auto slash = std::min(path.find('/', from), path.size());
    out.emplace_back(path.substr(from, slash - from));
    from = slash + 1;
  }
  return out;
}

std::vector<NodeIndex> childrenOf(const Space& space, NodeIndex node) {
  std::vector<NodeIndex> out;
  const NodeIndex hierarchical = space.at(id::HierarchicalReferences);
  for (const auto& reference : space.references(node))
    if (reference.isForward() && space.isSubtype(reference.type(), hierarchical) &&
        !space.isSubtype(reference.type(), id::HasEventSource))
      out.push_back(reference.target());
  return out;
}

struct Match {
  NodeIndex node;
  Captures captures;
};

/// All nodes that a path with {NAME}s stands for. When there are none, `stuckAt` is the first segment that led nowhere
/// and `there` the names at that place.
std::vector<Match> follow(const Space& space, const std::vector<std::string>& segments, std::size_t& stuckAt,
                          std::vector<std::string>& there) {
  std::vector<Match> at{{space.at(id::ObjectsFolder), {}}};
  for (std::size_t i = 0; i < segments.size(); ++i) {
    const std::string& segment = segments[i];
    const bool isAny = segment.size() > 2 && segment.front() == '{' && segment.back() == '}';
    const std::string variable = isAny ? segment.substr(1, segment.size() - 2) : std::string();
    std::vector<Match> next;
    for (const Match& match : at)
      for (NodeIndex child : childrenOf(space, match.node)) {
        if (!isAny && space.name(child) != segment) continue;
        Captures captures = match.captures;
        if (isAny) {
          const std::string name(space.name(child));
          const auto [known, isNew] = captures.try_emplace(variable, name);
          if (!isNew && known->second != name) continue;
        }
        next.push_back({child, std::move(captures)});
      }
    there.clear();
    if (next.empty())
      for (const Match& match : at)
        for (NodeIndex child : childrenOf(space, match.node)) there.emplace_back(space.name(child));
    at = std::move(next);
    stuckAt = i;
    if (at.empty()) return at;
  }
  return at;
}

std::string filledIn(std::string text, const Captures& captures) {
  for (const auto& [name, value] : captures) {
    const std::string placeholder = "{" + name + "}";
    for (auto at = text.find(placeholder); at != std::string::npos; at = text.find(placeholder, at + value.size()))
      text.replace(at, placeholder.size(), value);
  }
  return text;
}

class Reader {
 public:
  Reader(const Space& space, const std::vector<DeviceFile>& devices, Bindings& bindings, Findings& findings)
      : space_(space), devices_(devices), bindings_(bindings), findings_(findings) {
    for (const auto& binding : bindings.variables) bound_.insert(binding.variable);
    for (const auto& binding : bindings.methods) bound_.insert(binding.method);
  }

  void bind(const Entry& entry) {
    if (!entry.value)
      return findings_.error(entry.key.place, fmt::format("'{}' is bound to nothing", entry.key.text), kHelp);
    std::string path = entry.key.text;
    const bool isMethod = path.ends_with("()");
    if (isMethod) path.resize(path.size() - 2);
    const auto segments = segmentsOf(path);
    std::size_t stuckAt = 0;
    std::vector<std::string> there;
    const auto matches = follow(space_, segments, stuckAt, there);
    // A placeholder may pass by nodes of another kind on its way; what is named must be there at least once.
    if (matches.empty()) {
      const auto near = nearest(segments[stuckAt], there);
      return findings_.error(entry.key.place,
                             fmt::format("the model has no '{}' at {}", segments[stuckAt], entry.key.text),
                             near.empty() ? "" : fmt::format("did you mean '{}'?", near));
    }
    for (const Match& match : matches) {
      if (isMethod)
        bindMethod(entry, match);
      else
        bindVariable(entry, match);
    }
  }

 private:
  static constexpr const char* kHelp = "as in: Hatchery/Intake/DF1/pressure: filter-DF1/pressure";

  struct Target {
    std::size_t device;
    std::string what;
  };
  std::optional<Target> targetOf(const Text& text, const Captures& captures) {
    const std::string filled = filledIn(text.text, captures);
    const auto slash = filled.find('/');
    const std::string device = filled.substr(0, slash);
    const auto found = std::ranges::find(devices_, device, &DeviceFile::name);
    if (slash == std::string::npos || found == devices_.end()) {
      std::vector<std::string> names;
      for (const auto& d : devices_) names.push_back(d.name);
      const auto near = nearest(device, names);
      findings_.error(text.place, fmt::format("there is no device '{}'", device),
                      near.empty() ? kHelp : fmt::format("did you mean '{}'?", near));
      return std::nullopt;
    }
    return Target{static_cast<std::size_t>(found - devices_.begin()), filled.substr(slash + 1)};
  }

  void bindVariable(const Entry& entry, const Match& match) {
    if (space_.nodeClass(match.node) != NodeClass::Variable)
      return findings_.error(entry.key.place, fmt::format("{} is no variable", space_.path(match.node)),
                             "only variables have values; a method is written with ()");
    const auto target = targetOf(*entry.value, match.captures);
    if (!target) return;
    const DeviceFile& device = devices_[target->device];
    const auto point = std::ranges::find(device.points, target->what, &DevicePoint::name);
    if (point == device.points.end()) {
      std::vector<std::string> names;
      for (const auto& p : device.points) names.push_back(p.name());
      const auto near = nearest(target->what, names);
      return findings_.error(entry.value->place,
                             fmt::format("the device {} has no point '{}'", device.name, target->what),
                             near.empty() ? "" : fmt::format("did you mean '{}'?", near));
    }
    if (claimed(entry, match.node)) return;
    const auto& traits = space_.traits(match.node);
    const BuiltInType shown = space_.builtInType(traits.dataType);
    const bool fits = shown == point->type() || shown == BuiltInType::Variant ||
                      ((isNumeric(shown) || shown == BuiltInType::Boolean) &&
                       (isNumeric(point->type()) || point->type() == BuiltInType::Boolean));
    if (!fits || traits.valueRank >= 0)
      return findings_.error(entry.value->place,
                             fmt::format("{} is a {}, the point {} gives a {}", space_.path(match.node), nameOf(shown),
                                         point->name(), nameOf(point->type())),
                             "change the type in the model or at the point");
    if ((traits.accessLevel & AccessLevelType::CurrentWrite) && !point->isWritable())
      findings_.warn(entry.value->place, fmt::format("{} is writable, but the point {} is not: writes will be refused",
                                                     space_.path(match.node), point->name()));
    bindings_.variables.push_back({match.node, target->device, static_cast<PointIndex>(point - device.points.begin())});
  }

  void bindMethod(const Entry& entry, const Match& match) {
    if (space_.nodeClass(match.node) != NodeClass::Method)
      return findings_.error(entry.key.place, fmt::format("{} is no method", space_.path(match.node)),
                             "leave the () out for a variable");
    const auto target = targetOf(*entry.value, match.captures);
    if (!target) return;
    const DeviceFile& device = devices_[target->device];
    if (!device.action(target->what)) {
      std::vector<std::string> names;
      for (const auto& action : device.actions) names.push_back(action.name);
      const auto near = nearest(target->what, names);
      return findings_.error(
          entry.value->place, fmt::format("the device {} has no action '{}'", device.name, target->what),
          near.empty() ? "write it under 'actions:' of the device" : fmt::format("did you mean '{}'?", near));
    }
    if (claimed(entry, match.node)) return;
    bindings_.methods.push_back({match.node, target->device, target->what});
  }

  bool claimed(const Entry& entry, NodeIndex node) {
    const bool twice = !bound_.insert(node).second;
    if (twice)
      findings_.error(entry.key.place, fmt::format("{} is bound twice", space_.path(node)), "a node has one source");
    return twice;
  }

  const Space& space_;
  const std::vector<DeviceFile>& devices_;
  Bindings& bindings_;
  Findings& findings_;
  std::unordered_set<NodeIndex> bound_;
};

}  // namespace

void readBindings(const std::vector<Entry>& lines, const Space& space, const std::vector<DeviceFile>& devices,
                  Bindings& bindings, Findings& findings) {
  Reader reader(space, devices, bindings, findings);
  for (const Entry& line : lines) reader.bind(line);
}

void readBindings(const std::string& file, const std::string& text, const Space& space,
                  const std::vector<DeviceFile>& devices, Bindings& bindings, Findings& findings) {
  const Entry root = model::readYaml(file, text, findings);
  checkKeys(root, {"bindings"}, findings);
  if (const Entry* list = root.find("bindings")) readBindings(list->entries, space, devices, bindings, findings);
}

DataValue shownAs(const Space& space, NodeIndex variable, DataValue fromDevice) {
  if (fromDevice.status.isBad()) return fromDevice;
  const BuiltInType shown = space.builtInType(space.traits(variable).dataType);
  if (shown == BuiltInType::Variant || fromDevice.value.type() == shown) return fromDevice;
  auto converted = convert(fromDevice.value, shown, true);
  if (!converted) return DataValue(Variant(), fromDevice.sourceTimestamp, converted.code());
  fromDevice.value = std::move(*converted);
  return fromDevice;
}

}  // namespace zunth::device
