#include "apps/zunth/nodes.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"
#include "service/client/attribute_texts.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

Awaitable<int> showNode(SessionPtr session, Options options, std::string path) {
  auto node = co_await findNode(session, path);
  if (!node) co_return fail(node.error());
  std::vector<AttributeId> attributes;
  const auto shown = client::attributeNames();
  for (const auto& [attribute, name] : shown) attributes.push_back(attribute);
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
    std::string text = value.status.isGood() ? client::attributeText(attributes[i], value.value)
                                             : coloured(value.status, std::string(value.status.name()));
    if (isDataType) text = fmt::format("{}  {}", dataTypeName, dim(text));
    if (isValue && !value.sourceTimestamp.isNull())
      text += dim(fmt::format("  measured {}", localTime(value.sourceTimestamp.time())));
    records.add({dim(shown[i].second), text});
    json[shown[i].second] = value.status.isBad() ? Json(value.status.name()) : Json(toJson(value.value));
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
