#include "core/ua/base64.hpp"
#include "core/ua/binary_reader.hpp"
#include "core/ua/document_reader.hpp"
#include "core/ua/document_time.hpp"
#include "core/ua/json.hpp"
#include "core/ua/json_parser.hpp"
#include "core/ua/structure_builder.hpp"

#include <charconv>

#include <fmt/format.h>

namespace zunth::ua {
namespace {

/// Reads JSON by the types that are expected. Errors stick: the first one is kept, with the path to it.
class JsonDecoder : public DocumentReader<JsonDecoder, const Json*> {
 public:
  explicit JsonDecoder(const TypeCatalog& types, std::span<const String> namespaceUris = {})
      : DocumentReader("."), types_(types), namespaceUris_(namespaceUris) {}

  static bool isThere(Node node) { return node && !node->is_null(); }
  static Node member(Node object, std::string_view name) {
    if (!object || !object->is_object()) return nullptr;
    const auto found = object->find(name);
    return found == object->end() ? nullptr : &*found;
  }
  /// The name in 1.05, or the one before.
  static Node either(Node object, std::string_view now, std::string_view before) {
    const Node found = member(object, now);
    return found ? found : member(object, before);
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
    if (node->is_string()) {
      ExpandedNodeId named;
      readText<ExpandedNodeId>(node, named, "a node id");
      v = std::move(named.nodeId);
      if (!named.namespaceUri.isNull()) v = v.inNamespace(indexOf(named.namespaceUri.view(), *node));
      return;
    }
    std::uint16_t ns = 0;
    readNamespace(member(node, "Namespace"), ns);
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
    if (const auto* text = node->get_ptr<const std::string*>()) {
      // 1.05: "nsu=URI;name" beside "2:name". A semicolon in the URI is escaped.
      const auto end = text->find(';');
      if (text->starts_with("nsu=") && end != std::string::npos)
        v = {indexOf(unescapedUri(std::string_view(*text).substr(4, end - 4)), *node), String(text->substr(end + 1))};
      else
        v = QualifiedName::parse(*text);
      return;
    }
    if (!node->is_object()) return expected("a qualified name", *node);
    read(member(node, "Name"), v.name);
    readNamespace(member(node, "Uri"), v.namespaceIndex);
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
    if (member(node, "UaType")) {
      read(node, v.value);  // 1.05: the value's type stands beside its status
    } else {
      if (!enter("Value")) return;
      read(member(node, "Value"), v.value);
      leave();
    }
    read(either(node, "StatusCode", "Status"), v.status);
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
  /// By index, or by URI where the indexes are known (1.04, not reversible).
  void readNamespace(Node node, std::uint16_t& v) {
    if (isThere(node) && node->is_string())
      v = indexOf(node->get_ref<const std::string&>(), *node);
    else
      read(node, v);
  }
  std::uint16_t indexOf(std::string_view uri, const Json& found) {
    for (std::size_t i = 0; i < namespaceUris_.size() && i <= UINT16_MAX; ++i)
      if (namespaceUris_[i].view() == uri) return static_cast<std::uint16_t>(i);
    if (uri == "http://opcfoundation.org/UA/") return 0;
    expected("a namespace that is known here", found);
    return 0;
  }
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
  std::span<const String> namespaceUris_;
};

void JsonDecoder::read(Node node, Variant& v) {
  if (!isThere(node)) return;
  std::uint8_t kind = 0;
  read(either(node, "UaType", "Type"), kind);
  if (!node->is_object() || kind > 25) return expected("a value with its type", *node);
  const char* const name = member(node, "UaType") ? "Value" : "Body";
  if (kind == 0 || !enter(name)) return;
  const Node body = member(node, name);
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
  const bool isInLine = member(node, "UaTypeId");  // 1.05: the fields stand beside their type
  const auto id = get<NodeId>(member(node, isInLine ? "UaTypeId" : "TypeId"));
  std::uint8_t encoding = 0;
  read(member(node, isInLine ? "UaEncoding" : "Encoding"), encoding);
  const Node body = isInLine && encoding == 0 ? node : member(node, isInLine ? "UaBody" : "Body");
  if (!ok()) return;
  if (isInLine && id.isNull()) return;
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

Result<Variant> variantFromJson(const Json& json, const TypeCatalog& types, std::span<const String> namespaceUris) {
  JsonDecoder decoder(types, namespaceUris);
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

Result<Bytes> structureFromJson(const Json& json, const StructureSchema& schema, const TypeCatalog& types,
                                std::span<const String> namespaceUris) {
  JsonDecoder decoder(types, namespaceUris);
  Bytes out = decoder.structure(&json, schema);
  if (!decoder.ok()) return decoder.error();
  return out;
}

}  // namespace zunth::ua
