#include "core/space/permissions.hpp"

#include "core/ua/generated/node_ids.hpp"

#include <algorithm>
#include <limits>

namespace zunth::space {

using namespace ua;

namespace {

using P = PermissionType;
constexpr std::uint32_t kSees = P::Browse | P::Read | P::ReadHistory | P::ReceiveEvents;
constexpr std::uint32_t kOperates = kSees | P::Write | P::Call;
constexpr std::uint32_t kEngineers = kOperates | P::WriteAttribute | P::WriteHistorizing | P::InsertHistory |
                                     P::ModifyHistory | P::DeleteHistory | P::AddReference | P::RemoveReference |
                                     P::DeleteNode | P::AddNode | P::ReadRolePermissions;
constexpr std::uint32_t kGrants = kSees | P::ReadRolePermissions | P::WriteRolePermissions;

struct KnownRole {
  const char* name;
  StandardId id;
  std::uint32_t usual;
};
constexpr KnownRole kRoles[] = {
    {"Anonymous", id::WellKnownRole_Anonymous, 0},
    {"AuthenticatedUser", id::WellKnownRole_AuthenticatedUser, 0},
    {"Observer", id::WellKnownRole_Observer, kSees},
    {"Operator", id::WellKnownRole_Operator, kOperates},
    {"Supervisor", id::WellKnownRole_Supervisor, kOperates | P::ReadRolePermissions},
    {"Engineer", id::WellKnownRole_Engineer, kEngineers},
    {"ConfigureAdmin", id::WellKnownRole_ConfigureAdmin, kEngineers},
    {"SecurityAdmin", id::WellKnownRole_SecurityAdmin, kGrants},
};

}  // namespace

PermissionSetIndex PermissionSets::intern(PermissionSet set) {
  const auto found = std::ranges::find(sets_, set);
  if (found != sets_.end()) return static_cast<PermissionSetIndex>(found - sets_.begin());
  // With more sets than can be told apart, the rest grant nothing.
  if (sets_.size() > std::numeric_limits<PermissionSetIndex>::max()) return 0;
  sets_.push_back(std::move(set));
  return static_cast<PermissionSetIndex>(sets_.size() - 1);
}

const Rights& Rights::all() {
  static const Rights rights = [] {
    Rights made;
    made.all_ = true;
    return made;
  }();
  return rights;
}

Rights::Rights(std::vector<NodeId> roles, MessageSecurityMode mode, bool isEncryptedBelow)
    : roles_(std::move(roles)),
      signs_(isEncryptedBelow || mode == MessageSecurityMode::Sign || mode == MessageSecurityMode::SignAndEncrypt),
      encrypts_(isEncryptedBelow || mode == MessageSecurityMode::SignAndEncrypt) {}

bool Rights::hasRole(const NodeId& role) const { return all_ || std::ranges::find(roles_, role) != roles_.end(); }

std::uint32_t Rights::granted(const PermissionSet& set) const {
  std::uint32_t bits = 0;
  for (const auto& role : set.roles)
    if (std::ranges::find(roles_, role.roleId) != roles_.end()) bits |= role.permissions;
  return bits;
}

bool Rights::satisfies(std::uint16_t restrictions) const {
  return (signs_ || !(restrictions & AccessRestrictionType::SigningRequired)) &&
         (encrypts_ || !(restrictions & AccessRestrictionType::EncryptionRequired));
}

void Rights::extend(const PermissionSets& sets) const {
  for (std::size_t i = bits_.size(); i < sets.size(); ++i) {
    const auto& set = sets[static_cast<PermissionSetIndex>(i)];
    std::uint32_t bits = granted(set);
    // Part 3, 5.2.11: a restricted node is still seen unless it says otherwise.
    if (!satisfies(set.restrictions))
      bits &= set.restrictions & AccessRestrictionType::ApplyRestrictionsToBrowse ? 0 : P::Browse;
    bits_.push_back(bits);
  }
}

StatusCode Rights::refusal(const PermissionSets& sets, PermissionSetIndex set, std::uint32_t permission) const {
  const bool isGranted = (granted(sets[set]) & permission) == permission;
  return isGranted ? status::BadSecurityModeInsufficient : status::BadUserAccessDenied;
}

PermissionSet usualPermissions() {
  PermissionSet set;
  for (const auto& role : kRoles)
    if (role.usual) set.roles.push_back({NodeId(role.id), role.usual});
  return set;
}

PermissionSet standardPermissions() {
  constexpr std::uint32_t everyone = P::Browse | P::Read | P::ReceiveEvents | P::Call;
  PermissionSet set = usualPermissions();
  set.roles.push_back({NodeId(id::WellKnownRole_Anonymous), everyone});
  set.roles.push_back({NodeId(id::WellKnownRole_AuthenticatedUser), everyone});
  return set;
}

PermissionSet auditPermissions() {
  PermissionSet set = standardPermissions();
  for (auto& role : set.roles) {
    const bool hears = role.roleId.is(id::WellKnownRole_Engineer) || role.roleId.is(id::WellKnownRole_ConfigureAdmin) ||
                       role.roleId.is(id::WellKnownRole_SecurityAdmin);
    if (!hears) role.permissions &= ~P::ReceiveEvents;
  }
  return set;
}

PermissionSet administrators() {
  constexpr std::uint32_t sees = P::Browse | P::Read;
  PermissionSet set;
  for (const auto role :
       {id::WellKnownRole_Engineer, id::WellKnownRole_ConfigureAdmin, id::WellKnownRole_SecurityAdmin})
    set.roles.push_back({NodeId(role), sees});
  return set;
}

PermissionSet securityAdministrators() {
  PermissionSet set = administrators();
  for (auto& role : set.roles)
    if (role.roleId.is(id::WellKnownRole_SecurityAdmin)) role.permissions |= P::Call | P::Write;
  set.restrictions = AccessRestrictionType::EncryptionRequired;
  return set;
}

std::optional<StandardId> roleNamed(std::string_view name) {
  for (const auto& role : kRoles)
    if (role.name == name) return role.id;
  return std::nullopt;
}

const std::vector<std::string>& roleNames() {
  static const std::vector<std::string> names = [] {
    std::vector<std::string> out;
    for (const auto& role : kRoles)
      if (role.usual) out.emplace_back(role.name);
    return out;
  }();
  return names;
}

}  // namespace zunth::space
