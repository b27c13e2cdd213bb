#include "core/ua/json.hpp"

#include "core/ua/base64.hpp"
#include "core/ua/binary_reader.hpp"
#include "core/ua/document_reader.hpp"
#include "core/ua/document_time.hpp"
#include "core/ua/json_parser.hpp"
#include "core/ua/structure_builder.hpp"
#include "core/ua/structure_walk.hpp"

#include <charconv>
#include <cmath>

#include <fmt/format.h>

namespace zunth::ua {
namespace {

class JsonEncoder {
 public:
  explicit JsonEncoder(const JsonOptions& options) : options_(options) {}

  Json variant(const Variant& value);
  Json enumeration(const EnumerationSchema& schema, std::int32_t value) {
    return isReversible() ? Json(value) : Json(schema.text(value));
  }
  /// A value of a structure's field, or of one of the field's elements.
  Json field(const FieldSchema& field, const Variant& value);
  Result<Json> structure(const StructureSchema& schema, BinaryReader& reader);
  bool isReversible() const { return options_.form == JsonForm::Reversible; }

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
  /// The namespace of an id or a name (5.4.2.10): by index where it is reversible, else by URI; 0 is left out.
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
    Json out = idObject(v);
    putNamespace(out, "Namespace", v.namespaceIndex());
    return out;
  }
  Json of(const ExpandedNodeId& v) {
    if (isPlain()) return v.text();
    Json out = idObject(v.nodeId);
    if (v.namespaceUri.isNull())
      putNamespace(out, "Namespace", v.nodeId.namespaceIndex());
    else
      out["Namespace"] = v.namespaceUri.view();
    if (v.serverIndex) out["ServerUri"] = v.serverIndex;
    return out;
  }
  Json of(StatusCode v) {
    if (isReversible()) return v.value;
    if (v.value == 0 && !isPlain()) return nullptr;
    return Json{{"Code", v.value}, {"Symbol", v.name()}};
  }
  Json of(const QualifiedName& v) {
    if (isPlain()) return v.text();
    Json out{{"Name", of(v.name)}};
    putNamespace(out, "Uri", v.namespaceIndex);
    return out;
  }
  Json of(const LocalizedText& v) {
    if (!isReversible()) return of(v.text);
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
      if (!v.value.isNull() || isPlain()) out["Value"] = variant(v.value);
      if (v.status.value) out["Status"] = of(v.status);
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
    if (!isReversible()) return value.isArray() ? rows(value.items<T>(), dimensions) : of(*value.get<T>());
    Json out{{"Type", static_cast<int>(value.type())}};
    // Part 6, 5.4.2.17: a matrix is written flat, beside its dimensions.
    out["Body"] = value.isArray() ? rows(value.items<T>(), {}) : of(*value.get<T>());
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
  void value(const FieldSchema& field, const Variant& value) override { put(field.name, encoder_.field(field, value)); }
  void openStructure(const FieldSchema* field, const StructureSchema& schema, std::uint32_t selector) override {
    const bool isUnion = schema.kind == StructureSchema::Kind::Union;
    open(field ? field->name : std::string(), Json::object(), isUnion);
    if (schema.kind == StructureSchema::Kind::Plain || !encoder_.isReversible()) return;
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
    else if (!value.is_null() || !encoder_.isReversible())
      open_.back().json[name] = std::move(value);
  }
  void close() {
    Open done = std::move(open_.back());
    open_.pop_back();
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
      if (!isReversible()) return std::move(walker.result);
      return Json{{"TypeId", of(options_.types->find(v.encodingId())->typeId)}, {"Body", std::move(walker.result)}};
    }
    Json out{{"TypeId", of(v.encodingId())}};
    if (v.body() == ExtensionObject::Body::None) return out;
    const bool isXml = v.body() == ExtensionObject::Body::Xml;
    if (isReversible()) out["Encoding"] = isXml ? 2 : 1;
    out["Body"] = isXml ? std::string(v.octets().view()) : toBase64(v.octets().bytes());
    return out;
  });
}

Result<Json> JsonEncoder::structure(const StructureSchema& schema, BinaryReader& reader) {
  JsonWalker walker(*this);
  walk(schema, reader, walker);
  if (!reader.ok()) return reader.error();
  return std::move(walker.result);
}

/// Reads JSON by the types that are expected. Errors stick: the first one is kept, with the path to it.
class JsonDecoder : public DocumentReader<JsonDecoder, const Json*> {
 public:
  explicit JsonDecoder(const TypeCatalog& types) : DocumentReader("."), types_(types) {}

  static bool isThere(Node node) { return node && !node->is_null(); }
  static Node member(Node object, std::string_view name) {
    if (!object || !object->is_object()) return nullptr;
    const auto found = object->find(name);
    return found == object->end() ? nullptr : &*found;
  }
  static Node field(Node structure, const FieldSchema& field) { return member(structure, field.name); }
  static Node held(Node structure, const FieldSchema& field) {
    const Node value = member(structure, "Value");
    return value ? value : member(structure, field.name);
  }
  std::optional<Rows<Node>> rows(Node list, const FieldSchema& field) {
    if (!isThere(list)) return std::nullopt;
    Rows<Node> out;
    if (!list->is_array()) {
      expected("a list", *list);
      return out;
    }
    collect(*list, std::max(field.valueRank, 1), 0, out);
    return out;
  }

  void read(Node node, bool& v) {
    if (!isThere(node)) return;
    if (!node->is_boolean()) return expected("true or false", *node);
    v = node->get<bool>();
  }
  template <class T>
  requires(std::is_integral_v<T> && !std::is_same_v<T, bool>) void read(Node node, T& v) {
    if (!isThere(node)) return;
    if (node->is_number_integer()) {
      const bool fits = node->is_number_unsigned() ? std::in_range<T>(node->get<std::uint64_t>())
                                                   : std::in_range<T>(node->get<std::int64_t>());
      if (!fits) return expected(fmt::format("a {}", nameOf(BuiltIn<T>::type)), *node);
      v = static_cast<T>(node->is_number_unsigned() ? node->get<std::uint64_t>()
                                                    : static_cast<std::uint64_t>(node->get<std::int64_t>()));
      return;
    }
    const auto* text = node->get_ptr<const std::string*>();
    if (!text) return expected("an integer", *node);
    const auto [end, failure] = std::from_chars(text->data(), text->data() + text->size(), v);
    if (failure != std::errc() || end != text->data() + text->size()) expected("an integer", *node);
  }
  template <class T>
  requires std::is_floating_point_v<T>
  void read(Node node, T& v) {
    if (!isThere(node)) return;
    if (node->is_number()) {
      v = static_cast<T>(node->get<double>());
      return;
    }
    if (*node == "NaN")
      v = std::numeric_limits<T>::quiet_NaN();
    else if (*node == "Infinity")
      v = std::numeric_limits<T>::infinity();
    else if (*node == "-Infinity")
      v = -std::numeric_limits<T>::infinity();
    else
      expected("a number", *node);
  }
  template <class T>
  requires std::is_base_of_v<Octets, T>
  void read(Node node, T& v) {
    if (!isThere(node)) return;
    const auto* text = node->get_ptr<const std::string*>();
    if (!text) return expected("a text", *node);
    if constexpr (std::is_same_v<T, ByteString>) {
      const auto octets = fromBase64(*text);
      if (!octets) return expected("octets in base64", *node);
      v = ByteString(BytesView(*octets));
    } else {
      v = T(std::string_view(*text));
    }
  }
  void read(Node node, DateTime& v) {
    if (!isThere(node)) return;
    const auto* text = node->get_ptr<const std::string*>();
    auto time = text ? parseDocumentTime(*text) : Result<DateTime>(status::BadDecodingError);
    if (!time) return expected("a time as 2026-05-04T07:30:00Z", *node);
    v = *time;
  }
  void read(Node node, Guid& v) { readText<Guid>(node, v, "a Guid"); }
  void read(Node node, NodeId& v) {
    if (!isThere(node)) return;
    if (node->is_string()) return readText<NodeId>(node, v, "a node id");
    std::uint16_t ns = 0;
    read(member(node, "Namespace"), ns);
    v = identifier(node, ns);
  }
  void read(Node node, ExpandedNodeId& v) {
    if (!isThere(node)) return;
    if (node->is_string()) return readText<ExpandedNodeId>(node, v, "a node id");
    std::uint16_t ns = 0;
    const Node named = member(node, "Namespace");
    if (named && named->is_string())
      read(named, v.namespaceUri);
    else
      read(named, ns);
    v.nodeId = identifier(node, ns);
    read(member(node, "ServerUri"), v.serverIndex);
  }
  void read(Node node, StatusCode& v) {
    if (!isThere(node)) return;
    read(node->is_object() ? member(node, "Code") : node, v.value);
  }
  void read(Node node, QualifiedName& v) {
    if (!isThere(node)) return;
    if (node->is_string()) {
      v = QualifiedName::parse(node->get_ref<const std::string&>());
      return;
    }
    if (!node->is_object()) return expected("a qualified name", *node);
    read(member(node, "Name"), v.name);
    read(member(node, "Uri"), v.namespaceIndex);
  }
  void read(Node node, LocalizedText& v) {
    if (!isThere(node)) return;
    if (node->is_string()) return read(node, v.text);
    if (!node->is_object()) return expected("a localized text", *node);
    read(member(node, "Locale"), v.locale);
    read(member(node, "Text"), v.text);
  }
  void read(Node node, Variant& v);
  void read(Node node, DataValue& v) {
    if (!isThere(node)) return;
    if (!node->is_object()) return expected("a value with its status and times", *node);
    if (!enter("Value")) return;
    read(member(node, "Value"), v.value);
    leave();
    read(member(node, "Status"), v.status);
    read(member(node, "SourceTimestamp"), v.sourceTimestamp);
    read(member(node, "SourcePicoseconds"), v.sourcePicoseconds);
    read(member(node, "ServerTimestamp"), v.serverTimestamp);
    read(member(node, "ServerPicoseconds"), v.serverPicoseconds);
  }
  void read(Node node, DiagnosticInfo& v) {
    if (!isThere(node)) return;
    readDiagnostics(node, v);
  }
  void read(Node node, ExtensionObject& v);
  std::int32_t enumeration(Node node, const EnumerationSchema& schema) {
    std::int32_t value = 0;
    if (!isThere(node)) return value;
    const auto* text = node->get_ptr<const std::string*>();
    if (!text) {
      read(node, value);
      return value;
    }
    for (const auto& [name, number] : schema.members)
      if (*text == name || *text == schema.text(number)) return number;
    expected("a member of " + schema.name, *node);
    return value;
  }
  Bytes structure(Node node, const StructureSchema& schema) {
    Bytes out;
    BinaryWriter writer(out);
    if (isThere(node) && !node->is_object()) expected("the fields of " + schema.name, *node);
    if (ok()) StructureBuilder<JsonDecoder>(*this, writer).structure(node, schema);
    return out;
  }

 private:
  template <class T>
  void readText(Node node, T& v, std::string_view what) {
    if (!isThere(node)) return;
    const auto* text = node->get_ptr<const std::string*>();
    auto parsed = text ? T::parse(*text) : Result<T>(status::BadDecodingError);
    if (!parsed) return expected(what, *node);
    v = std::move(*parsed);
  }
  NodeId identifier(Node node, std::uint16_t ns) {
    std::uint8_t kind = 0;
    read(member(node, "IdType"), kind);
    const Node id = member(node, "Id");
    if (!id) {
      expected("a node id", *node);
      return {};
    }
    switch (kind) {
      case 0: {
        std::uint32_t number = 0;
        read(id, number);
        return NodeId(ns, number);
      }
      case 1: return NodeId(ns, get<String>(id));
      case 2: return NodeId(ns, get<Guid>(id));
      case 3: return NodeId(ns, get<ByteString>(id));
      default: expected("a node id", *node); return {};
    }
  }
  template <class T>
  T get(Node node) {
    T value{};
    read(node, value);
    return value;
  }
  void collect(const Json& list, std::int32_t rank, std::size_t level, Rows<Node>& out) {
    if (out.dimensions.size() <= level)
      out.dimensions.push_back(static_cast<std::int32_t>(list.size()));
    else if (static_cast<std::size_t>(out.dimensions[level]) != list.size())
      return expected("rows of one length", list);
    for (const auto& each : list) {
      if (rank == 1)
        out.elements.push_back(&each);
      else if (each.is_array())
        collect(each, rank - 1, level + 1, out);
      else
        return expected("a row", each);
    }
  }
  void expected(std::string_view what, const Json& found) {
    fail(status::BadDecodingError, fmt::format("{} was expected, not {}", what, describe(found)));
  }
  const TypeCatalog& types_;
};

void JsonDecoder::read(Node node, Variant& v) {
  if (!isThere(node)) return;
  std::uint8_t kind = 0;
  read(member(node, "Type"), kind);
  if (!node->is_object() || kind > 25) return expected("a value with its type", *node);
  if (kind == 0 || !enter("Body")) return;
  const Node body = member(node, "Body");
  std::vector<std::uint32_t> dimensions;
  if (const Node written = member(node, "Dimensions"); written && written->is_array())
    for (const auto& each : *written) read(&each, dimensions.emplace_back());
  if (dimensions.size() > kMostDimensions) fail(status::BadEncodingLimitsExceeded, "a matrix has too many dimensions");
  visitBuiltIn(static_cast<BuiltInType>(kind), [&]<class T>(std::type_identity<T>) {
    if (body && body->is_array()) {
      FixedArray<T> items(body->size());
      for (std::size_t i = 0; i < items.size() && ok(); ++i) read(&(*body)[i], items[i]);
      std::uint64_t product = 1;
      for (const auto dimension : dimensions) product = std::min<std::uint64_t>(product * dimension, UINT32_MAX);
      if (!dimensions.empty() && product != items.size())
        return fail(status::BadDecodingError, "a matrix's dimensions don't multiply to its length");
      if (dimensions.size() == 1) dimensions.clear();
      v = Variant::array(std::move(items), std::move(dimensions));
    } else if constexpr (!std::is_same_v<T, Variant>) {
      T value{};
      read(body, value);
      v = Variant(std::move(value));
    } else {
      expected("a list", *node);
    }
  });
  leave();
}

void JsonDecoder::read(Node node, ExtensionObject& v) {
  if (!isThere(node)) return;
  if (!node->is_object()) return expected("a structure with its type", *node);
  const auto id = get<NodeId>(member(node, "TypeId"));
  std::uint8_t encoding = 0;
  read(member(node, "Encoding"), encoding);
  const Node body = member(node, "Body");
  if (!ok()) return;
  if (!isThere(body)) {
    v = ExtensionObject::withoutBody(id);
  } else if (encoding == 1) {
    v = ExtensionObject::binary(id, get<ByteString>(body));
  } else if (encoding == 2) {
    v = ExtensionObject::xml(id, get<XmlElement>(body));
  } else if (const auto* schema = types_.find(id)) {
    if (!enter(schema->name)) return;
    v = ExtensionObject::binary(schema->binaryId, ByteString(BytesView(structure(body, *schema))));
    leave();
  } else {
    fail(status::BadDataTypeIdUnknown, "no structure has the id " + id.text());
  }
}

}  // namespace

Json toJson(const Variant& value, const JsonOptions& options) { return JsonEncoder(options).variant(value); }

Json toJson(const Variant& value) { return toJson(value, {.form = JsonForm::Plain}); }

Result<Json> toJson(const StructureSchema& schema, BytesView binary, const JsonOptions& options) {
  BinaryReader reader(binary);
  return JsonEncoder(options).structure(schema, reader);
}

Result<Variant> variantFromJson(const Json& json, const TypeCatalog& types) {
  JsonDecoder decoder(types);
  Variant value;
  decoder.read(&json, value);
  if (!decoder.ok()) return decoder.error();
  return value;
}

Result<NodeId> nodeIdFromJson(const Json& json) {
  JsonDecoder decoder(TypeCatalog::standard());
  NodeId id;
  decoder.read(&json, id);
  if (!decoder.ok()) return decoder.error();
  return id;
}

Result<Bytes> structureFromJson(const Json& json, const StructureSchema& schema, const TypeCatalog& types) {
  JsonDecoder decoder(types);
  Bytes out = decoder.structure(&json, schema);
  if (!decoder.ok()) return decoder.error();
  return out;
}

}  // namespace zunth::ua
