#pragma once

#include "core/space/space.hpp"

/// Attributes beside Value that clients may change while the server runs (Part 3, 5.2.7): texts and permissions of a
/// model's nodes. The standard's nodes and the server's own are as they are.
namespace zunth::space {

/// The WriteMask attribute: bits of AttributeWriteMask.
std::uint32_t writeMask(const Space& space, NodeIndex node);
/// The UserWriteMask attribute: what of it a session has the permissions for.
std::uint32_t writeMask(const Space& space, NodeIndex node, const Rights& rights);

/// The bit of PermissionType that writing an attribute takes (Part 3, 8.55).
std::uint32_t permissionToWrite(ua::AttributeId attribute);

/// Writes one of the attributes of writeMask(). A text with a locale takes the place of the one in that language, an
/// empty one takes it away. BadAttributeIdInvalid for what isn't there, BadNotWritable, BadTypeMismatch,
/// BadWriteNotSupported (status, times, ranges), BadOutOfRange (a role that this server doesn't have).
ua::Result<void> writeAttribute(Space& space, NodeIndex node, const ua::WriteValue& write);

}  // namespace zunth::space
