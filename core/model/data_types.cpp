#include "core/model/data_types.hpp"

#include "core/space/type_catalog.hpp"
#include "core/ua/text.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::model {

using namespace ua;
using space::kNoNode;
using space::NewNode;
using space::NodeIndex;
using DataTypeKind = DataTypeWords::Kind;

namespace {

constexpr std::string_view kTypeWords[] = {"is",          "about",  "called",  "extends",   "abstract",
                                           "implements",  "refers", "inverse", "symmetric", "states",
                                           "transitions", "access", "node-id"};

class DataTypeFiller {
 public:
  DataTypeFiller(Draft& draft, NodeIndex node, const DataTypeWords& words, const Entry& entry)
      : draft_(draft), space_(draft.space), node_(node), words_(words), entry_(entry) {}

  void values() {
    List<EnumField> fields;
    for (const auto& value : words_.values) add(fields, value.name, value.number, nullptr);
    std::int64_t next = fields.empty() ? 0 : fields.back().value + 1;
    for (const Entry& line : entry_.entries) {
      if (isTypeWord(line.key.text)) continue;
      const Text* written = line.value ? &*line.value : line.textOf("is");
      if (written) {
        const auto number = parse(written->text, BuiltInType::Int64);
        if (!number)
          draft_.error(written->place, fmt::format("'{}' is no whole number", written->text), "as in: Auto: 5");
        else
          next = *number->get<std::int64_t>();
      }
      add(fields, line.key, next++, &line);
    }
    if (fields.empty())
      return draft_.error(entry_.key.place, fmt::format("'{}' has no values", entry_.key.text),
                          "as in: enum Off | Auto | Wash");
    const bool isOptions = words_.kind == DataTypeKind::Options;
    const bool isDense = [&] {
      for (std::size_t i = 0; i < fields.size(); ++i)
        if (fields[i].value != static_cast<std::int64_t>(i)) return false;
      return true;
    }();
    if (isOptions) {
      std::vector<LocalizedText> texts;
      for (const auto& field : fields) {
        if (field.value < 0 || field.value > 63) continue;
        if (texts.size() <= static_cast<std::size_t>(field.value))
          texts.resize(static_cast<std::size_t>(field.value) + 1);
        texts[static_cast<std::size_t>(field.value)] = field.displayName;
      }
      property("OptionSetValues", id::LocalizedText, Variant::array(texts));
    } else if (isDense) {
      std::vector<LocalizedText> texts;
      for (const auto& field : fields) texts.push_back(field.displayName);
      property("EnumStrings", id::LocalizedText, Variant::array(texts));
    } else {
      std::vector<ExtensionObject> values;
      for (const auto& field : fields)
        values.push_back(ExtensionObject::of(EnumValueType{field.value, field.displayName, field.description}));
      property("EnumValues", id::EnumValueType, Variant::array(values));
    }
    space_.rareOf(node_).typeDefinition = ExtensionObject::of(EnumDefinition{std::move(fields)});
  }

  void fields() {
    StructureDefinition definition;
    const NodeIndex super = space_.supertype(node_);
    definition.baseDataType = space_.nodeId(super);
    definition.fields = space::allFields(space_, super);
    bool anyOptional = std::ranges::any_of(definition.fields, &StructureField::isOptional);
    for (const Member& member : words_.fields) add(definition, member, nullptr);
    for (const Entry& line : entry_.entries) {
      if (isTypeWord(line.key.text)) continue;
      const Text* written = line.value ? &*line.value : line.textOf("is");
      if (!written) {
        draft_.error(line.key.place, fmt::format("the field '{}' has no type", line.key.text), "as in: grams: UInt32");
        continue;
      }
      const Spec spec = parseSpec(*written, draft_.findings);
      if (!spec.type || spec.saysMoreThanType()) {
        draft_.error(written->place, "a field has a data type and nothing else", "as in: grams: UInt32");
        continue;
      }
      Member member{line.key, *spec.type, spec.dimensions, line.key.text.ends_with('?')};
      if (member.isOptional) member.name = member.name.part(0, member.name.text.size() - 1);
      add(definition, member, &line);
    }
    for (const auto& field : definition.fields) anyOptional |= field.isOptional;
    definition.structureType = words_.kind == DataTypeKind::Union ? StructureType::Union
                               : anyOptional                      ? StructureType::StructureWithOptionalFields
                                                                  : StructureType::Structure;
    if (!space_.isAbstract(node_)) definition.defaultEncodingId = encodings();
    space_.rareOf(node_).typeDefinition = ExtensionObject::of(std::move(definition));
    draft_.dataTypeAdded();
  }

 private:
  void add(List<EnumField>& fields, const Text& name, std::int64_t number, const Entry* line) {
    for (const auto& field : fields)
      if (field.name.view() == name.text || field.value == number)
        return draft_.error(name.place, fmt::format("'{}' is the same value as '{}'", name.text, field.name.view()),
                            "names and numbers are for one value each");
    const bool isOptions = words_.kind == DataTypeKind::Options;
    if (isOptions ? number < 0 || number > 63 : number < INT32_MIN || number > INT32_MAX)
      return draft_.error(name.place, fmt::format("{} is out of range", number),
                          isOptions ? "options are bits 0 to 63" : "values are 32-bit numbers");
    EnumField field{number, LocalizedText(String(name.text)), {}, String(name.text)};
    if (line) {
      if (const Entry* about = line->find("about"); about)
        if (const auto texts = draft_.textsOf(*about); !texts.empty()) field.description = texts.front();
      if (const Entry* called = line->find("called"); called)
        if (const auto texts = draft_.textsOf(*called); !texts.empty()) field.displayName = texts.front();
    }
    fields.push_back(std::move(field));
  }

  void add(StructureDefinition& definition, const Member& member, const Entry* line) {
    for (const auto& field : definition.fields)
      if (field.name.view() == member.name.text)
        return draft_.error(member.name.place, fmt::format("'{}' stands here twice", member.name.text),
                            "a field of the types above counts, too");
    const NodeIndex type = draft_.findType(member.type);
    if (type == kNoNode) return;
    if (space_.nodeClass(type) != NodeClass::DataType)
      return draft_.error(member.type.place, fmt::format("'{}' is no data type", member.type.text),
                          "fields are values, such as Double or String");
    StructureField field;
    field.name = member.name.text;
    field.dataType = space_.nodeId(type);
    field.valueRank = -1;
    field.isOptional = member.isOptional;
    if (member.dimensions) {
      field.valueRank = 1 + static_cast<std::int32_t>(std::ranges::count(*member.dimensions, ','));
      field.arrayDimensions = List<std::uint32_t>(static_cast<std::size_t>(field.valueRank), 0u);
    }
    if (line)
      if (const Entry* about = line->find("about"))
        if (const auto texts = draft_.textsOf(*about); !texts.empty()) field.description = texts.front();
    definition.fields.push_back(std::move(field));
  }

  /// The nodes that stand for a structure's encodings; the id of the binary one.
  NodeId encodings() {
    NodeId binary;
    for (const char* name : {"Default Binary", "Default XML", "Default JSON"}) {
      const Location here = draft_.locationOf(node_).in(name);
      NewNode node;
      node.nodeId = NodeId(here.ns, String(here.path));
      node.nodeClass = NodeClass::Object;
      node.browseName = {0, name};
      const NodeIndex encoding = draft_.add(std::move(node), entry_.key.place);
      if (encoding == kNoNode) continue;
      space_.refer(node_, id::HasEncoding, encoding);
      space_.refer(encoding, id::HasTypeDefinition, space_.at(id::DataTypeEncodingType));
      if (binary.isNull()) binary = space_.nodeId(encoding);
    }
    return binary;
  }

  void property(const char* name, StandardId type, Variant value) {
    draft_.addProperty(node_, name, type, std::move(value), entry_.key.place, false);
  }

  Draft& draft_;
  space::Space& space_;
  NodeIndex node_;
  const DataTypeWords& words_;
  const Entry& entry_;
};

}  // namespace

bool isTypeWord(std::string_view key) { return std::ranges::find(kTypeWords, key) != std::end(kTypeWords); }

StandardId usualSupertype(const DataTypeWords& words, const Entry& entry) {
  switch (words.kind) {
    case DataTypeKind::Enumeration: return id::Enumeration;
    case DataTypeKind::Structure: return id::Structure;
    case DataTypeKind::Union: return id::Union;
    case DataTypeKind::Options: break;
  }
  std::int64_t bits = static_cast<std::int64_t>(
      std::ranges::count_if(entry.entries, [](const Entry& line) { return !isTypeWord(line.key.text); }));
  for (const auto& value : words.values) bits = std::max(bits, value.number + 1);
  return bits <= 8 ? id::Byte : bits <= 16 ? id::UInt16 : bits <= 32 ? id::UInt32 : id::UInt64;
}

void fillDataType(Draft& draft, NodeIndex node, const DataTypeWords& words, const Entry& entry) {
  DataTypeFiller filler(draft, node, words, entry);
  if (words.kind == DataTypeKind::Enumeration || words.kind == DataTypeKind::Options)
    filler.values();
  else
    filler.fields();
}

}  // namespace zunth::model
