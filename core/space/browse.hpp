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

/// How much one page may hold, and how long it may be looked for.
struct BrowseBounds {
  std::uint32_t references = 0;   // 0 for any number
  std::size_t octets = SIZE_MAX;  // of the descriptions, about
  std::size_t steps = SIZE_MAX;   // references that are looked at, also of those that don't fit the description
};

/// References within these bounds from position `from` of the node's references on, inside a view when there is one.
/// BadNodeIdUnknown, BadNodeIdInvalid, BadReferenceTypeIdInvalid, BadBrowseDirectionInvalid, BadNodeNotInView.
BrowsePage browse(const Space& space, const ua::BrowseDescription& what, const BrowseBounds& bounds,
                  std::uint32_t from = 0, NodeIndex view = kNoNode, const Rights& rights = Rights::all());
inline BrowsePage browse(const Space& space, const ua::BrowseDescription& what, std::uint32_t most,
                         std::uint32_t from = 0, NodeIndex view = kNoNode, const Rights& rights = Rights::all()) {
  return browse(space, what, BrowseBounds{most}, from, view, rights);
}

/// Whether a view shows a node: the View node leads to it by hierarchical references.
bool isInView(const Space& space, NodeIndex node, NodeIndex view);

}  // namespace zunth::space
