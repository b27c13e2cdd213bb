#include "core/model/initial_value.hpp"

#include "core/ua/json.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;
using space::Space;

namespace {

std::string trimmed(std::string_view text) {
  const auto from = text.find_first_not_of(' ');
  return from == std::string_view::npos ? "" : std::string(text.substr(from, text.find_last_not_of(' ') - from + 1));
}

std::optional<EnumDefinition> enumerationOf(const Space& space, NodeIndex dataType) {
  const auto* rare = dataType == kNoNode ? nullptr : space.rare(dataType);
  if (!rare || !rare->typeDefinition.is<EnumDefinition>()) return std::nullopt;
  auto definition = rare->typeDefinition.as<EnumDefinition>();
  return definition ? std::optional(std::move(*definition)) : std::nullopt;
}

Error unknownMember(const Space& space, NodeIndex dataType, const EnumDefinition& definition, std::string_view name) {
  std::vector<std::string> members;
  for (const auto& field : definition.fields) members.push_back(field.name.str());
  const std::string near = nearest(name, members);
  return {status::BadTypeMismatch, fmt::format("{} has no such value", space.name(dataType)),
          near.empty() ? fmt::format("it has: {}", fmt::join(members, ", ")) : fmt::format("did you mean '{}'?", near)};
}

const EnumField* memberNamed(const EnumDefinition& definition, std::string_view name) {
  for (const auto& field : definition.fields)
    if (field.name.view() == name || std::to_string(field.value) == name) return &field;
  return nullptr;
}

/// One value of an enumeration or option set, or a list of them; nothing when the type is neither.
std::optional<Result<Variant>> namedValue(const Space& space, const space::ValueTraits& traits,
                                          const std::string& text) {
  const auto definition = enumerationOf(space, traits.dataType);
  if (!definition) return std::nullopt;
  const bool isEnumeration = space.isSubtype(traits.dataType, id::Enumeration);
  const auto one = [&](std::string_view name) -> Result<std::int64_t> {
    std::int64_t bits = 0;
    for (std::size_t from = 0; from <= name.size();) {
      const auto bar = isEnumeration ? name.size() : std::min(name.find('|', from), name.size());
      const std::string wanted = trimmed(name.substr(from, bar - from));
      const EnumField* member = memberNamed(*definition, wanted);
      if (!member) return unknownMember(space, traits.dataType, *definition, wanted);
      if (isEnumeration) return member->value;
      bits |= std::int64_t{1} << member->value;
      from = bar + 1;
    }
    return bits;
  };
  if (traits.valueRank >= 1) {
    if (!isEnumeration || !text.starts_with('[') || !text.ends_with(']')) return std::nullopt;
    std::vector<std::int32_t> values;
    const std::string inside = text.substr(1, text.size() - 2);
    for (std::size_t from = 0; from <= inside.size() && !trimmed(inside).empty();) {
      const auto comma = std::min(inside.find(',', from), inside.size());
      auto value = one(trimmed(std::string_view(inside).substr(from, comma - from)));
      if (!value) return Result<Variant>(value.error());
      values.push_back(static_cast<std::int32_t>(*value));
      from = comma + 1;
    }
    return Result<Variant>(Variant::array(values));
  }
  // An option set may be given as its number, too.
  if (!isEnumeration && !text.empty() && text.find_first_not_of("0123456789") == std::string::npos) return std::nullopt;
  auto value = one(text);
  if (!value) return Result<Variant>(value.error());
  if (isEnumeration) return Result<Variant>(Variant(static_cast<std::int32_t>(*value)));
  return parse(std::to_string(static_cast<std::uint64_t>(*value)), space.builtInType(traits.dataType));
}

/// Turns entries into the JSON of a value (Part 6, 5.4), which then is read by the types' schemas.
class ValueReader {
 public:
  explicit ValueReader(Draft& draft) : draft_(draft) {}

  Json of(const Entry& entry, const FieldSchema& field) {
    if (!entry.value && !entry.isList && !entry.isMapping) return nullptr;
    if (field.valueRank == -1) return one(entry, field);
    Json list = Json::array();
    if (!entry.isList) {
      fail(entry, "a list is wanted here", "as in: [1, 2, 3], or a line with '- ' for each");
      return list;
    }
    FieldSchema element = field;
    element.valueRank = field.valueRank > 1 ? field.valueRank - 1 : -1;
    for (const Entry& each : entry.entries) list.push_back(of(each, element));
    return list;
  }
  bool ok() const { return ok_; }

 private:
  void fail(const Entry& entry, std::string cause, std::string hint = {}) {
    ok_ = false;
    draft_.error(entry.value ? entry.value->place : entry.key.place, std::move(cause), std::move(hint));
  }

  Json one(const Entry& entry, const FieldSchema& field) {
    if (field.structure) return structure(entry, *field.structure);
    if (field.type == BuiltInType::LocalizedText && entry.isMapping) {  // {de: Auf}
      if (entry.entries.size() == 1 && entry.entries.front().value)
        return Json{{"Locale", entry.entries.front().key.text}, {"Text", entry.entries.front().value->text}};
      fail(entry, "a text has one language here", "as in: {de: Auf}");
      return nullptr;
    }
    if (!entry.value) {
      fail(entry, fmt::format("'{}' is one value", field.name));
      return nullptr;
    }
    const std::string& text = entry.value->text;
    if (field.enumeration) {
      for (const auto& [name, number] : field.enumeration->members)
        if (name == text || std::to_string(number) == text || field.enumeration->text(number) == text) return number;
      std::string names;
      for (const auto& [name, number] : field.enumeration->members) names += (names.empty() ? "" : ", ") + name;
      fail(entry, fmt::format("{} has no value '{}'", field.enumeration->name, text), "it has: " + names);
      return nullptr;
    }
    if (field.type == BuiltInType::Variant || field.type == BuiltInType::ExtensionObject) {
      fail(entry, fmt::format("a value of '{}' can't be written here", field.name),
           "its type is not known until it runs");
      return nullptr;
    }
    auto value = parse(text, field.type);
    if (!value) {
      fail(entry, value.error().cause, value.error().next);
      return nullptr;
    }
    const Json written = toJson(*value, JsonOptions{});
    return written.contains("Body") ? written["Body"] : Json(nullptr);
  }

  Json structure(const Entry& entry, const StructureSchema& schema) {
    Json out = Json::object();
    if (!entry.isMapping) {
      fail(entry, fmt::format("the fields of {} are wanted here", schema.name),
           schema.fields.empty() ? "" : fmt::format("as in: {{{}: ...}}", schema.fields.front().name));
      return out;
    }
    for (const Entry& line : entry.entries) {
      const auto field = std::ranges::find(schema.fields, line.key.text, &FieldSchema::name);
      if (field == schema.fields.end()) {
        std::vector<std::string> names;
        for (const auto& each : schema.fields) names.push_back(each.name);
        const std::string near = nearest(line.key.text, names);
        draft_.error(
            line.key.place, fmt::format("{} has no field '{}'", schema.name, line.key.text),
            near.empty() ? fmt::format("it has: {}", fmt::join(names, ", ")) : fmt::format("did you mean '{}'?", near));
        ok_ = false;
        continue;
      }
      out[field->name] = of(line, *field);
    }
    return out;
  }

  Draft& draft_;
  bool ok_ = true;
};

}  // namespace

Result<Variant> valueOf(const Space& space, const space::ValueTraits& traits, const std::string& text) {
  std::string typed = text;
  if (typed.size() >= 2 && typed.front() == '"' && typed.back() == '"') typed = typed.substr(1, typed.size() - 2);
  if (auto named = namedValue(space, traits, typed)) return *named;
  // A namespace by its URI is the same in every server.
  if (const auto semicolon = typed.find(';'); typed.starts_with("nsu=") && semicolon != std::string::npos)
    if (const auto ns = space.namespaceIndex(std::string_view(typed).substr(4, semicolon - 4)))
      typed = fmt::format("ns={};{}", *ns, typed.substr(semicolon + 1));
  return parse(typed, space.builtInType(traits.dataType), traits.valueRank >= 1);
}

std::optional<Variant> valueOf(Draft& draft, const space::ValueTraits& traits, const Entry& starts) {
  const Space& space = draft.space;
  if (starts.value) {
    auto value = valueOf(space, traits, starts.value->text);
    if (value) return *value;
    draft.error(starts.value->place, value.error().cause, value.error().next);
    return std::nullopt;
  }
  // Where several types are allowed, the value says its own: {Int32: 5}.
  if (starts.isMapping && starts.entries.size() == 1 &&
      (traits.dataType == kNoNode || space.builtInType(traits.dataType) == BuiltInType::Variant)) {
    const Entry& typed = starts.entries.front();
    const NodeIndex type = draft.findType(typed.key);
    if (type == kNoNode || space.nodeClass(type) != NodeClass::DataType ||
        space.builtInType(type) == BuiltInType::Variant) {
      if (type != kNoNode)
        draft.error(typed.key.place, fmt::format("a value is no {}", typed.key.text), "as in: {Int32: 5}");
      return std::nullopt;
    }
    space::ValueTraits own = traits;
    own.dataType = type;
    own.valueRank = typed.isList ? 1 : -1;
    return valueOf(draft, own, typed);
  }
  FieldSchema field;
  field.name = "starts";
  field.valueRank = traits.valueRank >= 1 ? traits.valueRank : -1;
  field.type = traits.dataType == kNoNode ? BuiltInType::Variant : space.builtInType(traits.dataType);
  EnumerationSchema members;
  if (const auto definition = enumerationOf(space, traits.dataType);
      definition && space.isSubtype(traits.dataType, id::Enumeration)) {
    members.name = space.browseName(traits.dataType).name.str();
    for (const auto& member : definition->fields)
      members.members.emplace_back(member.name.str(), static_cast<std::int32_t>(member.value));
    field.enumeration = &members;
  }
  const TypeCatalog& catalog = draft.catalog();
  if (field.type == BuiltInType::ExtensionObject) {
    field.structure = catalog.find(space.nodeId(traits.dataType));
    if (!field.structure) {
      draft.error(starts.key.place,
                  fmt::format("a value of {} can't be written", space.browseName(traits.dataType).name.view()),
                  "it is abstract, or one of its fields is");
      return std::nullopt;
    }
  }
  ValueReader reader(draft);
  Json body = reader.of(starts, field);
  if (!reader.ok()) return std::nullopt;
  const bool isMatrix = field.valueRank > 1;
  Json variant{{"Type", static_cast<int>(field.type)}};
  if (field.structure) {
    // Each structure says its type.
    const auto wrap = [&](auto&& self, const Json& each, int rank) -> Json {
      if (rank <= 0)
        return Json{{"TypeId", toJson(Variant(field.structure->typeId), JsonOptions{})["Body"]}, {"Body", each}};
      Json list = Json::array();
      for (const auto& element : each) list.push_back(self(self, element, rank - 1));
      return list;
    };
    body = wrap(wrap, body, field.valueRank);
  }
  if (isMatrix) {
    Json dimensions = Json::array(), flat = body;
    for (std::int32_t i = 0; i < field.valueRank; ++i) {
      dimensions.push_back(flat.size());
      if (i + 1 == field.valueRank) break;
      Json next = Json::array();
      for (const auto& row : flat)
        for (const auto& element : row) next.push_back(element);
      flat = std::move(next);
    }
    // Sizes are of one row, not of all rows together.
    for (std::size_t i = dimensions.size(); i-- > 1;) {
      const auto above = dimensions[i - 1].get<std::size_t>();
      dimensions[i] = above ? dimensions[i].get<std::size_t>() / above : 0;
    }
    body = std::move(flat);
    variant["Dimensions"] = std::move(dimensions);
  }
  variant["Body"] = std::move(body);
  auto value = variantFromJson(variant, catalog);
  if (value) return *value;
  draft.error(starts.key.place, value.error().cause, value.error().next);
  return std::nullopt;
}

}  // namespace zunth::model
