#pragma once

#include "core/space/space.hpp"

/// The View services' work on the space (Part 4, 5.8).
namespace zunth::space {

/// Some of a node's references, as a BrowseDescription asks for them.
struct BrowsePage {
  ua::StatusCode status;
  ua::List<ua::ReferenceDescription> references;
  std::optional<std::uint32_t> next;  // where to go on; nothing when all were given
};

/// Up to `most` references (0 for all) from position `from` of the node's references on. BadNodeIdUnknown,
/// BadNodeIdInvalid, BadReferenceTypeIdInvalid, BadBrowseDirectionInvalid.
BrowsePage browse(const Space& space, const ua::BrowseDescription& what, std::uint32_t most, std::uint32_t from = 0);

/// Follows a path of browse names (Part 4, 5.8.4). BadNothingToDo for an empty path, BadBrowseNameInvalid, BadNoMatch
/// and so on, in the result.
ua::BrowsePathResult translate(const Space& space, const ua::BrowsePath& path);

}  // namespace zunth::space
