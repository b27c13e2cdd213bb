#include "service/client/node_places.hpp"

#include "core/ua/generated/node_ids.hpp"

#include <algorithm>

namespace zunth::client {

using namespace ua;

namespace {

/// The object that a node is part of: not what hears of it, nor a group that it is in.
NodeId aboveOf(const BrowseResult& result) {
  const auto isWay = [](const ReferenceDescription& reference) {
    const NodeId& type = reference.referenceTypeId;
    return !type.is(id::HasNotifier) && !type.is(id::HasEventSource) && !type.is(id::AlarmGroupMember);
  };
  const auto found = std::ranges::find_if(result.references, isWay);
  return found == result.references.end() ? NodeId() : found->nodeId.nodeId;
}

}  // namespace

Awaitable<void> NodePlaces::find(std::vector<NodeId> nodes) {
  for (int level = 0; level < kMostLevels; ++level) {
    std::vector<ReadValueId> names;
    std::vector<BrowseDescription> ways;
    for (const auto& node : nodes) {
      if (node.isNull() || node.is(id::ObjectsFolder) || !places_.try_emplace(node).second) continue;
      names.push_back({node, static_cast<std::uint32_t>(AttributeId::BrowseName), {}, {}});
      ways.push_back({node, BrowseDirection::Inverse, id::HierarchicalReferences, true, 0, 63});
    }
    if (names.empty()) co_return;
    nodes.clear();
    const auto asked = names;
    // Not known yet is not the same as nowhere.
    const auto forget = [&] {
      for (const auto& each : asked) places_.erase(each.nodeId);
    };
    auto values = co_await session_->read(std::move(names));
    if (!values) co_return forget();
    auto results = co_await session_->browse(std::move(ways));
    if (!results) co_return forget();
    for (std::size_t i = 0; i < std::min({asked.size(), values->size(), results->size()}); ++i) {
      Place& place = places_[asked[i].nodeId];
      if (const auto* name = (*values)[i].value.get<QualifiedName>()) place.name = name->name.str();
      place.above = aboveOf((*results)[i]);
      nodes.push_back(place.above);
    }
  }
}

std::string NodePlaces::pathOf(const NodeId& node) const {
  std::string path;
  NodeId at = node;
  for (int level = 0; level < kMostLevels && !at.is(id::ObjectsFolder); ++level) {
    const auto place = places_.find(at);
    if (place == places_.end() || place->second.above.isNull()) return node.text();
    path = place->second.name + (path.empty() ? "" : "/" + path);
    at = place->second.above;
  }
  return at.is(id::ObjectsFolder) ? path : node.text();
}

}  // namespace zunth::client
