#include "service/device/composition.hpp"

#include "core/ua/binary_writer.hpp"
#include "core/ua/structure_walk.hpp"
#include "service/device/elements.hpp"

#include <algorithm>
#include <optional>

#include <fmt/format.h>

namespace zunth::device {

using namespace ua;
using space::NodeIndex;
using space::Space;

namespace {

constexpr std::uint32_t kMostParts = 10'000;

BuiltInType typeOf(const FieldSchema& field) { return field.enumeration ? BuiltInType::Int32 : field.type; }

/// A value of a type that says nothing: 0, an empty text.
Variant nothingOf(const Part& part) {
  if (part.isRow || part.type == BuiltInType::Variant) return {};
  return visitBuiltIn(part.type, []<class T>(std::type_identity<T>) {
    if constexpr (std::is_same_v<T, Variant>)
      return Variant();
    else
      return Variant(T{});
  });
}

/// The fields of a structure that are there, by their names.
class Fields final : public StructureWalker {
 public:
  std::map<std::string, Variant> held;
  void value(const FieldSchema& field, const Variant& value) override {
    if (list_)
      list_->push_back(value);
    else
      held[field.name] = value;
  }
  void openStructure(const FieldSchema*, const StructureSchema&, std::uint32_t) override {}
  void closeStructure() override {}
  void openList(const FieldSchema& field) override {
    list_.emplace();
    name_ = field.name;
    type_ = typeOf(field);
  }
  void closeList() override {
    if (auto row = arrayOf(*list_, type_)) held[name_] = std::move(*row);
    list_.reset();
  }

 private:
  std::optional<std::vector<Variant>> list_;
  std::string name_;
  BuiltInType type_ = BuiltInType::Null;
};

void write(BinaryWriter& writer, const Part& part, const Variant& value) {
  if (part.isRow && !value.isArray()) return writer.write(std::int32_t{-1});
  if (part.isRow) writer.write(static_cast<std::int32_t>(value.length()));
  for (const Variant& element : part.isRow ? elementsOf(value) : std::vector<Variant>(1, value))
    visitBuiltIn(part.type, [&]<class T>(std::type_identity<T>) {
      if constexpr (std::is_same_v<T, Variant>) {
        writer.write(element);
      } else {
        const T* held = element.get<T>();
        writer.write(held ? *held : T{});
      }
    });
}

/// The structure that a variable holds, when each of its fields is a value or a row of them.
const StructureSchema* flatStructure(const Space& space, const TypeCatalog& types, NodeIndex variable) {
  const auto& traits = space.traits(variable);
  if (traits.valueRank != -1 || space.builtInType(traits.dataType) != BuiltInType::ExtensionObject) return nullptr;
  const auto* schema = types.find(space.nodeId(traits.dataType));
  const bool isFlat =
      schema && schema->kind != StructureSchema::Kind::Union && std::ranges::all_of(schema->fields, [](const auto& f) {
        return !f.structure && f.valueRank <= 1 && typeOf(f) != BuiltInType::Null;
      });
  return isFlat ? schema : nullptr;
}

}  // namespace

Result<std::vector<Part>> partsOf(const Space& space, const TypeCatalog& types, NodeIndex variable) {
  std::vector<Part> out;
  const auto& traits = space.traits(variable);
  if (const auto* schema = flatStructure(space, types, variable)) {
    for (const auto& field : schema->fields)
      out.push_back({static_cast<std::uint32_t>(out.size()), "." + field.name, typeOf(field), field.valueRank == 1});
    return out;
  }
  const auto* rare = space.rare(variable);
  const std::uint32_t length = rare && rare->arrayDimensions.size() == 1 ? rare->arrayDimensions.front() : 0;
  if (traits.valueRank == 1 && length > 0 && length <= kMostParts) {
    for (std::uint32_t i = 0; i < length; ++i)
      out.push_back({i, fmt::format("[{}]", i), space.builtInType(traits.dataType), false});
    return out;
  }
  return Error{status::BadTypeMismatch,
               fmt::format("{} has no parts that points could be bound to", space.path(variable)),
               "elements of a row with a length (Double[4]), or fields of a structure without structures in it"};
}

Composition::Composition(const Space& space, std::shared_ptr<const TypeCatalog> types, NodeIndex variable)
    : schema_(flatStructure(space, *types, variable)), types_(std::move(types)) {
  if (auto parts = partsOf(space, *types_, variable)) parts_ = std::move(*parts);
  rest_.resize(parts_.size());
  for (std::size_t i = 0; i < parts_.size(); ++i)
    if (!schema_ || !schema_->fields[i].isOptional) rest_[i] = nothingOf(parts_[i]);
  if (auto held = apart(space.value(variable).value)) rest_ = std::move(*held);
}

bool Composition::fits(const Space& space, const TypeCatalog& types, NodeIndex variable) const {
  const auto parts = partsOf(space, types, variable);
  return parts && *parts == parts_;
}

void Composition::expect(std::uint32_t number) {
  came_[number] = DataValue(Variant(), DateTime(), status::BadWaitingForInitialData);
}

void Composition::take(std::uint32_t number, DataValue value) {
  const Part& part = parts_[number];
  if (!value.status.isBad()) {
    auto converted =
        part.type == BuiltInType::Variant ? Result<Variant>(value.value) : convertedTo(part.type, value.value);
    if (converted && converted->isArray() != part.isRow) converted = status::BadTypeMismatch;
    if (converted)
      value.value = std::move(*converted);
    else
      value = DataValue(Variant(), value.sourceTimestamp, converted.code());
  }
  came_[number] = std::move(value);
}

DataValue Composition::value() const {
  DataValue out;
  std::vector<Variant> values = rest_;
  for (const auto& [number, part] : came_) {
    out.sourceTimestamp = std::max(out.sourceTimestamp, part.sourceTimestamp);
    const bool isWorse = part.status.isBad() ? !out.status.isBad() : out.status.isGood() && !part.status.isGood();
    if (isWorse) out.status = part.status;
    values[number] = part.value;
  }
  if (!out.status.isBad()) out.value = together(values);
  return out;
}

Result<std::vector<std::pair<std::uint32_t, Variant>>> Composition::split(const Variant& whole) {
  auto values = apart(whole);
  if (!values) return values.error();
  std::vector<std::pair<std::uint32_t, Variant>> all, others;
  for (const auto& [number, part] : came_) {
    Variant wanted = (*values)[number];
    if (wanted.isNull()) wanted = nothingOf(parts_[number]);
    if (!(part.value == wanted)) others.emplace_back(number, wanted);
    all.emplace_back(number, std::move(wanted));
  }
  rest_ = std::move(*values);
  return others.empty() ? all : others;
}

std::vector<std::pair<std::string, DataValue>> Composition::came() const {
  std::vector<std::pair<std::string, DataValue>> out;
  for (const auto& [number, value] : came_) out.emplace_back(parts_[number].text, value);
  return out;
}

/// One value for each part; null for an optional field that isn't there.
Result<std::vector<Variant>> Composition::apart(const Variant& whole) const {
  std::vector<Variant> out(parts_.size());
  if (!schema_) {
    auto elements = elementsOf(whole);
    if (!whole.isArray() || elements.size() != parts_.size())
      return Error{status::BadTypeMismatch, fmt::format("it is a row of {}", parts_.size()), {}};
    return elements;
  }
  const auto* object = whole.get<ExtensionObject>();
  if (!object) return Error{status::BadTypeMismatch, "it is a structure", {}};
  Fields fields;
  if (auto fine = walk(*object, fields, *types_); !fine) return fine.error();
  for (std::size_t i = 0; i < out.size(); ++i)
    if (const auto held = fields.held.find(schema_->fields[i].name); held != fields.held.end()) out[i] = held->second;
  return out;
}

Variant Composition::together(const std::vector<Variant>& values) const {
  if (!schema_) {
    auto row = arrayOf(values, parts_.empty() ? BuiltInType::Null : parts_.front().type);
    return row ? std::move(*row) : Variant();
  }
  Bytes octets;
  BinaryWriter writer(octets);
  if (schema_->kind == StructureSchema::Kind::WithOptionalFields) {
    std::uint32_t mask = 0, bit = 1;
    for (std::size_t i = 0; i < values.size(); ++i) {
      if (!schema_->fields[i].isOptional) continue;
      if (!values[i].isNull()) mask |= bit;
      bit <<= 1;
    }
    writer.write(mask);
  }
  for (std::size_t i = 0; i < values.size(); ++i)
    if (!schema_->fields[i].isOptional || !values[i].isNull()) write(writer, parts_[i], values[i]);
  return Variant(ExtensionObject::binary(schema_->binaryId, ByteString(octets)));
}

}  // namespace zunth::device
