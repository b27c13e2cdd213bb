#include "service/client/model_reader.hpp"

#include "core/space/namespace0.hpp"
#include "core/ua/structure_codec.hpp"

#include <algorithm>
#include <unordered_set>

#include <fmt/format.h>

namespace zunth::client {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

constexpr std::size_t kBatch = 500;  // nodes in one request

struct Link {
  NodeId source, type, target;
};

/// One walk: what is known so far.
struct Walk {
  std::unique_ptr<Space> space;
  std::unordered_set<NodeId> seen;
  std::vector<NodeId> level;
  std::vector<ReferenceDescription> found;  // of the models' namespaces, in the order they were met
  std::vector<Link> links;
};

bool isOfModel(const NodeId& id) { return id.namespaceIndex() >= 2; }

/// Whether a walk goes on through a node: the standard's own parts below Server lead to nothing of a model, and what is
/// in the server's own namespace comes and goes.
bool leadsOn(const NodeId& id) { return id.namespaceIndex() != 1 && !id.is(id::Server); }

void takeReferences(Walk& walk, const NodeId& source, const List<ReferenceDescription>& references,
                    std::vector<NodeId>& next) {
  for (const auto& reference : references) {
    const NodeId& target = reference.nodeId.nodeId;
    if (!reference.nodeId.namespaceUri.isNull() || reference.nodeId.serverIndex) continue;  // on another server
    if (target.namespaceIndex() == 1) continue;
    if (isOfModel(source) || isOfModel(target)) walk.links.push_back({source, reference.referenceTypeId, target});
    if (!leadsOn(target) || !walk.seen.insert(target).second) continue;
    if (isOfModel(target)) walk.found.push_back(reference);
    next.push_back(target);
  }
}

Awaitable<Result<void>> browseAll(std::shared_ptr<Session> session, Walk& walk, const ModelReadOptions& options) {
  walk.level.push_back(NodeId(id::RootFolder));
  walk.seen.insert(NodeId(id::RootFolder));
  while (!walk.level.empty()) {
    std::vector<NodeId> next;
    for (std::size_t from = 0; from < walk.level.size(); from += kBatch) {
      const std::size_t to = std::min(from + kBatch, walk.level.size());
      std::vector<BrowseDescription> what;
      for (std::size_t i = from; i < to; ++i) {
        BrowseDescription one;
        one.nodeId = walk.level[i];
        one.browseDirection = BrowseDirection::Forward;
        one.referenceTypeId = NodeId(id::References);
        one.includeSubtypes = true;
        one.resultMask = 63;
        what.push_back(std::move(one));
      }
      auto results = co_await session->browse(std::move(what));
      if (!results) co_return results.error();
      for (std::size_t i = 0; i < results->size() && from + i < to; ++i)
        if (!(*results)[i].statusCode.isBad())
          takeReferences(walk, walk.level[from + i], (*results)[i].references, next);
      if (options.progress) options.progress(walk.found.size());
    }
    walk.level = std::move(next);
  }
  co_return Result<void>();
}

std::vector<AttributeId> attributesOf(NodeClass nodeClass, bool wantsValue) {
  std::vector<AttributeId> out{AttributeId::Description, AttributeId::RolePermissions, AttributeId::AccessRestrictions};
  const auto add = [&](std::initializer_list<AttributeId> more) { out.insert(out.end(), more); };
  switch (nodeClass) {
    case NodeClass::Variable:
      add({AttributeId::DataType, AttributeId::ValueRank, AttributeId::ArrayDimensions, AttributeId::AccessLevel,
           AttributeId::Historizing, AttributeId::MinimumSamplingInterval});
      break;
    case NodeClass::VariableType:
      add({AttributeId::DataType, AttributeId::ValueRank, AttributeId::ArrayDimensions, AttributeId::IsAbstract});
      break;
    case NodeClass::ObjectType: add({AttributeId::IsAbstract}); break;
    case NodeClass::DataType: add({AttributeId::IsAbstract, AttributeId::DataTypeDefinition}); break;
    case NodeClass::ReferenceType:
      add({AttributeId::IsAbstract, AttributeId::Symmetric, AttributeId::InverseName});
      break;
    case NodeClass::Object: add({AttributeId::EventNotifier}); break;
    case NodeClass::Method: add({AttributeId::Executable}); break;
    case NodeClass::View: add({AttributeId::EventNotifier, AttributeId::ContainsNoLoops}); break;
    default: break;
  }
  if (wantsValue) add({AttributeId::Value});
  return out;
}

/// A node's attributes as they come, and what can only be set when all nodes are there.
struct Incoming {
  space::NewNode node;
  NodeId dataType;
  ExtensionObject definition;
  std::optional<space::PermissionSet> permissions;
  std::optional<std::uint16_t> restrictions;
  DataValue value;
};

template <class T>
void take(const DataValue& from, T& into) {
  if (const auto* held = from.value.get<T>()) into = *held;
}

void takeAttribute(AttributeId attribute, const DataValue& value, Incoming& into) {
  if (value.status.isBad()) {
    if (attribute == AttributeId::Value) into.value = value;
    return;
  }
  auto& node = into.node;
  switch (attribute) {
    case AttributeId::Description: take(value, node.description); break;
    case AttributeId::DataType: take(value, into.dataType); break;
    case AttributeId::ValueRank: take(value, node.traits.valueRank); break;
    case AttributeId::ArrayDimensions:
      for (const auto length :
           value.value.isArray() ? value.value.items<std::uint32_t>() : std::span<const std::uint32_t>())
        node.arrayDimensions.push_back(length);
      break;
    case AttributeId::AccessLevel: {
      std::uint8_t level = 0;
      take(value, level);
      node.traits.accessLevel = level;
      break;
    }
    case AttributeId::Historizing: take(value, node.traits.historizing); break;
    case AttributeId::MinimumSamplingInterval: {
      double interval = 0;
      take(value, interval);
      node.traits.minimumSamplingInterval = static_cast<float>(interval);
      break;
    }
    case AttributeId::IsAbstract: take(value, node.isAbstract); break;
    case AttributeId::Symmetric: take(value, node.isSymmetric); break;
    case AttributeId::InverseName: take(value, node.inverseName); break;
    case AttributeId::EventNotifier: take(value, node.eventNotifier); break;
    case AttributeId::Executable: take(value, node.executable); break;
    case AttributeId::ContainsNoLoops: take(value, node.containsNoLoops); break;
    case AttributeId::DataTypeDefinition: take(value, into.definition); break;
    case AttributeId::AccessRestrictions: {
      std::uint16_t bits = 0;
      take(value, bits);
      into.restrictions = bits;
      break;
    }
    case AttributeId::RolePermissions: {
      space::PermissionSet set;
      if (value.value.type() == BuiltInType::ExtensionObject && value.value.isArray())
        for (const auto& object : value.value.items<ExtensionObject>())
          if (auto role = object.as<RolePermissionType>()) set.roles.push_back(std::move(*role));
      if (!set.roles.empty()) into.permissions = std::move(set);
      break;
    }
    case AttributeId::Value: into.value = value; break;
    default: break;
  }
}

Awaitable<Result<std::vector<Incoming>>> readNodes(std::shared_ptr<Session> session, const Walk& walk,
                                                   const ModelReadOptions& options) {
  std::vector<Incoming> nodes(walk.found.size());
  std::vector<ReadValueId> what;
  std::vector<std::pair<std::size_t, AttributeId>> order;
  for (std::size_t i = 0; i < walk.found.size(); ++i) {
    const auto& found = walk.found[i];
    nodes[i].node.nodeId = found.nodeId.nodeId;
    nodes[i].node.nodeClass = found.nodeClass;
    nodes[i].node.browseName = found.browseName;
    nodes[i].node.displayName = found.displayName;
    const bool isFact = found.nodeClass == NodeClass::VariableType || found.typeDefinition.nodeId.is(id::PropertyType);
    const bool hasValue = found.nodeClass == NodeClass::Variable || found.nodeClass == NodeClass::VariableType;
    for (const auto attribute : attributesOf(found.nodeClass, hasValue && (isFact || options.allValues))) {
      what.push_back({found.nodeId.nodeId, static_cast<std::uint32_t>(attribute), {}, {}});
      order.emplace_back(i, attribute);
    }
    const bool isLast = i + 1 == walk.found.size();
    if (what.size() < kBatch && !isLast) continue;
    auto values = co_await session->read(std::exchange(what, {}), TimestampsToReturn::Source);
    if (!values) co_return values.error();
    for (std::size_t k = 0; k < order.size() && k < values->size(); ++k)
      takeAttribute(order[k].second, (*values)[k], nodes[order[k].first]);
    order.clear();
    if (options.progress) options.progress(i + 1);
  }
  co_return nodes;
}

void fill(Space& space, std::vector<Incoming>& nodes, const std::vector<Link>& links) {
  std::vector<std::pair<NodeIndex, std::size_t>> added;
  for (std::size_t i = 0; i < nodes.size(); ++i)
    if (auto node = space.add(nodes[i].node)) added.emplace_back(*node, i);
  for (const auto& link : links) {
    const NodeIndex source = space.find(link.source), type = space.find(link.type), target = space.find(link.target);
    if (source != kNoNode && type != kNoNode && target != kNoNode) space.refer(source, type, target);
  }
  for (const auto& [node, i] : added) {
    const Incoming& from = nodes[i];
    const auto nodeClass = space.nodeClass(node);
    if (nodeClass == NodeClass::Variable || nodeClass == NodeClass::VariableType) {
      space.traits(node).dataType = space.find(from.dataType);
      space.setValue(node, from.value);
    }
    if (!from.definition.isNull()) space.rareOf(node).typeDefinition = from.definition;
    if (from.permissions) {
      auto set = *from.permissions;
      set.restrictions = from.restrictions.value_or(0);
      space.setPermissions(node, std::move(set));
    }
  }
}

/// Versions and dates, from the server's NamespaceMetadata (Part 5, 6.3.13).
Awaitable<void> readModelInfos(std::shared_ptr<Session> session, Space& space) {
  BrowseDescription what;
  what.nodeId = NodeId(id::Server_Namespaces);
  what.referenceTypeId = NodeId(id::HierarchicalReferences);
  what.includeSubtypes = true;
  what.resultMask = 63;
  auto metadata = co_await session->browse(std::move(what));
  if (!metadata) co_return;
  for (const auto& one : *metadata) {
    what = BrowseDescription();
    what.nodeId = one.nodeId.nodeId;
    what.referenceTypeId = NodeId(id::HasProperty);
    what.resultMask = 63;
    auto properties = co_await session->browse(std::move(what));
    if (!properties) continue;
    std::vector<ReadValueId> wanted;
    std::vector<std::string> names;
    for (const auto& property : *properties) {
      wanted.push_back({property.nodeId.nodeId, static_cast<std::uint32_t>(AttributeId::Value), {}, {}});
      names.push_back(property.browseName.name.str());
    }
    if (wanted.empty()) continue;
    auto values = co_await session->read(std::move(wanted));
    if (!values) continue;
    String uri;
    space::ModelInfo info;
    for (std::size_t i = 0; i < names.size(); ++i) {
      if (names[i] == "NamespaceUri") take((*values)[i], uri);
      if (names[i] == "NamespaceVersion") take((*values)[i], info.version);
      if (names[i] == "NamespacePublicationDate") take((*values)[i], info.published);
    }
    if (const auto ns = space.namespaceIndex(uri.view()); ns && *ns >= 2) space.setModelInfo(*ns, std::move(info));
  }
}

}  // namespace

Awaitable<Result<std::unique_ptr<Space>>> readModel(std::shared_ptr<Session> session, ModelReadOptions options) {
  auto uris = co_await session->namespaces();
  if (!uris) co_return uris.error();
  Walk walk;
  walk.space = std::make_unique<Space>(String(uris->size() > 1 ? (*uris)[1] : std::string("urn:unknown")));
  space::loadNamespace0(*walk.space);
  for (std::size_t i = 2; i < uris->size(); ++i)
    if (walk.space->addNamespace(String((*uris)[i])) != i)
      co_return Error{
          status::BadUnexpectedError, fmt::format("the server lists the namespace {} twice", (*uris)[i]), {}};
  auto browsed = co_await browseAll(session, walk, options);
  if (!browsed) co_return browsed.error();
  auto nodes = co_await readNodes(session, walk, options);
  if (!nodes) co_return nodes.error();
  fill(*walk.space, *nodes, walk.links);
  co_await readModelInfos(session, *walk.space);
  co_return std::move(walk.space);
}

}  // namespace zunth::client
