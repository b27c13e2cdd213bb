#pragma once

#include "core/space/space.hpp"

/// The NodeManagement services' work on the space (Part 4, 5.7), without sessions: who may is decided above.
namespace zunth::space {

/// The node that is meant, by whichever way its namespace is named; kNoNode for one of another server.
NodeIndex local(const Space& space, const ua::ExpandedNodeId& id);

/// Whether a node is what the server keeps for itself: the Server object and all below it. Clients don't change that.
bool isServersOwn(const Space& space, NodeIndex node);

/// Adds a node with its reference from the parent, and for objects and variables the mandatory children of their type.
/// An id is made when none is asked for. BadParentNodeIdInvalid, BadReferenceTypeIdInvalid, BadReferenceNotAllowed,
/// BadNodeIdRejected, BadNodeIdExists, BadNodeClassInvalid, BadBrowseNameInvalid, BadBrowseNameDuplicated,
/// BadNodeAttributesInvalid, BadTypeDefinitionInvalid, BadServerIndexInvalid; BadResourceUnavailable when it would be
/// more than `most` nodes, and then none is left.
ua::Result<NodeIndex> addNode(Space& space, const ua::AddNodesItem& item, std::size_t most = SIZE_MAX);

/// BadNodeIdUnknown, BadNoDeleteRights (nodes of namespace 0). Takes what is below it by aggregation along, as it could
/// not be reached any more. `removed` gets every node that goes, told before it goes.
ua::Result<void> deleteNode(Space& space, const ua::DeleteNodesItem& item,
                            const std::function<void(NodeIndex)>& removed);

/// BadSourceNodeIdInvalid, BadReferenceTypeIdInvalid, BadTargetNodeIdInvalid, BadServerUriInvalid (another server),
/// BadReferenceLocalOnly, BadNodeClassInvalid, BadDuplicateReferenceNotAllowed, BadInvalidSelfReference,
/// BadReferenceNotAllowed.
ua::Result<void> addReference(Space& space, const ua::AddReferencesItem& item);

/// BadSourceNodeIdInvalid, BadReferenceTypeIdInvalid, BadTargetNodeIdInvalid, BadServerIndexInvalid, BadNotFound,
/// BadReferenceNotAllowed (a node would lose its type definition, or its last parent).
ua::Result<void> deleteReference(Space& space, const ua::DeleteReferencesItem& item);

}  // namespace zunth::space
