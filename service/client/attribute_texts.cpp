#include "service/client/attribute_texts.hpp"

#include "core/ua/text.hpp"

#include <map>

#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

namespace {

constexpr std::pair<AttributeId, const char*> kAttributes[] = {
    {AttributeId::NodeId, "NodeId"},
    {AttributeId::NodeClass, "NodeClass"},
    {AttributeId::BrowseName, "BrowseName"},
    {AttributeId::DisplayName, "DisplayName"},
    {AttributeId::Description, "Description"},
    {AttributeId::Value, "Value"},
    {AttributeId::DataType, "DataType"},
    {AttributeId::ValueRank, "ValueRank"},
    {AttributeId::ArrayDimensions, "ArrayDimensions"},
    {AttributeId::AccessLevel, "AccessLevel"},
    {AttributeId::UserAccessLevel, "UserAccessLevel"},
    {AttributeId::MinimumSamplingInterval, "MinimumSamplingInterval"},
    {AttributeId::Historizing, "Historizing"},
    {AttributeId::EventNotifier, "EventNotifier"},
    {AttributeId::Executable, "Executable"},
    {AttributeId::UserExecutable, "UserExecutable"},
    {AttributeId::IsAbstract, "IsAbstract"},
    {AttributeId::Symmetric, "Symmetric"},
    {AttributeId::InverseName, "InverseName"},
    {AttributeId::DataTypeDefinition, "DataTypeDefinition"},
    {AttributeId::WriteMask, "WriteMask"},
    {AttributeId::UserWriteMask, "UserWriteMask"},
    {AttributeId::AccessRestrictions, "AccessRestrictions"},
};

/// What the bits of a mask mean, from the lowest (Part 3, 5.2.7, 5.4, 5.6.2, 8.56); nothing for an attribute that is
/// none.
std::span<const std::string_view> bitsOf(AttributeId attribute) {
  static constexpr std::string_view kAccess[] = {
      "read", "write", "history read", "history write", "semantic change", "status write", "timestamp write"};
  static constexpr std::string_view kEvents[] = {"events are heard here", "", "history read", "history write"};
  static constexpr std::string_view kRestrictions[] = {"signing required", "encryption required", "session required",
                                                       "for browsing, too"};
  static constexpr std::string_view kWriteMask[] = {"AccessLevel",
                                                    "ArrayDimensions",
                                                    "BrowseName",
                                                    "ContainsNoLoops",
                                                    "DataType",
                                                    "Description",
                                                    "DisplayName",
                                                    "EventNotifier",
                                                    "Executable",
                                                    "Historizing",
                                                    "InverseName",
                                                    "IsAbstract",
                                                    "MinimumSamplingInterval",
                                                    "NodeClass",
                                                    "NodeId",
                                                    "Symmetric",
                                                    "UserAccessLevel",
                                                    "UserExecutable",
                                                    "UserWriteMask",
                                                    "ValueRank",
                                                    "WriteMask",
                                                    "Value",
                                                    "DataTypeDefinition",
                                                    "RolePermissions",
                                                    "AccessRestrictions",
                                                    "AccessLevelEx"};
  switch (attribute) {
    case AttributeId::AccessLevel:
    case AttributeId::UserAccessLevel: return kAccess;
    case AttributeId::EventNotifier: return kEvents;
    case AttributeId::AccessRestrictions: return kRestrictions;
    case AttributeId::WriteMask:
    case AttributeId::UserWriteMask: return kWriteMask;
    default: return {};
  }
}

}  // namespace

std::span<const std::pair<AttributeId, const char*>> attributeNames() { return kAttributes; }

std::string attributeText(AttributeId attribute, const Variant& value) {
  if (attribute == AttributeId::NodeClass)
    if (const auto* number = value.get<std::int32_t>()) {
      static const std::pair<NodeClass, const char*> names[] = {{NodeClass::Object, "Object"},
                                                                {NodeClass::Variable, "Variable"},
                                                                {NodeClass::Method, "Method"},
                                                                {NodeClass::ObjectType, "ObjectType"},
                                                                {NodeClass::VariableType, "VariableType"},
                                                                {NodeClass::ReferenceType, "ReferenceType"},
                                                                {NodeClass::DataType, "DataType"},
                                                                {NodeClass::View, "View"}};
      for (const auto& [nodeClass, name] : names)
        if (static_cast<std::int32_t>(nodeClass) == *number) return name;
    }
  if (attribute == AttributeId::ValueRank)
    if (const auto* rank = value.get<std::int32_t>()) {
      static const std::map<std::int32_t, const char*> names{
          {-3, "scalar or array"}, {-2, "any"}, {-1, "scalar"}, {0, "array of any rank"}, {1, "array"}};
      const auto name = names.find(*rank);
      return name == names.end() ? fmt::format("matrix of {} dimensions", *rank) : name->second;
    }
  if (const auto bits = bitsOf(attribute); !bits.empty())
    if (const auto number = convert(value, BuiltInType::UInt32)) {
      std::string out;
      for (std::size_t bit = 0; bit < bits.size(); ++bit)
        if (*number->get<std::uint32_t>() >> bit & 1) out += (out.empty() ? "" : ", ") + std::string(bits[bit]);
      return out.empty() ? "none" : out;
    }
  return format(value);
}

}  // namespace zunth::client
