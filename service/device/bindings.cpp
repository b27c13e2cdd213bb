#include "service/device/bindings.hpp"

#include "core/ua/text.hpp"
#include "service/device/elements.hpp"
#include "service/device/path_pattern.hpp"

#include <algorithm>
#include <unordered_map>
#include <unordered_set>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using model::Entry;
using model::Findings;
using model::Text;
using space::NodeIndex;
using space::Space;

namespace {

/// How many elements a variable has in its first dimension; 0 for any number.
std::uint32_t lengthOf(const Space& space, NodeIndex variable) {
  const auto* rare = space.rare(variable);
  return rare && !rare->arrayDimensions.empty() ? rare->arrayDimensions.front() : 0;
}

/// Whether a variable takes as many elements as the point gives (Part 3, 5.6.2: -1 one value, -2 any, -3 one or a row
/// of them, 0 a row or more, 1 a row). What a text or a JSON value says of itself shows with the value.
bool fitsShape(const Space& space, NodeIndex variable, const DevicePoint& point) {
  const auto rank = space.traits(variable).valueRank;
  if (point.raw.length == 0) return rank < 0 || point.raw.type == BuiltInType::Variant;
  const bool isRow = rank == 1 || rank == 0 || rank == -2 || rank == -3;
  const std::uint32_t length = lengthOf(space, variable);
  return isRow && (length == 0 || length == point.raw.length);
}

/// "Float", "Float[10]", "Float[]".
std::string shapeText(const Space& space, NodeIndex variable, std::string_view type) {
  if (space.traits(variable).valueRank < 0) return std::string(type);
  const std::uint32_t length = lengthOf(space, variable);
  return length > 0 ? fmt::format("{}[{}]", type, length) : fmt::format("{}[]", type);
}

class Reader {
 public:
  Reader(const Space& space, const std::vector<DeviceFile>& devices, Bindings& bindings, Findings& findings)
      : space_(space), devices_(devices), bindings_(bindings), findings_(findings), finder_(space) {
    for (std::size_t i = 0; i < devices.size(); ++i) numbers_.emplace(devices[i].name, i);
    for (const auto& binding : bindings.variables) {
      bound_.insert(binding.variable);
      if (binding.part)
        partly_.insert(space.path(binding.variable) + binding.part->text);
      else
        wholes_.insert(binding.variable);
    }
    for (const auto& binding : bindings.methods) bound_.insert(binding.method);
    for (const auto& binding : bindings.computed) {
      bound_.insert(binding.variable);
      wholes_.insert(binding.variable);
    }
  }

  void bind(const Entry& entry) {
    if (!entry.value)
      return findings_.error(entry.key.place, fmt::format("'{}' is bound to nothing", entry.key.text), kHelp);
    const bool isMethod = entry.key.text.ends_with("()");
    if (!isMethod && bindParts(entry)) return;
    const Text path = isMethod ? entry.key.part(0, entry.key.text.size() - 2) : entry.key;
    for (const Match& match : finder_.matchesOf(path, isMethod ? NodeClass::Method : NodeClass::Variable, findings_)) {
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
    const auto found = numbers_.find(device);
    if (slash == std::string::npos || found == numbers_.end()) {
      std::vector<std::string> names;
      for (const auto& d : devices_) names.push_back(d.name);
      const auto near = nearest(device, names);
      findings_.error(text.place, fmt::format("there is no device '{}'", device),
                      near.empty() ? kHelp : fmt::format("did you mean '{}'?", near));
      return std::nullopt;
    }
    return Target{found->second, filled.substr(slash + 1)};
  }

  /// "PATH[2]", "PATH.grams", "PATH[{n}]": whether it is about parts of variables. A name may look like one.
  bool bindParts(const Entry& entry) {
    const std::string& text = entry.key.text;
    const auto slash = text.rfind('/');
    const auto from = slash == std::string::npos ? 0 : slash + 1;
    const auto at = text.ends_with(']') ? text.rfind('[') : text.rfind('.');
    if (at == std::string::npos || at <= from) return false;
    Findings whole;
    if (!finder_.matchesOf(entry.key, NodeClass::Variable, whole).empty()) return false;
    Findings stem;
    const auto matches = finder_.matchesOf(entry.key.part(0, at), NodeClass::Variable, stem);
    if (matches.empty()) {
      if (!text.ends_with(']')) return false;
      const auto& finding = stem.list().front();
      findings_.error(finding.place, finding.message, finding.hint);
      return true;
    }
    for (const Match& match : matches) bindParts(entry, match, text.substr(at));
    return true;
  }

  void bindParts(const Entry& entry, const Match& match, const std::string& wanted) {
    if (space_.nodeClass(match.node) != NodeClass::Variable)
      return findings_.error(entry.key.place, fmt::format("{} is no variable", space_.path(match.node)),
                             "only variables have values");
    if (!types_) types_ = space::typeCatalog(space_);
    const auto parts = partsOf(space_, *types_, match.node);
    if (!parts) return findings_.error(entry.key.place, parts.error().cause, parts.error().next);
    const auto open = wanted.find('{'), close = wanted.find('}');
    bool isAny = false;
    for (const Part& part : *parts) {
      Captures captures = match.captures;
      if (open != std::string::npos && close != std::string::npos) {
        const bool isRow = part.text.front() == '[';
        if (isRow != (wanted.front() == '[')) continue;
        captures[wanted.substr(open + 1, close - open - 1)] = part.text.substr(1, part.text.size() - (isRow ? 2 : 1));
      } else if (part.text != wanted) {
        continue;
      }
      isAny = true;
      bindPart(entry, Match{match.node, std::move(captures)}, part);
    }
    if (isAny) return;
    std::vector<std::string> names;
    for (const Part& part : *parts) names.push_back(part.text);
    const auto near = nearest(wanted, names);
    findings_.error(
        entry.key.place, fmt::format("{} has no part '{}'", space_.path(match.node), wanted),
        near.empty() ? fmt::format("{} to {}", names.front(), names.back()) : fmt::format("did you mean '{}'?", near));
  }

  void bindPart(const Entry& entry, const Match& match, const Part& part) {
    const auto point = pointOf(*entry.value, match.captures);
    if (!point) return;
    const auto& [device, index] = *point;
    const DevicePoint& bound = devices_[device].points[index];
    const std::string path = space_.path(match.node) + part.text;
    const bool isSameShape = bound.type() == BuiltInType::Variant || (bound.raw.length > 0) == part.isRow;
    if (!isConvertible(part.type, bound.type()) || !isSameShape)
      return findings_.error(entry.value->place,
                             fmt::format("{} is a {}{}, the point {} gives a {}", path, nameOf(part.type),
                                         part.isRow ? "[]" : "", bound.name(), bound.typeText()),
                             "change the type in the model or at the point");
    if (wholes_.contains(match.node) || !partly_.insert(path).second)
      return findings_.error(entry.key.place, fmt::format("{} is bound twice", path), "a part has one source");
    bound_.insert(match.node);
    warnOfReadOnly(entry, match.node, bound);
    bindings_.variables.push_back({match.node, device, index, part});
  }

  void bindVariable(const Entry& entry, const Match& match) {
    if (space_.nodeClass(match.node) != NodeClass::Variable)
      return findings_.error(entry.key.place, fmt::format("{} is no variable", space_.path(match.node)),
                             "only variables have values; a method is written with ()");
    if (entry.value->text.starts_with('=')) return bindComputed(entry, match);
    const auto found = pointOf(*entry.value, match.captures);
    if (!found || claimed(entry, match.node)) return;
    const DevicePoint& point = devices_[found->first].points[found->second];
    const BuiltInType shown = space_.builtInType(space_.traits(match.node).dataType);
    if (!isConvertible(shown, point.type()) || !fitsShape(space_, match.node, point))
      return findings_.error(entry.value->place,
                             fmt::format("{} is a {}, the point {} gives a {}", space_.path(match.node),
                                         shapeText(space_, match.node, nameOf(shown)), point.name(), point.typeText()),
                             "change the type in the model or at the point");
    warnOfReadOnly(entry, match.node, point);
    bindings_.variables.push_back({match.node, found->first, found->second});
  }

  static bool isConvertible(BuiltInType shown, BuiltInType point) {
    const auto isNumber = [](BuiltInType type) { return isNumeric(type) || type == BuiltInType::Boolean; };
    return shown == point || shown == BuiltInType::Variant || point == BuiltInType::Variant ||
           (isNumber(shown) && isNumber(point));
  }

  void warnOfReadOnly(const Entry& entry, NodeIndex variable, const DevicePoint& point) {
    if ((space_.traits(variable).accessLevel & AccessLevelType::CurrentWrite) && !point.isWritable())
      findings_.warn(entry.value->place, fmt::format("{} is writable, but the point {} is not: writes will be refused",
                                                     space_.path(variable), point.name()));
  }

  /// The device and the point that stand on the right.
  std::optional<std::pair<std::size_t, PointIndex>> pointOf(const Text& text, const Captures& captures) {
    const auto target = targetOf(text, captures);
    if (!target) return std::nullopt;
    const DeviceFile& device = devices_[target->device];
    auto& points = points_[target->device];
    if (points.empty())
      for (PointIndex i = 0; i < device.points.size(); ++i) points.emplace(device.points[i].name(), i);
    if (const auto point = points.find(target->what); point != points.end())
      return std::pair(target->device, point->second);
    std::vector<std::string> names;
    for (const auto& each : device.points) names.push_back(each.name());
    const auto near = nearest(target->what, names);
    findings_.error(text.place, fmt::format("the device {} has no point '{}'", device.name, target->what),
                    near.empty() ? "" : fmt::format("did you mean '{}'?", near));
    return std::nullopt;
  }

  void bindComputed(const Entry& entry, const Match& match) {
    Text expression = entry.value->part(1);
    expression.text = filledIn(expression.text, match.captures);
    auto computed = parseComputed(expression, match.node, space_, findings_);
    if (!computed || claimed(entry, match.node)) return;
    if (space_.traits(match.node).accessLevel & AccessLevelType::CurrentWrite)
      findings_.warn(entry.value->place,
                     fmt::format("{} is writable, but computed: writes will be refused", space_.path(match.node)));
    bindings_.computed.push_back(std::move(*computed));
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
    wholes_.insert(node);
    if (twice)
      findings_.error(entry.key.place, fmt::format("{} is bound twice", space_.path(node)), "a node has one source");
    return twice;
  }

  const Space& space_;
  const std::vector<DeviceFile>& devices_;
  Bindings& bindings_;
  Findings& findings_;
  PathFinder finder_;
  std::unordered_map<std::string_view, std::size_t> numbers_;  // of devices, by their names
  std::unordered_map<std::size_t, std::unordered_map<std::string_view, PointIndex>>
      points_;                                    // of those that were named
  std::unordered_set<NodeIndex> bound_, wholes_;  // nodes; those of them that are bound as a whole
  std::unordered_set<std::string> partly_;        // paths of parts
  std::optional<TypeCatalog> types_;
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
  // A text that looks like a number is text all the same where text is wanted.
  const auto converted = convertedTo(shown, fromDevice.value);
  if (!converted) return DataValue(Variant(), fromDevice.sourceTimestamp, converted.code());
  fromDevice.value = *converted;
  return fromDevice;
}

}  // namespace zunth::device
