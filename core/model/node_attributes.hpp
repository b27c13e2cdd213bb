#pragma once

#include "core/model/difference.hpp"
#include "core/model/twins.hpp"

namespace zunth::model {

/// A node as it is and its twin as it shall be.
struct Pair {
  const space::Space& is;
  space::NodeIndex node;
  const space::Space& wanted;
  space::NodeIndex twin;
  const Twins& twins;  // from the nodes of `wanted` to those of `is`
  const space::RareAttributes& rareIs;
  const space::RareAttributes& rareWanted;
  bool isOwned = false;  // somebody else brings the values of `node`
};

/// Something that a node says of itself beside its references. Comparing and applying both walk the same list of these,
/// so that nothing changes that was not told before.
struct NodeAttribute {
  enum class Kind { Fact, Permissions, InitialValue };

  const char* name;  // for people: "display name"
  Kind kind;
  std::uint32_t classes;  // bits of NodeClass: the nodes that have it
  Change::Effect (*effect)(const Pair&);
  bool (*isSame)(const Pair&);
  std::string (*text)(const space::Space&, space::NodeIndex);
  /// Makes it in `to`, which is the space `is`, as it is wanted; nullptr for what the plant decides.
  void (*take)(const Pair&, space::Space& to);
};

/// Those that nodes of a class have.
std::span<const NodeAttribute* const> attributesOf(ua::NodeClass nodeClass);

}  // namespace zunth::model
