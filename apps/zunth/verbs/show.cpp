#include "apps/zunth/nodes.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"

#include <map>
#include <span>

#include <fmt/format.h>

namespace zunth::cli {

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

std::string words(AttributeId attribute, const Variant& value) {
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

Awaitable<int> showNode(SessionPtr session, Options options, std::string path) {
  auto node = co_await findNode(session, path);
  if (!node) co_return fail(node.error());
  std::vector<AttributeId> attributes;
  for (const auto& [attribute, name] : kAttributes) attributes.push_back(attribute);
  auto values = co_await session->readAttributes(node->nodeId, attributes);
  if (!values) co_return fail(values.error());
  BrowseDescription everything{node->nodeId, BrowseDirection::Both, NodeId(), true, 0, 63};
  auto references = co_await session->browse(everything);
  if (!references) co_return fail(references.error());
  std::vector<ReadValueId> typeNames;
  for (const auto& reference : *references)
    typeNames.push_back({reference.referenceTypeId, static_cast<std::uint32_t>(AttributeId::BrowseName), {}, {}});
  List<DataValue> names;
  if (!typeNames.empty()) {
    auto read = co_await session->read(std::move(typeNames));
    if (!read) co_return fail(read.error());
    names = std::move(*read);
  }

  std::string dataTypeName;
  if (node->nodeClass == NodeClass::Variable || node->nodeClass == NodeClass::VariableType) {
    std::vector<NodeId> one{node->nodeId};
    auto facts = co_await factsOf(session, one);
    if (!facts) co_return fail(facts.error());
    dataTypeName = facts->front().dataTypeName;
  }

  Records records({"attribute", "value"});
  Json json = Json::object();
  for (std::size_t i = 0; i < attributes.size(); ++i) {
    const auto& value = (*values)[i];
    const bool isEmpty =
        value.status.isGood() && value.value.type() != BuiltInType::String && format(value.value).empty();
    if (value.status == status::BadAttributeIdInvalid || isEmpty) continue;
    if (value.value.isNull() && attributes[i] == AttributeId::ArrayDimensions) continue;
    const bool isValue = attributes[i] == AttributeId::Value;
    const bool isDataType = attributes[i] == AttributeId::DataType;
    std::string text = value.status.isGood() ? words(attributes[i], value.value)
                                             : coloured(value.status, std::string(value.status.name()));
    if (isDataType) text = fmt::format("{}  {}", dataTypeName, dim(text));
    if (isValue && !value.sourceTimestamp.isNull())
      text += dim(fmt::format("  measured {}", localTime(value.sourceTimestamp.time())));
    records.add({dim(kAttributes[i].second), text});
    json[kAttributes[i].second] = value.status.isBad() ? Json(value.status.name()) : Json(toJson(value.value));
  }
  Json links = Json::array();
  for (std::size_t i = 0; i < references->size(); ++i) {
    const auto& reference = (*references)[i];
    const auto* type = names[i].value.get<QualifiedName>();
    const std::string typeName = type ? type->name.str() : reference.referenceTypeId.text();
    records.add({dim(fmt::format("{} {}", reference.isForward ? "→" : "←", typeName)),
                 fmt::format("{}  {}", reference.browseName.text(), dim(reference.nodeId.text()))});
    links.push_back({{"type", typeName},
                     {"forward", reference.isForward},
                     {"browseName", reference.browseName.text()},
                     {"nodeId", reference.nodeId.text()}});
  }
  json["references"] = std::move(links);
  if (isStructured(options.format))
    std::fputs(document(json, options.format).c_str(), stdout);
  else
    std::fputs(records.text(options.format, false).c_str(), stdout);
  co_return kDone;
}

}  // namespace

void addShow(Program program) {
  const auto verb = addVerb(program, "show", "Show everything about one node: attributes and references.",
                            "zunth show Hatchery/Intake/DF1/pressure");
  auto path = std::make_shared<std::string>();
  verb.option("NODE", *path, "A path or a NodeId").required();
  verb.runs([program, path] {
    program.exitCode = withSession(program.options, false, [&](SessionPtr session, Interrupt&) {
      return showNode(session, program.options, *path);
    });
  });
}

}  // namespace zunth::cli
