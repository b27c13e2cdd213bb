#include "core/history/variables.hpp"

namespace zunth::history {

using namespace ua;

std::string storedName(const space::Space& space, const NodeId& id) {
  ExpandedNodeId name(id);
  if (id.namespaceIndex() != 0 && id.namespaceIndex() < space.namespaces().size()) {
    name.namespaceUri = space.namespaces()[id.namespaceIndex()];
    name.nodeId = id.inNamespace(0);
  }
  return name.text();
}

std::string annotationsOf(const std::string& storedName) { return "annotations/" + storedName; }

bool isHistorized(const space::Space& space, space::NodeIndex node) {
  if (!space.exists(node) || space.nodeClass(node) != NodeClass::Variable || !space.traits(node).historizing)
    return false;
  for (auto at = space.parent(node); at != space::kNoNode; at = space.parent(at))
    if (space::isType(space.nodeClass(at))) return false;
  return true;
}

bool isStepped(const space::Space& space, space::NodeIndex variable) {
  const auto type = space.builtInType(space.traits(variable).dataType);
  if (type == BuiltInType::Float || type == BuiltInType::Double) return false;
  const auto definition = space.typeDefinition(variable);
  return !isNumeric(type) || definition == space::kNoNode || !space.isSubtype(definition, id::BaseAnalogType);
}

aggregate::Configuration usualAggregation(const space::Space& space, space::NodeIndex variable) {
  aggregate::Configuration out;
  const auto hasConfiguration = space.at(id::HasHistoricalConfiguration);
  for (const auto& reference : space.references(variable)) {
    if (!reference.isForward() || reference.type() != hasConfiguration) continue;
    const auto how = space.child(reference.target(), {0, String("AggregateConfiguration")});
    if (how == space::kNoNode) continue;
    const auto take = [&]<class T>(const char* name, T& value) {
      const auto node = space.child(how, {0, String(name)});
      const DataValue held = node == space::kNoNode ? DataValue() : space.value(node);
      if (const auto* said = held.value.get<T>()) value = *said;
    };
    take("TreatUncertainAsBad", out.treatUncertainAsBad);
    take("PercentDataBad", out.percentDataBad);
    take("PercentDataGood", out.percentDataGood);
    take("UseSlopedExtrapolation", out.useSlopedExtrapolation);
  }
  return out;
}

bool hasNumbers(const space::Space& space, space::NodeIndex variable) {
  const auto type = space.builtInType(space.traits(variable).dataType);
  const bool areNumbers = isNumeric(type) || type == BuiltInType::Boolean || type == BuiltInType::Variant;
  return areNumbers && space.traits(variable).valueRank < 0;
}

DateTime plausibleTime(DateTime source, DateTime now) {
  constexpr std::int64_t kDay = 864'000'000'000;
  return source.ticks > now.ticks + kDay || source.ticks < now.ticks - 366 * kDay ? now : source;
}

namespace {

/// One name. Goes back to the last star only, so that it takes no more than the product of both lengths.
bool matchesName(std::string_view pattern, std::string_view name) {
  std::size_t at = 0, star = std::string_view::npos, mark = 0, i = 0;
  while (i < name.size()) {
    if (at < pattern.size() && pattern[at] == '*') {
      star = at++;
      mark = i;
    } else if (at < pattern.size() && pattern[at] == name[i]) {
      ++at;
      ++i;
    } else if (star != std::string_view::npos) {
      at = star + 1;
      i = ++mark;
    } else {
      return false;
    }
  }
  while (at < pattern.size() && pattern[at] == '*') ++at;
  return at == pattern.size();
}

std::vector<std::string_view> parts(std::string_view path) {
  std::vector<std::string_view> out;
  for (std::size_t slash = 0; slash != std::string_view::npos; path.remove_prefix(slash + 1)) {
    slash = path.find('/');
    out.push_back(path.substr(0, slash));
    if (slash == std::string_view::npos) break;
  }
  return out;
}

}  // namespace

bool matchesPath(std::string_view pattern, std::string_view path) {
  const auto wanted = parts(pattern), names = parts(path);
  std::size_t at = 0, any = std::string_view::npos, mark = 0, i = 0;
  while (i < names.size()) {
    if (at < wanted.size() && wanted[at] == "**") {
      any = at++;
      mark = i;
    } else if (at < wanted.size() && matchesName(wanted[at], names[i])) {
      ++at;
      ++i;
    } else if (any != std::string_view::npos) {
      at = any + 1;
      i = ++mark;
    } else {
      return false;
    }
  }
  while (at < wanted.size() && wanted[at] == "**") ++at;
  return at == wanted.size();
}

}  // namespace zunth::history
