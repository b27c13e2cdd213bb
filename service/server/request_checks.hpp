#pragma once

#include "core/space/attributes.hpp"
#include "core/ua/data_encoding.hpp"

/// What several services check alike in a request.
namespace zunth::server {

inline bool isValid(ua::TimestampsToReturn t) {
  return t >= ua::TimestampsToReturn::Source && t <= ua::TimestampsToReturn::Neither;
}

/// Part 4, 5.10.2.4: an encoding is asked for of a structure's value only, and must be one that is served.
/// BadDataEncodingInvalid, BadDataEncodingUnsupported.
inline ua::Result<ua::DataEncoding> checkEncoding(const space::Space& space, space::NodeIndex node,
                                                  const ua::ReadValueId& what) {
  if (what.dataEncoding.name.empty()) return ua::DataEncoding::Binary;
  if (what.attributeId != static_cast<std::uint32_t>(ua::AttributeId::Value) ||
      space.nodeClass(node) != ua::NodeClass::Variable || !space::holdsStructures(space, node))
    return ua::status::BadDataEncodingInvalid;
  const auto encoding = ua::dataEncodingNamed(what.dataEncoding);
  if (!encoding) return ua::status::BadDataEncodingUnsupported;
  return *encoding;
}

/// What it takes to watch an attribute (Part 3, 8.55).
inline std::uint32_t permissionToWatch(ua::AttributeId attribute) {
  switch (attribute) {
    case ua::AttributeId::Value: return ua::PermissionType::Read;
    case ua::AttributeId::EventNotifier: return ua::PermissionType::ReceiveEvents;
    case ua::AttributeId::RolePermissions: return ua::PermissionType::ReadRolePermissions;
    default: return ua::PermissionType::Browse;
  }
}

}  // namespace zunth::server
