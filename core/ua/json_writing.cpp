#include "core/ua/base64.hpp"
#include "core/ua/binary_reader.hpp"
#include "core/ua/document_reader.hpp"
#include "core/ua/document_time.hpp"
#include "core/ua/json.hpp"
#include "core/ua/structure_walk.hpp"

#include <cmath>

#include <fmt/format.h>

namespace zunth::ua {
namespace {

class JsonEncoder {
 public:
  explicit JsonEncoder(const JsonOptions& options) : options_(options) {}

  Json variant(const Variant& value);
  Json enumeration(const EnumerationSchema& schema, std::int32_t value) {
    return isReversible() || isCompact() ? Json(value) : Json(schema.text(value));
  }
  /// A value of a structure's field, or of one of the field's elements.
  Json field(const FieldSchema& field, const Variant& value);
  Result<Json> structure(const StructureSchema& schema, BinaryReader& reader);
  bool isReversible() const { return options_.form == JsonForm::Reversible; }
  bool isCompact() const { return options_.form == JsonForm::Compact; }
  /// The forms of 1.05.
  bool isNewer() const { return isCompact() || options_.form == JsonForm::Verbose; }
  /// Whether which fields are there, or which one a union holds, is written as a number.
  bool hasSelectors() const { return isReversible() || isCompact(); }
  /// Whether a structure's field with this value is left out, as readers take it from there.
  bool leavesOut(const Variant& value) const {
    if (isReversible() || value.isNull()) return hasSelectors() && value.isNull();
    if (!isCompact() || value.isArray()) return false;
    return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) {
      if constexpr (std::is_floating_point_v<T>)
        return *value.get<T>() == 0 && !std::signbit(*value.get<T>());
      else
        return *value.get<T>() == T{};
    });
  }
  /// Whether a union is the value that it holds, and nothing else.
  bool isUnionItsValue() const { return options_.form == JsonForm::NonReversible; }

 private:
  bool isPlain() const { return options_.form == JsonForm::Plain; }
  Json of(bool v) { return v; }
  template <class T>
  requires std::is_integral_v<T> Json of(T v) { return v; }
  Json of(std::int64_t v) { return std::to_string(v); }
  Json of(std::uint64_t v) { return std::to_string(v); }
  template <class T>
  requires std::is_floating_point_v<T> Json of(T v) {
    if (std::isnan(v)) return "NaN";
    if (std::isinf(v)) return v > 0 ? "Infinity" : "-Infinity";
    // Through the shortest decimal of the type itself, so that a Float doesn't show the digits of a Double.
    if constexpr (std::is_same_v<T, float>) return std::stod(fmt::format("{}", v));
    return v;
  }
  template <class T>
  requires std::is_base_of_v<Octets, T> Json of(const T& v) {
    if (v.isNull()) return nullptr;
    if constexpr (std::is_same_v<T, ByteString>) return toBase64(v.bytes());
    return v.view();
  }
  Json of(DateTime v) { return v.isNull() && isPlain() ? Json(nullptr) : Json(documentTime(v)); }
  Json of(const Guid& v) { return v.text(); }
  /// The namespace of 1.05's ids and names, by URI where that is known (Part 6, 5.1.12 and 5.1.13).
  const String* uriOf(std::uint16_t index) const {
    return index > 0 && index < options_.namespaceUris.size() ? &options_.namespaceUris[index] : nullptr;
  }
  std::string idText(const NodeId& v) {
    const String* uri = uriOf(v.namespaceIndex());
    return uri ? "nsu=" + escapedUri(uri->view()) + ";" + v.inNamespace(0).text() : v.text();
  }
  /// The namespace of an id or a name (1.04, 5.4.2.10): by index where it is reversible, else by URI; 0 is left out.
  void putNamespace(Json& out, const char* key, std::uint16_t index) {
    if (index == 0) return;
    if (!isReversible() && index > 1 && index < options_.namespaceUris.size())
      out[key] = options_.namespaceUris[index].view();
    else
      out[key] = index;
  }
  Json idObject(const NodeId& v) {
    Json out = Json::object();
    if (v.type() != IdentifierType::Numeric) out["IdType"] = static_cast<int>(v.type());
    switch (v.type()) {
      case IdentifierType::Numeric: out["Id"] = v.numeric(); break;
      case IdentifierType::String: out["Id"] = v.octets().view(); break;
      case IdentifierType::Guid: out["Id"] = v.guid().text(); break;
      case IdentifierType::Opaque: out["Id"] = toBase64(v.octets().bytes()); break;
    }
    return out;
  }
  Json of(const NodeId& v) {
    if (isPlain()) return v.text();
    if (isNewer()) return idText(v);
    Json out = idObject(v);
    putNamespace(out, "Namespace", v.namespaceIndex());
    return out;
  }
  Json of(const ExpandedNodeId& v) {
    if (isPlain()) return v.text();
    const String* server =
        v.serverIndex > 0 && v.serverIndex < options_.serverUris.size() ? &options_.serverUris[v.serverIndex] : nullptr;
    if (isNewer()) {
      ExpandedNodeId named = v;
      if (const String* uri = uriOf(v.nodeId.namespaceIndex()); uri && named.namespaceUri.isNull()) {
        named.nodeId = v.nodeId.inNamespace(0);
        named.namespaceUri = *uri;
      }
      if (!server) return named.text();
      named.serverIndex = 0;
      return "svu=" + escapedUri(server->view()) + ";" + named.text();
    }
    Json out = idObject(v.nodeId);
    if (v.namespaceUri.isNull())
      putNamespace(out, "Namespace", v.nodeId.namespaceIndex());
    else
      out["Namespace"] = v.namespaceUri.view();
    if (server && !isReversible())
      out["ServerUri"] = server->view();
    else if (v.serverIndex)
      out["ServerUri"] = v.serverIndex;
    return out;
  }
  Json of(StatusCode v) {
    if (isReversible()) return v.value;
    if (v.value == 0 && isNewer()) return Json::object();
    if (isCompact()) return Json{{"Code", v.value}};
    if (v.value == 0 && !isPlain()) return nullptr;
    return Json{{"Code", v.value}, {"Symbol", v.name()}};
  }
  Json of(const QualifiedName& v) {
    if (isPlain()) return v.text();
    if (isNewer()) {
      const String* uri = uriOf(v.namespaceIndex);
      return uri ? "nsu=" + escapedUri(uri->view()) + ";" + v.name.str() : v.text();
    }
    Json out{{"Name", of(v.name)}};
    putNamespace(out, "Uri", v.namespaceIndex);
    return out;
  }
  Json of(const LocalizedText& v) {
    if (!isReversible() && !isNewer()) return of(v.text);
    Json out = Json::object();
    if (!v.locale.isNull()) out["Locale"] = v.locale.view();
    if (!v.text.isNull()) out["Text"] = v.text.view();
    return out;
  }
  Json of(const Variant& v) {
    return nested([&] { return variant(v); });
  }
  Json of(const DataValue& v) {
    return nested([&] {
      Json out = Json::object();
      // 1.05 has the value's type beside its status.
      if (isNewer() && !v.value.isNull()) out = variant(v.value);
      if (!isNewer() && (!v.value.isNull() || isPlain())) out["Value"] = variant(v.value);
      if (v.status.value) out[isNewer() ? "StatusCode" : "Status"] = of(v.status);
      if (!v.sourceTimestamp.isNull()) out["SourceTimestamp"] = of(v.sourceTimestamp);
      if (v.sourcePicoseconds) out["SourcePicoseconds"] = v.sourcePicoseconds;
      if (!v.serverTimestamp.isNull()) out["ServerTimestamp"] = of(v.serverTimestamp);
      if (v.serverPicoseconds) out["ServerPicoseconds"] = v.serverPicoseconds;
      return out;
    });
  }
  Json of(const DiagnosticInfo& v) {
    return nested([&] {
      Json out = Json::object();
      if (v.symbolicId) out["SymbolicId"] = *v.symbolicId;
      if (v.namespaceUri) out["NamespaceUri"] = *v.namespaceUri;
      if (v.locale) out["Locale"] = *v.locale;
      if (v.localizedText) out["LocalizedText"] = *v.localizedText;
      if (v.additionalInfo) out["AdditionalInfo"] = of(*v.additionalInfo);
      if (v.innerStatusCode) out["InnerStatusCode"] = of(*v.innerStatusCode);
      if (v.inner) out["InnerDiagnosticInfo"] = of(*v.inner);
      return out;
    });
  }
  Json of(const ExtensionObject& v);

  template <class T>
  Json rows(std::span<const T> items, std::span<const std::uint32_t> dimensions) {
    Json out = Json::array();
    // A matrix without elements may still claim billions of rows.
    if (dimensions.size() > 1 && !items.empty()) {
      const std::size_t stride = dimensions[0] ? items.size() / dimensions[0] : 0;
      for (std::uint32_t i = 0; i < dimensions[0]; ++i)
        out.push_back(rows(items.subspan(i * stride, stride), dimensions.subspan(1)));
    } else {
      for (const auto& item : items) out.push_back(of(item));
    }
    return out;
  }
  template <class Make>
  Json nested(Make make) {
    if (depth_ >= kMostDepth) return nullptr;
    ++depth_;
    Json made = make();
    --depth_;
    return made;
  }

  const JsonOptions& options_;
  std::size_t depth_ = 0;
};

Json JsonEncoder::variant(const Variant& value) {
  if (value.isNull()) return nullptr;
  const auto dimensions = value.dimensions();
  return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) -> Json {
    if (!isReversible() && !isNewer())
      return value.isArray() ? rows(value.items<T>(), dimensions) : of(*value.get<T>());
    Json out{{isNewer() ? "UaType" : "Type", static_cast<int>(value.type())}};
    // Part 6, 5.4.2.17: a matrix is written flat, beside its dimensions.
    out[isNewer() ? "Value" : "Body"] = value.isArray() ? rows(value.items<T>(), {}) : of(*value.get<T>());
    if (!dimensions.empty()) out["Dimensions"] = std::vector<std::uint32_t>(dimensions.begin(), dimensions.end());
    return out;
  });
}

Json JsonEncoder::field(const FieldSchema& field, const Variant& value) {
  if (field.type == BuiltInType::Variant && !field.structure && !field.enumeration) return variant(value);
  if (value.isNull()) return nullptr;
  if (field.enumeration) return enumeration(*field.enumeration, *value.get<std::int32_t>());
  return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) -> Json { return of(*value.get<T>()); });
}

/// Builds {"Field": value, "List": [...]}.
class JsonWalker final : public StructureWalker {
 public:
  explicit JsonWalker(JsonEncoder& encoder) : encoder_(encoder) {}
  void value(const FieldSchema& field, const Variant& value) override {
    const bool isField = !open_.empty() && !open_.back().json.is_array() && !open_.back().isUnion;
    if (!isField || !encoder_.leavesOut(value)) put(field.name, encoder_.field(field, value));
  }
  void openStructure(const FieldSchema* field, const StructureSchema& schema, std::uint32_t selector) override {
    const bool isUnion = schema.kind == StructureSchema::Kind::Union;
    open(field ? field->name : std::string(), Json::object(), isUnion);
    if (schema.kind == StructureSchema::Kind::Plain || !encoder_.hasSelectors()) return;
    open_.back().json[isUnion ? "SwitchField" : "EncodingMask"] = selector;
  }
  void closeStructure() override { close(); }
  void openList(const FieldSchema& field) override { open(field.name, Json::array(), false); }
  void closeList() override { close(); }
  Json result;

 private:
  struct Open {
    std::string name;
    Json json;
    bool isUnion;
    Json held = nullptr;  // what a union is, where its value is all that is written
  };
  void open(std::string name, Json empty, bool isUnion) {
    open_.push_back({std::move(name), std::move(empty), isUnion});
  }
  void put(const std::string& name, Json value) {
    if (open_.empty())
      result = std::move(value);
    else if (open_.back().json.is_array())
      open_.back().json.push_back(std::move(value));
    else if (open_.back().isUnion && encoder_.isReversible())
      open_.back().json["Value"] = std::move(value);
    else if (open_.back().isUnion && encoder_.isUnionItsValue())
      open_.back().held = std::move(value);
    else if (!value.is_null() || !encoder_.hasSelectors())
      open_.back().json[name] = std::move(value);
  }
  void close() {
    Open done = std::move(open_.back());
    open_.pop_back();
    if (done.isUnion && encoder_.isUnionItsValue()) done.json = std::move(done.held);
    put(done.name, std::move(done.json));
  }
  JsonEncoder& encoder_;
  std::vector<Open> open_;
};

Json JsonEncoder::of(const ExtensionObject& v) {
  if (v.isNull()) return nullptr;
  return nested([&]() -> Json {
    JsonWalker walker(*this);
    const bool isKnown =
        v.body() != ExtensionObject::Body::None && depth_ < kMostDepth && walk(v, walker, *options_.types);
    if (isKnown) {
      if (isNewer()) {
        Json out{{"UaTypeId", of(options_.types->find(v.encodingId())->typeId)}};
        for (auto& [name, value] : walker.result.items()) out[name] = std::move(value);
        return out;
      }
      if (!isReversible()) return std::move(walker.result);
      return Json{{"TypeId", of(options_.types->find(v.encodingId())->typeId)}, {"Body", std::move(walker.result)}};
    }
    Json out{{isNewer() ? "UaTypeId" : "TypeId", of(v.encodingId())}};
    if (v.body() == ExtensionObject::Body::None) return out;
    const bool isXml = v.body() == ExtensionObject::Body::Xml;
    if (isReversible() || isNewer()) out[isNewer() ? "UaEncoding" : "Encoding"] = isXml ? 2 : 1;
    out[isNewer() ? "UaBody" : "Body"] = isXml ? std::string(v.octets().view()) : toBase64(v.octets().bytes());
    return out;
  });
}

Result<Json> JsonEncoder::structure(const StructureSchema& schema, BinaryReader& reader) {
  JsonWalker walker(*this);
  walk(schema, reader, walker);
  if (!reader.ok()) return reader.error();
  return std::move(walker.result);
}

}  // namespace

Json toJson(const Variant& value, const JsonOptions& options) { return JsonEncoder(options).variant(value); }

Json toJson(const Variant& value) { return toJson(value, {.form = JsonForm::Plain}); }

Result<Json> toJson(const StructureSchema& schema, BytesView binary, const JsonOptions& options) {
  BinaryReader reader(binary);
  return JsonEncoder(options).structure(schema, reader);
}

}  // namespace zunth::ua
