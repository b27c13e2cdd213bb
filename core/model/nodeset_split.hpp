#pragma once

#include <optional>
#include <string_view>
#include <vector>

namespace zunth::model {

/// A NodeSet2 file in pieces that are sound XML each: large files are read piece by piece, so that what is read stays
/// in the processor's caches, and a document of the whole is never needed.
struct NodeSetPieces {
  std::string_view head;                 // up to the first node, without the root's end
  std::vector<std::string_view> pieces;  // whole elements of nodes, some tens of thousand octets each
};

/// Nothing for a file that is better read as a whole: small, unsound, with a DOCTYPE, or with other elements among the
/// nodes.
std::optional<NodeSetPieces> splitNodeSet(std::string_view text);

}  // namespace zunth::model
