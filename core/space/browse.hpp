#pragma once

#include "core/space/space.hpp"

/// The View services' work on the space (Part 4, 5.8).
namespace zunth::space {

/// Some of a node's references, as a BrowseDescription asks for them. Nodes that a session may not see are not there.
struct BrowsePage {
  ua::StatusCode status;
  ua::List<ua::ReferenceDescription> references;
  std::optional<std::uint32_t> next;  // where to go on; nothing when all were given
};

/// Up to `most` references (0 for all) from position `from` of the node's references on, inside a view when there is
/// one. BadNodeIdUnknown, BadNodeIdInvalid, BadReferenceTypeIdInvalid, BadBrowseDirectionInvalid, BadNodeNotInView.
BrowsePage browse(const Space& space, const ua::BrowseDescription& what, std::uint32_t most, std::uint32_t from = 0,
                  NodeIndex view = kNoNode, const Rights& rights = Rights::all());

/// Follows a path of browse names (Part 4, 5.8.4). BadNothingToDo for an empty path, BadBrowseNameInvalid, BadNoMatch
/// and so on, in the result.
ua::BrowsePathResult translate(const Space& space, const ua::BrowsePath& path, const Rights& rights = Rights::all());

/// Whether a view shows a node: the View node leads to it by hierarchical references.
bool isInView(const Space& space, NodeIndex node, NodeIndex view);

}  // namespace zunth::space
