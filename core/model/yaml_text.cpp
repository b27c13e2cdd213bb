#include "core/model/yaml_text.hpp"

#include "core/space/attributes.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;

namespace {

std::string dump(const Json& json) { return json.dump(-1, ' ', false, Json::error_handler_t::replace); }

}  // namespace

std::string inQuotes(const std::string& text) { return dump(text); }

std::string scalar(std::string_view text) {
  const bool isPlain = !text.empty() && text.find_first_of(":#{}[],&*!|>'\"%@`\n\t\\") == std::string_view::npos &&
                       text.find_first_of("-?=~ ") != 0 && text.back() != ' ' && text != "null" && text != "true" &&
                       text != "false";
  return isPlain ? std::string(text) : inQuotes(std::string(text));
}

std::string plainWords(std::string_view text) {
  const bool isPlain = text.find(": ") == std::string_view::npos && text.find(" #") == std::string_view::npos &&
                       text.find_first_of("{}[],&*!>'\"%@`\n\t\\") == std::string_view::npos &&
                       text.find_first_of("-?~|") != 0 && !text.ends_with(':');
  return isPlain ? std::string(text) : inQuotes(std::string(text));
}

std::optional<std::string> yamlValue(const space::Space& space, const TypeCatalog& catalog, const Variant& value,
                                     space::NodeIndex dataType) {
  if (value.type() == BuiltInType::Variant || value.type() == BuiltInType::DataValue) return std::nullopt;
  if (value.type() == BuiltInType::LocalizedText && !value.isArray()) {
    const auto& text = *value.get<LocalizedText>();
    if (!text.locale.empty()) return fmt::format("{{{}: {}}}", text.locale.view(), inQuotes(text.text.str()));
  }
  if (const auto name = space::enumerationName(space, dataType, value)) return scalar(name->view());
  if (const auto* id = value.get<NodeId>(); id && id->namespaceIndex())
    return inQuotes(
        fmt::format("nsu={};{}", space.namespaces()[id->namespaceIndex()].view(), id->inNamespace(0).text()));
  // The plain JSON form of what has parts is YAML, too.
  if (value.type() != BuiltInType::ExtensionObject && !value.isArray()) return scalar(format(value));
  const Json json = toJson(value, JsonOptions{JsonForm::Plain, &catalog, {}});
  return json.is_null() ? std::nullopt : std::optional(dump(json));
}

}  // namespace zunth::model
