// Octets made by a second implementation of the encoding must decode to the values it wrote, and encode back.
#include "core/ua/base64.hpp"
#include "core/ua/generated/structures.hpp"
#include "core/ua/json_type.hpp"
#include "core/ua/structure_walk.hpp"

#include <fstream>

#include "tests/hex.hpp"
#include "tests/recode.hpp"
#include <catch2/catch.hpp>

namespace zunth::vectors_test {

using namespace zunth::ua;
using test::recode;
using ua::Json;

namespace {

Json vectorForm(const Variant& value);

/// Fields in the form that the vector files write them.
class VectorWalker final : public StructureWalker {
 public:
  void value(const FieldSchema& field, const Variant& value) override { put(lower(field.name), vectorForm(value)); }
  void openStructure(const FieldSchema* field, const StructureSchema&, std::uint32_t) override {
    push(field ? lower(field->name) : std::string(), Json::object());
  }
  void closeStructure() override { pop(); }
  void openList(const FieldSchema& field) override { push(lower(field.name), Json::array()); }
  void closeList() override { pop(); }
  Json result;

 private:
  /// The files begin names of fields with a small letter.
  static std::string lower(std::string name) {
    name[0] = static_cast<char>(std::tolower(static_cast<unsigned char>(name[0])));
    return name;
  }
  void push(std::string name, Json empty) { open_.emplace_back(std::move(name), std::move(empty)); }
  void pop() {
    auto [name, json] = std::move(open_.back());
    open_.pop_back();
    put(name, std::move(json));
  }
  void put(std::string_view name, Json json) {
    if (open_.empty())
      result = std::move(json);
    else if (open_.back().second.is_array())
      open_.back().second.push_back(std::move(json));
    else
      open_.back().second[std::string(name)] = std::move(json);
  }
  std::vector<std::pair<std::string, Json>> open_;
};

Json octets(const Octets& v) { return v.isNull() ? Json() : Json{{"hex", test::hex(v.bytes())}}; }
Json diagnostics(const DiagnosticInfo& v) {
  Json out = Json::object();
  if (v.symbolicId) out["symbolic"] = *v.symbolicId;
  if (v.namespaceUri) out["namespace"] = *v.namespaceUri;
  if (v.locale) out["locale"] = *v.locale;
  if (v.localizedText) out["text"] = *v.localizedText;
  if (v.additionalInfo) out["info"] = v.additionalInfo->view();
  if (v.innerStatusCode) out["status"] = v.innerStatusCode->value;
  if (v.inner) out["inner"] = diagnostics(*v.inner);
  return out;
}

/// The files write an opaque identifier in hex where the standard's text form has base64.
std::string withHexIdentifier(std::string text) {
  const auto at = text.find("b=");
  if (at != std::string::npos && (at == 0 || text[at - 1] == ';'))
    if (auto octets = fromBase64(std::string_view(text).substr(at + 2)))
      return text.substr(0, at + 2) + test::hex(*octets);
  return text;
}

template <class T>
Json scalar(const T& v) {
  if constexpr (std::is_same_v<T, DateTime>)
    return v.ticks;
  else if constexpr (std::is_same_v<T, StatusCode>)
    return v.value;
  else if constexpr (std::is_arithmetic_v<T>)
    return v;
  else if constexpr (std::is_same_v<T, ByteString>)
    return octets(v);
  else if constexpr (std::is_base_of_v<Octets, T>)
    return v.isNull() ? Json() : Json(v.view());
  else if constexpr (std::is_same_v<T, QualifiedName>)
    return Json{{"ns", v.namespaceIndex}, {"name", scalar(v.name)}};
  else if constexpr (std::is_same_v<T, LocalizedText>)
    return Json{{"locale", scalar(v.locale)}, {"text", scalar(v.text)}};
  else if constexpr (std::is_same_v<T, DiagnosticInfo>)
    return diagnostics(v);
  else if constexpr (std::is_same_v<T, Variant>)
    return vectorForm(v);
  else if constexpr (std::is_same_v<T, DataValue>)
    return "DataValue";
  else if constexpr (std::is_same_v<T, ExtensionObject>) {
    if (v.isNull()) return nullptr;
    VectorWalker walker;
    return walk(v, walker) ? walker.result : Json("unknown " + v.encodingId().text());
  } else {
    return withHexIdentifier(v.text());
  }
}

Json vectorForm(const Variant& value) {
  if (value.isNull()) return nullptr;
  return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) -> Json {
    if (!value.isArray()) return scalar(*value.get<T>());
    Json out = Json::array();
    for (const auto& item : value.items<T>()) out.push_back(scalar(item));
    return out;
  });
}

/// What both sides state must agree. `ours` leaves the type names out that the file repeats, and shows a Variant by
/// its bare value, a DataValue by a placeholder: those are compared by their octets.
void requireSame(const Json& theirs, const Json& ours, const std::string& where) {
  INFO(where);
  if (theirs.is_object() && theirs.contains("type") && theirs.contains("value")) {
    if (theirs.at("type") == "BaseDataType" || theirs.at("type") == "DataValue") return;
    return requireSame(theirs.at("value"), ours, where + ".value");
  }
  if (ours == "DataValue") return;
  if (theirs.is_object()) {
    REQUIRE(ours.is_object());
    for (const auto& [key, value] : theirs.items()) {
      if (key == "structure") continue;
      REQUIRE(ours.contains(key));
      requireSame(value, ours.at(key), where + "." + key);
    }
  } else if (theirs.is_array()) {
    REQUIRE(ours.is_array());
    REQUIRE(ours.size() == theirs.size());
    for (std::size_t i = 0; i < theirs.size(); ++i)
      requireSame(theirs[i], ours[i], where + "[" + std::to_string(i) + "]");
  } else if (theirs.is_null()) {
    REQUIRE((ours.is_null() || (ours.is_array() && ours.empty())));
  } else if (theirs.is_number()) {
    REQUIRE(ours.is_number());
    REQUIRE(ours.get<double>() == theirs.get<double>());
  } else {
    REQUIRE(ours == theirs);
  }
}

void check(const Json& line, std::uint32_t binaryId, BytesView body) {
  INFO(line.at("structure").get<std::string>());
  const auto again = recode(binaryId, body);
  INFO((again ? "" : again.error().text()));
  REQUIRE(again);
  CHECK(test::hex(*again) == test::hex(body));
  VectorWalker walker;
  REQUIRE(walk(ExtensionObject::binary(NodeId(binaryId), ByteString(body)), walker));
  requireSame(line.at("value"), walker.result, std::string(structureNamed(binaryId)));
  // The same octets cut short anywhere end in an error, not in a crash or a value.
  for (std::size_t cut = 0; cut < body.size(); cut += 7) CHECK(!recode(binaryId, body.first(cut)));
}

}  // namespace

TEST_CASE("messages of every service decode and encode as the second implementation's",
          "[ua][vectors][cu:UA Binary Encoding]") {
  std::ifstream file(ZUNTH_SOURCE_DIR "/tests/vectors/messages.jsonl");
  int count = 0;
  for (std::string text; std::getline(file, text); ++count) {
    const auto line = Json::parse(text);
    const auto octets = test::unhex(line.at("hex").get<std::string>());
    BinaryReader reader(octets);
    const auto id = reader.next<NodeId>();
    check(line, id.numeric(), reader.rest());
  }
  CHECK(count >= 70);
}

TEST_CASE("structures decode and encode as the second implementation's",
          "[ua][vectors][cu:Address Space Complex Data]") {
  std::ifstream file(ZUNTH_SOURCE_DIR "/tests/vectors/structures.jsonl");
  int count = 0, unknown = 0;
  for (std::string text; std::getline(file, text); ++count) {
    const auto line = Json::parse(text);
    const auto octets = test::unhex(line.at("hex").get<std::string>());
    std::uint32_t binaryId = 0;
    for (std::uint32_t id = 1; id < 40000 && !binaryId; ++id)
      if (structureNamed(id) == line.at("structure").get<std::string>()) binaryId = id;
    if (binaryId)
      check(line, binaryId, octets);
    else
      ++unknown;  // of a namespace other than 0
  }
  CHECK(count >= 130);
  CHECK(unknown <= 4);
}

}  // namespace zunth::vectors_test
