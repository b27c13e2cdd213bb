#include "service/client/node_finder.hpp"

#include "core/ua/generated/node_ids.hpp"
#include "core/ua/text.hpp"

#include <algorithm>
#include <set>
#include <unordered_set>

#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

namespace {

constexpr std::uint32_t kTypeClasses =
    static_cast<std::uint32_t>(NodeClass::ObjectType) | static_cast<std::uint32_t>(NodeClass::VariableType) |
    static_cast<std::uint32_t>(NodeClass::ReferenceType) | static_cast<std::uint32_t>(NodeClass::DataType);

bool isNodeId(const std::string& text) {
  const auto rest = text.starts_with("ns=") ? text.substr(std::min(text.find(';') + 1, text.size())) : text;
  return rest.size() > 2 && rest[1] == '=' && std::string("isgb").find(rest[0]) != std::string::npos;
}

std::vector<std::string> segmentsOf(const std::string& path) {
  std::vector<std::string> out;
  std::size_t from = 0;
  while (from <= path.size()) {
    const auto slash = std::min(path.find('/', from), path.size());
    if (slash > from) out.push_back(path.substr(from, slash - from));
    from = slash + 1;
  }
  return out;
}

/// Matches a name against a segment with * for any run of characters.
bool matches(std::string_view name, std::string_view pattern) {
  if (pattern.empty()) return name.empty();
  if (pattern[0] == '*') return matches(name, pattern.substr(1)) || (!name.empty() && matches(name.substr(1), pattern));
  return !name.empty() && name[0] == pattern[0] && matches(name.substr(1), pattern.substr(1));
}

std::string lastSegment(const std::string& path) { return path.substr(path.rfind('/') + 1); }

Found objectsFolder() {
  Found objects;
  objects.nodeId = NodeId(id::ObjectsFolder);
  objects.nodeClass = NodeClass::Object;
  return objects;
}

NodeClass classOf(const DataValue& value) {
  const auto* number = value.value.get<std::int32_t>();
  return static_cast<NodeClass>(number ? *number : 0);
}

}  // namespace

bool isAlarm(const Found& node) {
  static const std::unordered_set<NodeId> types{id::AlarmConditionType,
                                                id::LimitAlarmType,
                                                id::ExclusiveLimitAlarmType,
                                                id::NonExclusiveLimitAlarmType,
                                                id::ExclusiveLevelAlarmType,
                                                id::NonExclusiveLevelAlarmType,
                                                id::ExclusiveDeviationAlarmType,
                                                id::NonExclusiveDeviationAlarmType,
                                                id::ExclusiveRateOfChangeAlarmType,
                                                id::NonExclusiveRateOfChangeAlarmType,
                                                id::DiscreteAlarmType,
                                                id::OffNormalAlarmType,
                                                id::TripAlarmType,
                                                id::DiscrepancyAlarmType,
                                                id::SystemOffNormalAlarmType,
                                                id::InstrumentDiagnosticAlarmType,
                                                id::SystemDiagnosticAlarmType,
                                                id::CertificateExpirationAlarmType,
                                                id::TrustListOutOfDateAlarmType};
  return types.contains(node.typeDefinition);
}

Awaitable<Result<std::vector<std::vector<Found>>>> childrenOf(SessionPtr session, std::vector<Found> parents) {
  std::vector<BrowseDescription> what;
  for (const auto& parent : parents)
    what.push_back({parent.nodeId, BrowseDirection::Forward, id::HierarchicalReferences, true, 0, 63});
  auto results = co_await session->browse(std::move(what));
  if (!results) co_return results.error();
  std::vector<std::vector<Found>> out(parents.size());
  for (std::size_t i = 0; i < parents.size(); ++i)
    for (const auto& reference : (*results)[i].references) {
      // The way that events go is not where things are, though the standard calls both hierarchical.
      if (!reference.nodeId.isLocal() || reference.referenceTypeId.is(id::HasEventSource) ||
          reference.referenceTypeId.is(id::HasNotifier) || reference.referenceTypeId.is(id::AlarmGroupMember) ||
          reference.referenceTypeId.is(id::HasAlarmSuppressionGroup))
        continue;
      Found child{reference.nodeId.nodeId, reference.browseName.name.str(), reference.nodeClass,
                  reference.typeDefinition.nodeId, parents[i].nodeId};
      if (!parents[i].path.empty()) child.path = parents[i].path + "/" + child.path;
      out[i].push_back(std::move(child));
    }
  co_return out;
}

/// Asks for what is below those of which it isn't known yet.
Awaitable<Result<void>> NodeFinder::look(const std::vector<Found>& parents) {
  std::vector<Found> unknown;
  for (const auto& parent : parents)
    if (!known_.contains(parent.nodeId)) unknown.push_back({parent.nodeId, {}, parent.nodeClass, {}, {}});
  if (unknown.empty()) co_return Result<void>();
  const auto asked = unknown;
  auto children = co_await childrenOf(session_, std::move(unknown));
  if (!children) co_return children.error();
  for (std::size_t i = 0; i < asked.size(); ++i) {
    Below& below = known_[asked[i].nodeId];
    below.all = std::move((*children)[i]);
    for (std::size_t k = 0; k < below.all.size(); ++k) below.byName.emplace(lastSegment(below.all[k].path), k);
  }
  co_return Result<void>();
}

Awaitable<Result<std::vector<Found>>> NodeFinder::find(std::string pattern) {
  if (isNodeId(pattern)) {
    auto parsed = NodeId::parse(pattern);
    if (!parsed) co_return parsed.error();
    auto nodeClass = co_await session_->readAttributes(*parsed, std::vector<AttributeId>(1, AttributeId::NodeClass));
    if (!nodeClass) co_return nodeClass.error();
    if (nodeClass->front().status.isBad())
      co_return Error{nodeClass->front().status, fmt::format("the server has no node {}", pattern), "zunth tree"};
    Found found{*parsed, pattern, classOf(nodeClass->front()), {}, {}};
    co_return std::vector<Found>{found};
  }
  auto segments = segmentsOf(pattern);
  if (!segments.empty() && segments[0] == "Objects") segments.erase(segments.begin());
  std::vector<Found> at{objectsFolder()};
  for (std::size_t s = 0; s < segments.size(); ++s) {
    std::vector<Found> next;
    if (segments[s] == "**") {
      // Any depth: everything below, each node once.
      std::set<std::string> seen;
      std::vector<Found> level = at;
      next = at;
      while (!level.empty()) {
        auto children = co_await childrenOf(session_, std::move(level));
        if (!children) co_return children.error();
        level.clear();
        for (auto& list : *children)
          for (auto& child : list)
            if (seen.insert(child.nodeId.text()).second) {
              if (!isAlarm(child)) level.push_back(child);
              next.push_back(std::move(child));
            }
      }
    } else {
      if (auto looked = co_await look(at); !looked) co_return looked.error();
      const bool isName = segments[s].find('*') == std::string::npos;
      for (const auto& parent : at) {
        const Below& below = known_.at(parent.nodeId);
        const auto take = [&](const Found& child) {
          next.push_back(child);
          if (!parent.path.empty()) next.back().path = parent.path + "/" + child.path;
        };
        if (isName) {
          std::vector<std::size_t> places;
          for (auto [one, end] = below.byName.equal_range(segments[s]); one != end; ++one)
            places.push_back(one->second);
          std::ranges::sort(places);
          for (const std::size_t place : places) take(below.all[place]);
        } else {
          for (const auto& child : below.all)
            if (matches(lastSegment(child.path), segments[s])) take(child);
        }
      }
    }
    if (next.empty()) {
      std::vector<std::string> there;
      for (const auto& parent : at)
        if (const auto below = known_.find(parent.nodeId); below != known_.end())
          for (const auto& child : below->second.all) there.push_back(lastSegment(child.path));
      std::string before;
      for (std::size_t i = 0; i < s; ++i) before += (i ? "/" : "") + segments[i];
      const auto near = nearest(segments[s], there);
      std::string corrected = before + (before.empty() ? "" : "/") + near;
      for (std::size_t i = s + 1; i < segments.size(); ++i) corrected += "/" + segments[i];
      co_return Error{status::BadNoMatch,
                      fmt::format("there is no '{}' in {}", segments[s], before.empty() ? "Objects" : before),
                      near.empty() ? before.empty() ? "zunth tree" : "zunth tree " + before : corrected};
    }
    at = std::move(next);
  }
  co_return at;
}

Awaitable<Result<Found>> NodeFinder::findOne(std::string path) {
  auto found = co_await find(path);
  if (!found) co_return found.error();
  if (found->size() > 1)
    co_return Error{status::BadSyntaxError, fmt::format("'{}' names {} nodes, one is wanted", path, found->size()),
                    "zunth tree"};
  co_return found->front();
}

Awaitable<Result<std::vector<Found>>> findNodes(SessionPtr session, std::string pattern) {
  NodeFinder finder(std::move(session));
  auto found = co_await finder.find(std::move(pattern));
  co_return found;
}

Awaitable<Result<std::vector<Found>>> findNodes(SessionPtr session, std::vector<std::string> patterns) {
  std::vector<Found> out;
  std::set<std::string> seen;
  NodeFinder finder(std::move(session));
  for (const auto& pattern : patterns) {
    auto found = co_await finder.find(pattern);
    if (!found) co_return found.error();
    for (auto& node : *found)
      if (seen.insert(node.nodeId.text()).second) out.push_back(std::move(node));
  }
  co_return out;
}

Awaitable<Result<Found>> findNode(SessionPtr session, std::string path) {
  NodeFinder finder(std::move(session));
  auto found = co_await finder.findOne(std::move(path));
  co_return found;
}

Awaitable<Result<Found>> findType(SessionPtr session, std::string name, std::vector<NodeId> roots) {
  if (isNodeId(name)) co_return co_await findNode(session, name);
  std::vector<std::string> names;
  for (std::vector<NodeId> level = std::move(roots); !level.empty();) {
    std::vector<BrowseDescription> what;
    for (const auto& type : level)
      what.push_back({type, BrowseDirection::Forward, id::HierarchicalReferences, true, kTypeClasses, 63});
    auto results = co_await session->browse(std::move(what));
    if (!results) co_return results.error();
    level.clear();
    for (const auto& result : *results)
      for (const auto& reference : result.references) {
        const std::string known = reference.browseName.name.str();
        if (known == name) co_return Found{reference.nodeId.nodeId, known, reference.nodeClass, {}, {}};
        names.push_back(known);
        level.push_back(reference.nodeId.nodeId);
      }
  }
  const auto near = nearest(name, names);
  co_return Error{status::BadTypeDefinitionInvalid, fmt::format("the server has no type '{}'", name),
                  near.empty() ? "zunth tree, which names the types of what is there" : near};
}

}  // namespace zunth::client
