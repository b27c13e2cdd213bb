#include "core/space/attribute_writing.hpp"

#include "core/space/attributes.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::space {

using namespace ua;

namespace {

struct Writable {
  AttributeId attribute;
  std::uint32_t bit;         // of AttributeWriteMask
  std::uint32_t permission;  // of PermissionType
};
constexpr Writable kWritable[] = {
    {AttributeId::DisplayName, AttributeWriteMask::DisplayName, PermissionType::WriteAttribute},
    {AttributeId::Description, AttributeWriteMask::Description, PermissionType::WriteAttribute},
    {AttributeId::RolePermissions, AttributeWriteMask::RolePermissions, PermissionType::WriteRolePermissions},
    {AttributeId::AccessRestrictions, AttributeWriteMask::AccessRestrictions, PermissionType::WriteRolePermissions},
};
constexpr std::uint16_t kFirstModel = 2;  // namespaces 0 and 1 are the standard's and the server's own

const Writable* writableOf(AttributeId attribute) {
  const auto* found = std::ranges::find(kWritable, attribute, &Writable::attribute);
  return found == std::end(kWritable) ? nullptr : found;
}

/// The texts there are with this one in its place.
Result<std::vector<LocalizedText>> withText(std::vector<LocalizedText> texts, const Variant& value) {
  const auto* text = value.get<LocalizedText>();
  if (!text) return Error{status::BadTypeMismatch, fmt::format("a LocalizedText, not {}", nameOf(value.type())), {}};
  if (text->locale.empty()) return std::vector{*text};
  // The text without a language was everybody's; now it is one among others.
  if (texts.size() == 1 && texts.front().text.empty()) texts.clear();
  const auto same = std::ranges::find(texts, text->locale, &LocalizedText::locale);
  if (same == texts.end())
    texts.push_back(*text);
  else
    *same = *text;
  if (texts.size() > 1) std::erase_if(texts, [](const auto& each) { return each.text.empty(); });
  return texts;
}

Result<PermissionSet> withRoles(const Space& space, PermissionSet set, const Variant& value) {
  const Error mismatch{status::BadTypeMismatch, "an array of RolePermissionType is needed", {}};
  if (!value.isArray() || value.type() != BuiltInType::ExtensionObject) return mismatch;
  set.roles.clear();
  for (const auto& object : value.items<ExtensionObject>()) {
    auto role = object.as<RolePermissionType>();
    if (!role) return mismatch;
    const NodeIndex node = space.find(role->roleId);
    if (node == kNoNode || space.typeDefinition(node) != space.at(id::RoleType))
      return Error{status::BadOutOfRange, fmt::format("{} is no role of this server", role->roleId.text()), {}};
    set.roles.push_back(std::move(*role));
  }
  return set;
}

}  // namespace

std::uint32_t writeMask(const Space& space, NodeIndex node) {
  std::uint32_t mask = 0;
  if (space.nodeId(node).namespaceIndex() < kFirstModel) return mask;
  for (const auto& each : kWritable) mask |= each.bit;
  return mask;
}

std::uint32_t writeMask(const Space& space, NodeIndex node, const Rights& rights) {
  std::uint32_t mask = writeMask(space, node);
  for (const auto& each : kWritable)
    if (!space.check(rights, node, each.permission).isGood()) mask &= ~each.bit;
  return mask;
}

std::uint32_t permissionToWrite(AttributeId attribute) {
  if (attribute == AttributeId::Value) return PermissionType::Write;
  if (attribute == AttributeId::Historizing) return PermissionType::WriteHistorizing;
  const auto* known = writableOf(attribute);
  return known ? known->permission : PermissionType::WriteAttribute;
}

Result<void> writeAttribute(Space& space, NodeIndex node, const WriteValue& write) {
  const auto attribute = static_cast<AttributeId>(write.attributeId);
  const std::string path = space.path(node);
  if (readAttribute(space, node, attribute).status == status::BadAttributeIdInvalid)
    return Error{status::BadAttributeIdInvalid, fmt::format("{} has no attribute {}", path, write.attributeId), {}};
  const auto* known = writableOf(attribute);
  if (!known || !(writeMask(space, node) & known->bit))
    return Error{
        status::BadNotWritable, fmt::format("attribute {} of {} can't be written", write.attributeId, path), {}};
  if (!write.indexRange.empty() || write.value.status.value != 0 || !write.value.sourceTimestamp.isNull() ||
      !write.value.serverTimestamp.isNull())
    return Error{status::BadWriteNotSupported, "an attribute is written whole, without a status or time", {}};
  const Variant& value = write.value.value;
  const auto* rare = space.rare(node);
  PermissionSet permissions = space.permissionSets()[space.permissionSet(node)];
  switch (attribute) {
    case AttributeId::DisplayName:
    case AttributeId::Description: {
      const bool isName = attribute == AttributeId::DisplayName;
      std::vector<LocalizedText> there;
      if (rare) there = isName ? rare->displayNames : rare->descriptions;
      if (there.empty()) there = {isName ? space.displayName(node) : space.description(node)};
      auto texts = withText(std::move(there), value);
      if (!texts) return texts.error();
      isName ? space.setDisplayNames(node, std::move(*texts)) : space.setDescriptions(node, std::move(*texts));
      return {};
    }
    case AttributeId::RolePermissions: {
      auto set = withRoles(space, std::move(permissions), value);
      if (!set) return set.error();
      space.setPermissions(node, std::move(*set));
      return {};
    }
    default: {
      const auto* restrictions = value.get<std::uint16_t>();
      if (!restrictions) return Error{status::BadTypeMismatch, "access restrictions are a UInt16", {}};
      permissions.restrictions = *restrictions;
      space.setPermissions(node, std::move(permissions));
      return {};
    }
  }
}

}  // namespace zunth::space
