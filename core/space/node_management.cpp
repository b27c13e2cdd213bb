#include "core/space/node_management.hpp"

#include "core/space/instances.hpp"
#include "core/space/node_set.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::space {

using namespace ua;

NodeIndex local(const Space& space, const ExpandedNodeId& id) {
  if (id.serverIndex != 0) return kNoNode;
  if (id.namespaceUri.empty()) return space.find(id.nodeId);
  const auto ns = space.namespaceIndex(id.namespaceUri.view());
  return ns ? space.find(id.nodeId.inNamespace(*ns)) : kNoNode;
}

bool isServersOwn(const Space& space, NodeIndex node) {
  const NodeIndex server = space.at(id::Server);
  NodeSet above;
  above.add(node);
  for (std::size_t i = 0; i < above.size(); ++i) {
    if (above[i] == server) return true;
    for (const Reference& reference : space.references(above[i]))
      if (!reference.isForward() && space.isSubtype(reference.type(), id::Aggregates)) above.add(reference.target());
  }
  return false;
}

namespace {

const char* const kServersOwn = "the server keeps the Server object and what is below it to itself";

NodeIndex referenceType(const Space& space, const NodeId& id) {
  const NodeIndex found = space.find(id);
  return found != kNoNode && space.nodeClass(found) == NodeClass::ReferenceType && !space.isAbstract(found) ? found
                                                                                                            : kNoNode;
}

bool isInstance(NodeClass c) { return c == NodeClass::Object || c == NodeClass::Variable || c == NodeClass::Method; }

/// What kinds of nodes a reference may join (Part 3, 7).
bool isAllowed(const Space& space, NodeIndex source, NodeIndex type, NodeClass target) {
  const NodeClass from = space.nodeClass(source);
  if (space.isSubtype(type, id::HasSubtype)) return isType(from) && from == target;
  if (space.isSubtype(type, id::HasProperty)) return target == NodeClass::Variable;
  if (space.isSubtype(type, id::HasComponent))
    return isInstance(target) && from != NodeClass::Method && from != NodeClass::DataType &&
           from != NodeClass::ReferenceType && !(from == NodeClass::Variable && target == NodeClass::Object);
  if (space.isSubtype(type, id::HasEventSource)) return from == NodeClass::Object;
  if (space.isSubtype(type, id::HasTypeDefinition))
    return (from == NodeClass::Object && target == NodeClass::ObjectType) ||
           (from == NodeClass::Variable && target == NodeClass::VariableType);
  return true;
}

/// What a client says about a node's attributes, as its class has them: each counts only when it is named in
/// specifiedAttributes.
template <class T, class Apply>
Result<void> takeAttributes(const ExtensionObject& given, NewNode& node, Apply apply) {
  T from;
  if (!given.isNull()) {
    if (!given.is<T>())
      return Error{status::BadNodeAttributesInvalid, "the attributes are not those of the node class", {}};
    auto read = given.as<T>();
    if (!read) return Error{status::BadNodeAttributesInvalid, read.error().cause, {}};
    from = std::move(*read);
  }
  const auto has = [&from](std::uint32_t bit) { return (from.specifiedAttributes & bit) != 0; };
  if (has(NodeAttributesMask::DisplayName)) node.displayName = from.displayName;
  if (has(NodeAttributesMask::Description)) node.description = from.description;
  if constexpr (requires { from.isAbstract; })
    if (has(NodeAttributesMask::IsAbstract)) node.isAbstract = from.isAbstract;
  return apply(from, has);
}

/// What variables and variable types have in common.
template <class T, class Has>
Result<void> takeValue(const Space& space, const T& from, const Has& has, NewNode& node) {
  using Mask = NodeAttributesMask;
  if (has(Mask::DataType)) {
    node.traits.dataType = space.find(from.dataType);
    if (node.traits.dataType == kNoNode || space.nodeClass(node.traits.dataType) != NodeClass::DataType)
      return Error{status::BadNodeAttributesInvalid, "there is no data type " + from.dataType.text(), {}};
  }
  if (has(Mask::ValueRank)) node.traits.valueRank = from.valueRank;
  if (has(Mask::ArrayDimensions)) node.arrayDimensions = from.arrayDimensions;
  if (has(Mask::Value)) node.value = from.value;
  return {};
}

Result<void> applyAttributes(const Space& space, const AddNodesItem& item, NewNode& node, NodeIndex definition) {
  using Mask = NodeAttributesMask;
  const auto& given = item.nodeAttributes;
  const auto nothingElse = [](const auto&, const auto&) { return Result<void>(); };
  switch (item.nodeClass) {
    case NodeClass::Object:
      return takeAttributes<ObjectAttributes>(given, node, [&](const auto& from, const auto& has) {
        if (has(Mask::EventNotifier)) node.eventNotifier = from.eventNotifier;
        return Result<void>();
      });
    case NodeClass::Variable:
      node.traits = space.traits(definition);
      node.traits.accessLevel = AccessLevelType::CurrentRead;
      return takeAttributes<VariableAttributes>(given, node, [&](const auto& from, const auto& has) -> Result<void> {
        if (auto fine = takeValue(space, from, has, node); !fine) return fine;
        if (has(Mask::AccessLevel)) node.traits.accessLevel = from.accessLevel;
        if (has(Mask::MinimumSamplingInterval))
          node.traits.minimumSamplingInterval = static_cast<float>(from.minimumSamplingInterval);
        if (has(Mask::Historizing)) node.traits.historizing = from.historizing;
        if (!node.value.isNull() && !space.accepts(node.traits, node.value))
          return Error{status::BadNodeAttributesInvalid, "the value is not of the variable's data type", {}};
        return {};
      });
    case NodeClass::Method:
      return takeAttributes<MethodAttributes>(given, node, [&](const auto& from, const auto& has) {
        if (has(Mask::Executable)) node.executable = from.executable;
        return Result<void>();
      });
    case NodeClass::View:
      return takeAttributes<ViewAttributes>(given, node, [&](const auto& from, const auto& has) {
        if (has(Mask::ContainsNoLoops)) node.containsNoLoops = from.containsNoLoops;
        return Result<void>();
      });
    case NodeClass::VariableType:
      return takeAttributes<VariableTypeAttributes>(
          given, node, [&](const auto& from, const auto& has) { return takeValue(space, from, has, node); });
    case NodeClass::ReferenceType:
      return takeAttributes<ReferenceTypeAttributes>(given, node, [&](const auto& from, const auto& has) {
        if (has(Mask::Symmetric)) node.isSymmetric = from.symmetric;
        if (has(Mask::InverseName)) node.inverseName = from.inverseName;
        return Result<void>();
      });
    case NodeClass::ObjectType: return takeAttributes<ObjectTypeAttributes>(given, node, nothingElse);
    case NodeClass::DataType: return takeAttributes<DataTypeAttributes>(given, node, nothingElse);
    default: return Error{status::BadNodeClassInvalid, "a node is of one class", {}};
  }
}

constexpr std::size_t kLongestId = 4'096;

/// Ids in the server's own namespace that it gives to its own nodes.
bool isReserved(const NodeId& id) {
  if (id.type() == IdentifierType::Guid) return true;
  if (id.type() != IdentifierType::String) return false;
  const auto text = id.octets().view();
  return text.starts_with("sessions/") || text.starts_with("roles/") || text.starts_with("namespaces/");
}

/// An id of its own for a new node: the parent's path with the name where that is a text and free, else a number.
NodeId freeId(const Space& space, NodeIndex parent, const QualifiedName& name) {
  const std::uint16_t ns = name.namespaceIndex == 0 ? 1 : name.namespaceIndex;
  const NodeId& above = space.nodeId(parent);
  const bool extends = above.type() == IdentifierType::String && above.namespaceIndex() == ns;
  const NodeId wanted(ns,
                      String(extends ? std::string(above.octets().view()) + "/" + name.name.str() : name.name.str()));
  if (space.find(wanted) == kNoNode) return wanted;
  // A few small numbers, then large ones that are hardly taken: many nodes of one name take no longer than few.
  constexpr std::uint32_t kSmall = 8;
  for (std::uint32_t number = 1;; number += number == kSmall ? space.rows() : 1)
    if (NodeId id(ns, String(std::string(wanted.octets().view()) + "-" + std::to_string(number)));
        space.find(id) == kNoNode)
      return id;
}

NodeIndex typeOf(const Space& space, const AddNodesItem& item) {
  if (item.nodeClass != NodeClass::Object && item.nodeClass != NodeClass::Variable) return kNoNode;
  const bool isObject = item.nodeClass == NodeClass::Object;
  const NodeIndex found = local(space, item.typeDefinition);
  const bool fits = found != kNoNode && !space.isAbstract(found) &&
                    space.nodeClass(found) == (isObject ? NodeClass::ObjectType : NodeClass::VariableType);
  return fits ? found : kNoNode;
}

bool hasOtherParent(const Space& space, NodeIndex node, NodeIndex but) {
  return std::ranges::any_of(space.references(node), [&](const Reference& r) {
    return !r.isForward() && r.target() != but && space.isSubtype(r.type(), id::HierarchicalReferences);
  });
}

/// A reference as it runs forward.
struct Ends {
  NodeIndex from, type, to;
};

/// What an item of AddReferences or DeleteReferences names: BadSourceNodeIdInvalid, BadReferenceTypeIdInvalid,
/// BadTargetNodeIdInvalid.
template <class Item>
Result<Ends> endsOf(const Space& space, const Item& item) {
  const NodeIndex source = space.find(item.sourceNodeId);
  if (source == kNoNode)
    return Error{status::BadSourceNodeIdInvalid, "there is no node " + item.sourceNodeId.text(), {}};
  const NodeIndex type = referenceType(space, item.referenceTypeId);
  if (type == kNoNode)
    return Error{status::BadReferenceTypeIdInvalid, "there is no reference type " + item.referenceTypeId.text(), {}};
  const NodeIndex target = local(space, item.targetNodeId);
  if (target == kNoNode)
    return Error{status::BadTargetNodeIdInvalid, "there is no node " + item.targetNodeId.text(), {}};
  return item.isForward ? Ends{source, type, target} : Ends{target, type, source};
}

}  // namespace

Result<NodeIndex> addNode(Space& space, const AddNodesItem& item, std::size_t most) {
  if (item.requestedNewNodeId.serverIndex != 0 || item.parentNodeId.serverIndex != 0)
    return Error{status::BadServerIndexInvalid, "nodes of other servers can't be added here", {}};
  const NodeIndex parent = local(space, item.parentNodeId);
  if (parent == kNoNode)
    return Error{status::BadParentNodeIdInvalid, "there is no parent " + item.parentNodeId.text(), {}};
  if (isServersOwn(space, parent)) return Error{status::BadUserAccessDenied, kServersOwn, {}};
  const NodeIndex reference = referenceType(space, item.referenceTypeId);
  if (reference == kNoNode)
    return Error{status::BadReferenceTypeIdInvalid, "there is no reference type " + item.referenceTypeId.text(), {}};
  const auto classBits = static_cast<std::uint32_t>(item.nodeClass);
  if (classBits == 0 || (classBits & (classBits - 1)) != 0 || classBits > 128)
    return Error{status::BadNodeClassInvalid, "a node is of one class", {}};
  if (!space.isSubtype(reference, id::HierarchicalReferences) || !isAllowed(space, parent, reference, item.nodeClass))
    return Error{status::BadReferenceNotAllowed,
                 fmt::format("{} can't lead from {} to such a node", space.browseName(reference).name.view(),
                             space.path(parent)),
                 {}};
  if (item.browseName.name.empty() || item.browseName.name.size() > 512 ||
      item.browseName.namespaceIndex >= space.namespaces().size())
    return Error{
        status::BadBrowseNameInvalid, "a browse name has 1 to 512 octets and a namespace that the server knows", {}};
  if (space.isSubtype(reference, id::HasChild) && space.child(parent, item.browseName, id::HasChild) != kNoNode)
    return Error{status::BadBrowseNameDuplicated,
                 fmt::format("{} has a child {} already", space.path(parent), item.browseName.text()),
                 {}};

  const bool needsType = item.nodeClass == NodeClass::Object || item.nodeClass == NodeClass::Variable;
  const NodeIndex definition = typeOf(space, item);
  if (needsType ? definition == kNoNode : !item.typeDefinition.nodeId.isNull())
    return Error{status::BadTypeDefinitionInvalid,
                 needsType ? "there is no such type that can have instances: " + item.typeDefinition.text()
                           : "only objects and variables have a type definition",
                 {}};

  NewNode node;
  node.nodeClass = item.nodeClass;
  node.browseName = item.browseName;
  if (auto fine = applyAttributes(space, item, node, definition); !fine) return fine.error();
  node.nodeId = item.requestedNewNodeId.nodeId;
  if (!item.requestedNewNodeId.namespaceUri.empty()) {
    const auto ns = space.namespaceIndex(item.requestedNewNodeId.namespaceUri.view());
    if (!ns) return Error{status::BadNodeIdRejected, "the server has no such namespace", {}};
    node.nodeId = node.nodeId.inNamespace(*ns);
  }
  if (node.nodeId.isNull())
    node.nodeId = freeId(space, parent, item.browseName);
  else if (node.nodeId.namespaceIndex() == 0 || node.nodeId.namespaceIndex() >= space.namespaces().size())
    return Error{status::BadNodeIdRejected, node.nodeId.text() + " is in a namespace that takes no nodes", {}};
  const bool isLong = node.nodeId.type() != IdentifierType::Numeric && node.nodeId.type() != IdentifierType::Guid &&
                      node.nodeId.octets().size() > kLongestId;
  if (isLong || (node.nodeId.namespaceIndex() == 1 && isReserved(node.nodeId)))
    return Error{status::BadNodeIdRejected, "the id is too long, or of those that the server gives itself", {}};
  if (space.find(node.nodeId) != kNoNode)
    return Error{status::BadNodeIdExists, "there is a node " + node.nodeId.text() + " already", {}};

  const bool isVariable = item.nodeClass == NodeClass::Variable;
  const Error tooMany{status::BadResourceUnavailable,
                      "clients have added as many nodes as they may, or it would be too many at once",
                      {}};
  if (most == 0) return tooMany;
  auto added = space.add(std::move(node));
  if (!added) return added.error();
  space.refer(parent, reference, *added);
  if (definition == kNoNode) return *added;
  space.refer(*added, id::HasTypeDefinition, definition);
  if (isVariable && space.value(*added).value.isNull() && space.value(*added).status.isGood() &&
      !space.value(definition).value.isNull())
    space.setValue(*added, space.value(definition));
  std::vector<NodeIndex> made{*added};
  bool isFull = false;
  instantiate(space, *added, definition, [&](NodeIndex above, NewNode copy) {
    isFull |= made.size() >= most;
    if (isFull) return kNoNode;
    copy.nodeId = freeId(space, above, {space.nodeId(above).namespaceIndex(), copy.browseName.name});
    auto child = space.add(std::move(copy));
    if (!child) return kNoNode;
    made.push_back(*child);
    return *child;
  });
  if (!isFull) return *added;
  for (auto one = made.rbegin(); one != made.rend(); ++one) space.remove(*one);
  return tooMany;
}

Result<void> deleteNode(Space& space, const DeleteNodesItem& item, const std::function<void(NodeIndex)>& removed) {
  const NodeIndex node = space.find(item.nodeId);
  if (node == kNoNode) return Error{status::BadNodeIdUnknown, "there is no node " + item.nodeId.text(), {}};
  if (item.nodeId.namespaceIndex() == 0)
    return Error{status::BadNoDeleteRights, "the standard's own nodes can't be deleted", {}};
  if (isServersOwn(space, node)) return Error{status::BadNoDeleteRights, kServersOwn, {}};
  // Children first found, all of them deleted after: what only this node leads to goes with it.
  NodeSet doomed;
  doomed.add(node);
  for (std::size_t i = 0; i < doomed.size(); ++i)
    for (const Reference& reference : space.references(doomed[i]))
      if (reference.isForward() && space.isSubtype(reference.type(), id::Aggregates) &&
          !hasOtherParent(space, reference.target(), doomed[i]) &&
          space.nodeId(reference.target()).namespaceIndex() != 0)
        doomed.add(reference.target());
  for (const NodeIndex one : doomed) removed(one);
  for (const NodeIndex one : doomed) space.remove(one);
  return {};
}

Result<void> addReference(Space& space, const AddReferencesItem& item) {
  if (!item.targetServerUri.empty())
    return Error{status::BadReferenceLocalOnly, "references lead to nodes of this server only", {}};
  auto ends = endsOf(space, item);
  if (!ends) return ends.error();
  const auto [from, type, to] = *ends;
  if (item.targetNodeClass != space.nodeClass(item.isForward ? to : from))
    return Error{status::BadNodeClassInvalid, "the target is of another node class", {}};
  if (isServersOwn(space, from) || isServersOwn(space, to)) return Error{status::BadUserAccessDenied, kServersOwn, {}};
  if (from == to) return Error{status::BadInvalidSelfReference, "a node can't refer to itself", {}};
  if (std::ranges::count(space.references(from), Reference(type, true, to)) > 0)
    return Error{status::BadDuplicateReferenceNotAllowed, "the reference is there already", {}};
  const bool hasTypeAlready = space.isSubtype(type, id::HasTypeDefinition) && space.typeDefinition(from) != kNoNode;
  const bool hasSupertypeAlready = space.isSubtype(type, id::HasSubtype) && space.supertype(to) != kNoNode;
  const bool isCircle = space.isSubtype(type, id::HasSubtype) && space.isSubtype(from, to);
  if (hasTypeAlready || hasSupertypeAlready || isCircle || !isAllowed(space, from, type, space.nodeClass(to)))
    return Error{status::BadReferenceNotAllowed,
                 fmt::format("{} can't lead from {} to {}", space.browseName(type).name.view(), space.path(from),
                             space.path(to)),
                 {}};
  space.refer(from, type, to);
  return {};
}

Result<void> deleteReference(Space& space, const DeleteReferencesItem& item) {
  if (item.targetNodeId.serverIndex != 0)
    return Error{status::BadServerIndexInvalid, "references lead to nodes of this server only", {}};
  auto ends = endsOf(space, item);
  if (!ends) return ends.error();
  const auto [from, type, to] = *ends;
  if (std::ranges::count(space.references(from), Reference(type, true, to)) == 0)
    return Error{status::BadNotFound, "there is no such reference", {}};
  if (space.nodeId(from).namespaceIndex() == 0 && space.nodeId(to).namespaceIndex() == 0)
    return Error{status::BadNoDeleteRights, "the standard's own references can't be deleted", {}};
  if (isServersOwn(space, from) || isServersOwn(space, to)) return Error{status::BadUserAccessDenied, kServersOwn, {}};
  const bool isHierarchical = space.isSubtype(type, id::HierarchicalReferences);
  const auto parents = std::ranges::count_if(space.references(to), [&](const Reference& r) {
    return !r.isForward() && space.isSubtype(r.type(), id::HierarchicalReferences);
  });
  if (space.isSubtype(type, id::HasTypeDefinition) || (isHierarchical && parents <= 1))
    return Error{status::BadReferenceNotAllowed,
                 isHierarchical ? space.path(to) + " would lose its last parent" : space.path(from) + " needs its type",
                 isHierarchical ? "delete the node instead" : ""};
  space.unrefer(from, type, to);
  return {};
}

}  // namespace zunth::space
