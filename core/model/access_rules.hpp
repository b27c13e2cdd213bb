#pragma once

#include "core/model/yaml_source.hpp"
#include "core/space/permissions.hpp"

#include <map>

namespace zunth::model {

/// The roles that a site adds to the standard's, by name.
using SiteRoles = std::map<std::string, ua::NodeId>;

/// Reads `access: {Operator: read write call, Observer: read, needs: encryption}`.
space::PermissionSet readAccess(const Entry& access, const SiteRoles& siteRoles, Findings& findings);

/// The words for a role's permissions, as readAccess() takes them; nothing when no words say just that.
std::optional<std::string> accessWords(std::uint32_t permissions);

}  // namespace zunth::model
