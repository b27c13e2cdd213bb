#include "core/model/access_rules.hpp"

#include "core/model/words.hpp"
#include "core/ua/generated/structures.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace zunth::model {

using namespace ua;

namespace {

/// What the words after a role stand for.
struct AccessWord {
  const char* word;
  std::uint32_t permissions;
};
using P = PermissionType;
constexpr AccessWord kAccessWords[] = {
    {"nothing", 0},
    {"see", P::Browse},
    {"read", P::Browse | P::Read | P::ReadHistory | P::ReceiveEvents},
    {"write", P::Browse | P::Write},
    {"call", P::Browse | P::Call},
    {"change", P::Browse | P::AddNode | P::DeleteNode | P::AddReference | P::RemoveReference | P::WriteAttribute},
    {"grant", P::Browse | P::ReadRolePermissions | P::WriteRolePermissions},
};

class AccessReader {
 public:
  AccessReader(const SiteRoles& siteRoles, Findings& findings) : siteRoles_(siteRoles), findings_(findings) {}

  space::PermissionSet read(const Entry& access) {
    space::PermissionSet set;
    if (!access.isMapping)
      findings_.error(access.key.place, "access lists roles", "as in: access: {Operator: read write}");
    for (const Entry& line : access.entries) {
      if (!line.value) {
        findings_.error(line.key.place, fmt::format("'{}' is followed by words", line.key.text),
                        "as in: Operator: read write");
        continue;
      }
      if (line.key.text == "needs") {
        set.restrictions |= restrictionNamed(*line.value);
        continue;
      }
      const auto role = roleNamed(line.key);
      if (role) set.roles.push_back({*role, permissionsNamed(*line.value)});
    }
    return set;
  }

 private:
  std::optional<NodeId> roleNamed(const Text& name) {
    if (const auto known = space::roleNamed(name.text)) return NodeId(*known);
    if (const auto own = siteRoles_.find(name.text); own != siteRoles_.end()) return own->second;
    std::vector<std::string> names = space::roleNames();
    for (const auto& [own, id] : siteRoles_) names.push_back(own);
    const std::string near = nearest(name.text, names);
    findings_.error(
        name.place, fmt::format("there is no role '{}'", name.text),
        near.empty() ? fmt::format("there are {}", fmt::join(names, ", ")) : fmt::format("did you mean '{}'?", near));
    return std::nullopt;
  }

  std::uint16_t restrictionNamed(const Text& word) {
    if (word.text == "signing") return AccessRestrictionType::SigningRequired;
    if (word.text == "encryption") return AccessRestrictionType::EncryptionRequired;
    findings_.error(word.place, fmt::format("'{}' is nothing that a node can need", word.text),
                    "write signing or encryption");
    return 0;
  }

  std::uint32_t permissionsNamed(const Text& words) {
    std::uint32_t permissions = 0;
    for (const Text& word : splitWords(words)) {
      const auto* known = std::ranges::find(kAccessWords, word.text, &AccessWord::word);
      if (known == std::end(kAccessWords))
        findings_.error(word.place, fmt::format("'{}' is nothing that a role may do", word.text),
                        "write nothing, see, read, write, call, change or grant");
      else
        permissions |= known->permissions;
    }
    return permissions;
  }

  const SiteRoles& siteRoles_;
  Findings& findings_;
};

}  // namespace

space::PermissionSet readAccess(const Entry& access, const SiteRoles& siteRoles, Findings& findings) {
  return AccessReader(siteRoles, findings).read(access);
}

std::optional<std::string> accessWords(std::uint32_t permissions) {
  if (permissions == 0) return "nothing";
  std::string words;
  std::uint32_t said = 0;
  for (const auto& each : kAccessWords)
    if (each.permissions && (each.permissions & permissions) == each.permissions && (each.permissions & ~said)) {
      if (each.permissions == P::Browse && permissions != P::Browse) continue;
      words += (words.empty() ? "" : " ") + std::string(each.word);
      said |= each.permissions;
    }
  return said == permissions ? std::optional(words) : std::nullopt;
}

}  // namespace zunth::model
