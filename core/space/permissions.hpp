#pragma once

#include "core/space/node_index.hpp"
#include "core/ua/generated/structures.hpp"

#include <optional>
#include <string>
#include <vector>

/// Who may do what with a node (Part 3, 4.9; Part 18): role permissions and access restrictions.
namespace zunth::space {

/// What a node grants. Many nodes share one set.
struct PermissionSet {
  /// By role; a role that isn't listed may do nothing.
  std::vector<ua::RolePermissionType> roles;
  std::uint16_t restrictions = 0;  // bits of AccessRestrictionType
  bool operator==(const PermissionSet&) const = default;
};

using PermissionSetIndex = std::uint16_t;

/// The permission sets in use, each once. Set 0 is empty: what nobody thought of, nobody may.
class PermissionSets {
 public:
  PermissionSets() : sets_(1) {}
  PermissionSetIndex intern(PermissionSet set);
  const PermissionSet& operator[](PermissionSetIndex index) const { return sets_[index]; }
  std::size_t size() const { return sets_.size(); }

 private:
  std::vector<PermissionSet> sets_;
};

/// How one session meets the space: what it may do, worked out once for each set so that a check is a table lookup and
/// a comparison, and the languages that it reads.
class Rights {
 public:
  /// May everything: for what the service does by itself.
  static const Rights& all();
  /// May nothing.
  Rights() = default;
  Rights(std::vector<ua::NodeId> roles, ua::MessageSecurityMode mode, bool isEncryptedBelow);

  const std::vector<ua::NodeId>& roles() const { return roles_; }
  /// The languages that the session reads, the one it likes best first.
  const std::vector<ua::String>& locales() const { return locales_; }
  void setLocales(std::vector<ua::String> locales) { locales_ = std::move(locales); }
  bool hasRole(const ua::NodeId& role) const;
  /// The PermissionType bits for nodes of this set.
  std::uint32_t of(const PermissionSets& sets, PermissionSetIndex set) const {
    if (all_) return ~0u;
    if (set >= bits_.size()) extend(sets);
    return bits_[set];
  }
  /// Good; BadSecurityModeInsufficient when only the channel is too weak for it, BadUserAccessDenied otherwise.
  ua::StatusCode check(const PermissionSets& sets, PermissionSetIndex set, std::uint32_t permission) const {
    return (of(sets, set) & permission) == permission ? ua::status::Good : refusal(sets, set, permission);
  }

 private:
  std::uint32_t granted(const PermissionSet& set) const;
  bool satisfies(std::uint16_t restrictions) const;
  void extend(const PermissionSets& sets) const;
  ua::StatusCode refusal(const PermissionSets& sets, PermissionSetIndex set, std::uint32_t permission) const;

  std::vector<ua::NodeId> roles_;
  std::vector<ua::String> locales_;
  bool all_ = false, signs_ = false, encrypts_ = false;
  mutable std::vector<std::uint32_t> bits_;  // by set
};

/// What the well-known roles may do where a model says nothing else (Part 18, 4.3): observers see, operators operate,
/// engineers change the model, security administrators grant.
PermissionSet usualPermissions();
/// What everyone may do with the standard's own nodes: see and read them, and call what the Server object offers.
PermissionSet standardPermissions();

/// The same for the types of audit events: who did what is heard by engineers and administrators only.
PermissionSet auditPermissions();
/// For what only engineers and administrators may see.
PermissionSet administrators();
/// What security administrators call and write over encrypted channels, and others see that it is there.
PermissionSet securityAdministrators();

/// The well-known role of this name ("Operator"), or nothing.
std::optional<ua::StandardId> roleNamed(std::string_view name);
/// Names of the roles that a site can give, the weakest first.
const std::vector<std::string>& roleNames();

}  // namespace zunth::space
