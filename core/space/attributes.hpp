#pragma once

#include "core/space/space.hpp"

/// Reading and writing attributes of nodes (Part 4, 5.10), without sessions: who may is decided above.
namespace zunth::space {

/// An attribute's value. BadAttributeIdInvalid when the node's class has none; BadNotReadable for a Value that
/// can't be read.
ua::DataValue readAttribute(const Space& space, NodeIndex node, ua::AttributeId attribute);

/// The same for a session: BadNodeIdUnknown for a node that it may not see, BadUserAccessDenied or
/// BadSecurityModeInsufficient for what it may not read; UserAccessLevel and the like as they are for it.
ua::DataValue readAttribute(const Space& space, NodeIndex node, ua::AttributeId attribute, const Rights& rights);

/// Checks a write of a variable's Value and gives what the whole would become, an index range applied; status and time
/// are the client's where the access level allows that, else Good and null. BadAttributeIdInvalid, BadNotWritable,
/// BadWriteNotSupported (status or times, or a part of what is written as a whole only), BadTypeMismatch, BadOutOfRange
/// (beyond the variable's InstrumentRange, or else its EURange), BadIndexRange*.
ua::Result<ua::DataValue> checkWrite(const Space& space, NodeIndex node, const ua::WriteValue& write);

/// Whether values of this variable are structures: only these are encoded in one way or another.
bool holdsStructures(const Space& space, NodeIndex variable);

/// The variable's EURange or InstrumentRange property, when it has one with low below high.
std::optional<ua::Range> rangeProperty(const Space& space, NodeIndex variable, std::string_view name);

/// What an enumeration calls a number; nothing when the data type is none, or has no such member.
std::optional<ua::String> enumerationName(const Space& space, NodeIndex dataType, const ua::Variant& value);

/// The node at a path of browse names from Objects ("Hatchery/Intake/DF1"), whatever namespaces they are of; kNoNode.
NodeIndex nodeAt(const Space& space, std::string_view path);

/// The Argument structures of a method's InputArguments or OutputArguments; empty when it has none.
std::vector<ua::Argument> methodArguments(const Space& space, NodeIndex method, std::string_view property);

}  // namespace zunth::space
