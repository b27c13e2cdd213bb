#include "core/ua/xml.hpp"

#include "core/ua/base64.hpp"
#include "core/ua/binary_reader.hpp"
#include "core/ua/document_reader.hpp"
#include "core/ua/document_time.hpp"
#include "core/ua/structure_builder.hpp"
#include "core/ua/structure_walk.hpp"
#include "core/ua/text.hpp"

#include <cmath>
#include <sstream>

#include <fmt/format.h>

namespace zunth::ua {
namespace {

pugi::xml_node append(pugi::xml_node parent, std::string_view name) {
  return parent.append_child(std::string(name).c_str());
}
/// What XML can't have in a text at all is marked, instead of cutting the text or making the document unreadable.
std::string allowedInXml(std::string_view text) {
  std::string out;
  for (const char c : text) {
    const bool isControl = static_cast<unsigned char>(c) < 0x20 && c != '\t' && c != '\n' && c != '\r';
    isControl ? out += "\uFFFD" : out += c;
  }
  return out;
}
void setText(pugi::xml_node at, std::string_view text) {
  at.append_child(pugi::node_pcdata).set_value(allowedInXml(text).c_str());
}
void appendText(pugi::xml_node parent, std::string_view name, std::string_view text) {
  setText(append(parent, name), text);
}
void setNil(pugi::xml_node at) {
  at.append_attribute("xmlns:xsi") = "http://www.w3.org/2001/XMLSchema-instance";
  at.append_attribute("xsi:nil") = "true";
}
/// The name of an element that holds a value of the type.
std::string_view elementName(BuiltInType type) {
  if (type == BuiltInType::ExtensionObject) return "ExtensionObject";
  return type == BuiltInType::Variant ? "Variant" : nameOf(type);
}
/// The name of an element of the field's lists.
std::string_view elementName(const FieldSchema& field) {
  if (field.structure) return field.structure->name;
  return field.enumeration ? std::string_view(field.enumeration->name) : elementName(field.type);
}
std::string_view localName(pugi::xml_node node) {
  const std::string_view name = node.name();
  const auto colon = name.find(':');
  return colon == std::string_view::npos ? name : name.substr(colon + 1);
}
bool isNil(pugi::xml_node node) {
  for (const auto attribute : node.attributes())
    if (std::string_view(attribute.name()).ends_with(":nil") && attribute.as_bool()) return true;
  return false;
}
pugi::xml_node firstElement(pugi::xml_node node) {
  for (const auto child : node.children())
    if (child.type() == pugi::node_element) return child;
  return {};
}
pugi::xml_node child(pugi::xml_node node, std::string_view name) {
  for (const auto each : node.children())
    if (each.type() == pugi::node_element && localName(each) == name) return each;
  return {};
}
std::string outerXml(pugi::xml_node node) {
  std::ostringstream out;
  node.print(out, "", pugi::format_raw);
  return out.str();
}

class XmlEncoder {
 public:
  explicit XmlEncoder(const TypeCatalog& types) : types_(types) {}

  /// The content of a Variant.
  void content(pugi::xml_node value, const Variant& content) {
    if (content.isNull()) return;
    visitBuiltIn(content.type(), [&]<class T>(std::type_identity<T>) {
      const auto name = elementName(content.type());
      if (!content.isArray()) return put(append(value, name), *content.get<T>());
      auto list = append(value, content.isMatrix() ? "Matrix" : fmt::format("ListOf{}", name));
      if (content.isMatrix()) {
        auto dimensions = append(list, "Dimensions");
        for (const auto dimension : content.dimensions()) appendText(dimensions, "UInt32", std::to_string(dimension));
        list = append(list, "Elements");
      }
      for (const auto& item : content.items<T>()) put(append(list, name), item);
    });
  }
  /// A value of a structure's field, or of one of its elements.
  void field(pugi::xml_node at, const FieldSchema& field, const Variant& value) {
    if (field.enumeration) return setText(at, field.enumeration->text(*value.get<std::int32_t>()));
    if (field.type == BuiltInType::Variant) return put(at, value);
    visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) { put(at, *value.get<T>()); });
  }
  /// The element of a known structure under `body`; false when it is none.
  bool structure(pugi::xml_node body, const ExtensionObject& object);

 private:
  template <class T>
  requires std::is_arithmetic_v<T>
  void put(pugi::xml_node at, T v) {
    if constexpr (std::is_floating_point_v<T>)
      if (std::isinf(v)) return setText(at, v > 0 ? "INF" : "-INF");
    if constexpr (std::is_floating_point_v<T>)
      if (std::isnan(v)) return setText(at, "NaN");
    setText(at, format(Variant(v)));
  }
  template <class T>
  requires std::is_base_of_v<Octets, T>
  void put(pugi::xml_node at, const T& v) {
    if (v.isNull()) return setNil(at);
    if constexpr (std::is_same_v<T, ByteString>) {
      setText(at, toBase64(v.bytes()));
    } else if constexpr (std::is_same_v<T, XmlElement>) {
      if (!at.append_buffer(v.view().data(), v.view().size())) setText(at, v.view());
    } else {
      setText(at, v.view());
    }
  }
  void put(pugi::xml_node at, DateTime v) { setText(at, documentTime(v)); }
  void put(pugi::xml_node at, const Guid& v) { appendText(at, "String", v.text()); }
  void put(pugi::xml_node at, const NodeId& v) { appendText(at, "Identifier", v.text()); }
  void put(pugi::xml_node at, const ExpandedNodeId& v) { appendText(at, "Identifier", v.text()); }
  void put(pugi::xml_node at, StatusCode v) { appendText(at, "Code", std::to_string(v.value)); }
  void put(pugi::xml_node at, const QualifiedName& v) {
    appendText(at, "NamespaceIndex", std::to_string(v.namespaceIndex));
    if (!v.name.isNull()) appendText(at, "Name", v.name.view());
  }
  void put(pugi::xml_node at, const LocalizedText& v) {
    if (!v.locale.isNull()) appendText(at, "Locale", v.locale.view());
    if (!v.text.isNull()) appendText(at, "Text", v.text.view());
  }
  void put(pugi::xml_node at, const Variant& v) {
    nested([&] { content(append(at, "Value"), v); });
  }
  void put(pugi::xml_node at, const DataValue& v) {
    nested([&] {
      if (!v.value.isNull()) put(append(at, "Value"), v.value);
      if (v.status.value) put(append(at, "StatusCode"), v.status);
      if (!v.sourceTimestamp.isNull()) put(append(at, "SourceTimestamp"), v.sourceTimestamp);
      if (v.sourcePicoseconds) put(append(at, "SourcePicoseconds"), v.sourcePicoseconds);
      if (!v.serverTimestamp.isNull()) put(append(at, "ServerTimestamp"), v.serverTimestamp);
      if (v.serverPicoseconds) put(append(at, "ServerPicoseconds"), v.serverPicoseconds);
    });
  }
  void put(pugi::xml_node at, const DiagnosticInfo& v) {
    nested([&] {
      auto optional = [&](const char* name, const auto& part) {
        if (part) put(append(at, name), *part);
      };
      optional("SymbolicId", v.symbolicId);
      optional("NamespaceUri", v.namespaceUri);
      optional("Locale", v.locale);
      optional("LocalizedText", v.localizedText);
      optional("AdditionalInfo", v.additionalInfo);
      optional("InnerStatusCode", v.innerStatusCode);
      if (v.inner) put(append(at, "InnerDiagnosticInfo"), *v.inner);
    });
  }
  void put(pugi::xml_node at, const ExtensionObject& v) {
    if (v.isNull()) return setNil(at);
    nested([&] {
      auto typeId = append(at, "TypeId");
      const auto* schema = v.body() == ExtensionObject::Body::Xml ? nullptr : types_.find(v.encodingId());
      if (schema && !schema->xmlId.isNull()) {
        auto body = append(at, "Body");
        if (structure(body, v)) return put(typeId, schema->xmlId);
        at.remove_child(body);
      }
      put(typeId, v.encodingId());
      if (v.body() == ExtensionObject::Body::None) return;
      auto body = append(at, "Body");
      if (v.body() == ExtensionObject::Body::Xml)
        put(body, XmlElement(v.octets().view()));
      else
        appendText(body, "ByteString", toBase64(v.octets().bytes()));
    });
  }
  template <class Put>
  void nested(Put put) {
    if (depth_ >= kMostDepth) return;
    ++depth_;
    put();
    --depth_;
  }

  const TypeCatalog& types_;
  std::size_t depth_ = 0;
};

/// Builds <Structure><Field>...</Field></Structure>.
class XmlWalker final : public StructureWalker {
 public:
  XmlWalker(XmlEncoder& encoder, pugi::xml_node at) : encoder_(encoder), open_{{at, Kind::Structure}} {}
  void value(const FieldSchema& field, const Variant& value) override {
    if (value.isNull() && (field.type != BuiltInType::Variant || field.valueRank != -1)) return;  // a null list
    encoder_.field(next(&field), field, value);
  }
  void openStructure(const FieldSchema* field, const StructureSchema& schema, std::uint32_t selector) override {
    auto at = field ? next(field) : append(open_.back().at, schema.name);
    if (!field) at.append_attribute("xmlns") = std::string(kXmlTypes).c_str();
    if (schema.kind != StructureSchema::Kind::Plain)
      appendText(at, schema.kind == StructureSchema::Kind::Union ? "SwitchField" : "EncodingMask",
                 std::to_string(selector));
    open_.push_back({at, Kind::Structure});
  }
  void closeStructure() override { open_.pop_back(); }
  void openList(const FieldSchema& field) override {
    if (field.valueRank <= 1) return open_.push_back({next(&field), Kind::List});
    // A matrix's rows are lists within lists; in XML all elements stand in one, beside the dimensions.
    if (open_.back().kind == Kind::Row) {
      ++open_.back().length;
      return open_.push_back({open_.back().at, Kind::Row});
    }
    const auto at = next(&field);
    append(at, "Dimensions");
    rows_.assign(static_cast<std::size_t>(field.valueRank), 0);
    open_.push_back({append(at, "Elements"), Kind::Row});
  }
  void closeList() override {
    const Open done = open_.back();
    open_.pop_back();
    if (done.kind != Kind::Row) return;
    std::size_t level = 0;
    for (auto i = open_.rbegin(); i != open_.rend() && i->kind == Kind::Row; ++i) ++level;
    if (level < rows_.size()) rows_[level] = done.length;
    if (level > 0) return;
    auto dimensions = child(done.at.parent(), "Dimensions");
    for (const auto rows : rows_) appendText(dimensions, "UInt32", std::to_string(rows));
  }

 private:
  enum class Kind { Structure, List, Row };
  struct Open {
    pugi::xml_node at;
    Kind kind;
    std::size_t length = 0;  // of a row
  };
  pugi::xml_node next(const FieldSchema* field) {
    Open& within = open_.back();
    ++within.length;
    return append(within.at, within.kind == Kind::Structure ? std::string_view(field->name) : elementName(*field));
  }
  XmlEncoder& encoder_;
  std::vector<Open> open_;
  std::vector<std::size_t> rows_;  // of the matrix that is open, by dimension
};

bool XmlEncoder::structure(pugi::xml_node body, const ExtensionObject& object) {
  XmlWalker walker(*this, body);
  return static_cast<bool>(walk(object, walker, types_));
}

/// Reads XML by the types that are expected. Errors stick: the first one is kept, with the path to it.
class XmlDecoder : public DocumentReader<XmlDecoder, pugi::xml_node> {
 public:
  explicit XmlDecoder(const TypeCatalog& types) : DocumentReader("/"), types_(types) {}

  static bool isThere(Node node) { return static_cast<bool>(node); }
  static Node member(Node structure, std::string_view name) { return child(structure, name); }
  static Node field(Node structure, const FieldSchema& field) { return child(structure, field.name); }
  static Node held(Node structure, const FieldSchema& field) { return child(structure, field.name); }
  std::optional<Rows<Node>> rows(Node list, const FieldSchema& field) {
    if (!list || isNil(list)) return std::nullopt;
    Rows<Node> out;
    if (field.valueRank > 1) {
      for (const auto each : child(list, "Dimensions").children())
        if (each.type() == pugi::node_element) read(each, out.dimensions.emplace_back());
      list = child(list, "Elements");
    }
    for (const auto each : list.children())
      if (each.type() == pugi::node_element) out.elements.push_back(each);
    if (field.valueRank > 1 && !multiplyTo(out.dimensions, out.elements.size()))
      fail(status::BadDecodingError, "a matrix's dimensions don't multiply to its length");
    return out;
  }

  template <class T>
  requires std::is_arithmetic_v<T>
  void read(Node node, T& v) { scalar(node, v); }
  template <class T>
  requires std::is_base_of_v<Octets, T>
  void read(Node node, T& v) {
    if (!node || isNil(node)) return;
    if constexpr (std::is_same_v<T, XmlElement>) {
      std::string inside;
      for (const auto each : node.children()) inside += outerXml(each);
      v = XmlElement(inside);
    } else if constexpr (std::is_same_v<T, ByteString>) {
      std::string packed;
      for (const char c : std::string_view(node.text().get()))
        if (!std::isspace(static_cast<unsigned char>(c))) packed += c;
      const auto octets = fromBase64(packed);
      if (!octets) return expected("octets in base64", node);
      v = ByteString(BytesView(*octets));
    } else {
      v = T(std::string_view(node.text().get()));
    }
  }
  void read(Node node, DateTime& v) {
    const std::string_view text = node.text().get();
    if (text.empty()) return;
    auto time = parseDocumentTime(text);
    if (!time) return expected("a time as 2026-05-04T07:30:00Z", node);
    v = *time;
  }
  void read(Node node, Guid& v) { scalar(child(node, "String"), v); }
  void read(Node node, NodeId& v) { scalar(child(node, "Identifier"), v); }
  void read(Node node, ExpandedNodeId& v) { scalar(child(node, "Identifier"), v); }
  void read(Node node, StatusCode& v) { scalar(child(node, "Code"), v.value); }
  void read(Node node, QualifiedName& v) {
    scalar(child(node, "NamespaceIndex"), v.namespaceIndex);
    read(child(node, "Name"), v.name);
  }
  void read(Node node, LocalizedText& v) {
    read(child(node, "Locale"), v.locale);
    read(child(node, "Text"), v.text);
  }
  void read(Node node, Variant& v) {
    if (const Node content = firstElement(child(node, "Value"))) v = variant(content);
  }
  void read(Node node, DataValue& v) {
    if (const Node value = child(node, "Value")) read(value, v.value);
    read(child(node, "StatusCode"), v.status);
    read(child(node, "SourceTimestamp"), v.sourceTimestamp);
    read(child(node, "SourcePicoseconds"), v.sourcePicoseconds);
    read(child(node, "ServerTimestamp"), v.serverTimestamp);
    read(child(node, "ServerPicoseconds"), v.serverPicoseconds);
  }
  void read(Node node, DiagnosticInfo& v) { readDiagnostics(node, v); }
  void read(Node node, ExtensionObject& v) {
    NodeId id;
    read(child(node, "TypeId"), id);
    const Node body = child(node, "Body");
    const Node inside = firstElement(body);
    if (!body) {
      if (!id.isNull()) v = ExtensionObject::withoutBody(id);
    } else if (localName(inside) == "ByteString") {
      ByteString octets;
      read(inside, octets);
      v = ExtensionObject::binary(id, std::move(octets));
    } else if (const auto* schema = types_.find(id)) {
      v = ExtensionObject::binary(schema->binaryId, ByteString(BytesView(structure(inside, *schema))));
    } else {
      // It passes through untouched, as an unknown binary one does.
      v = ExtensionObject::xml(id, XmlElement(outerXml(inside)));
    }
  }
  std::int32_t enumeration(Node node, const EnumerationSchema& schema) {
    const std::string_view text = node.text().get();
    if (text.empty()) return 0;
    for (const auto& [name, number] : schema.members)
      if (text == schema.text(number) || text == name) return number;
    std::int32_t value = 0;
    scalar(node, value);
    return value;
  }

  /// What an element as <Double>, <ListOfString> or <Matrix> holds.
  Variant variant(Node content) {
    Variant out;
    if (!enter(localName(content))) return out;
    std::string_view name = localName(content);
    Node list = content;
    std::vector<std::uint32_t> dimensions;
    const bool isMatrix = name == "Matrix";
    if (isMatrix) {
      for (const auto each : child(content, "Dimensions").children())
        if (each.type() == pugi::node_element) read(each, dimensions.emplace_back());
      list = child(content, "Elements");
      name = localName(firstElement(list));
    }
    const bool isList = isMatrix || name.starts_with("ListOf");
    if (!isMatrix && isList) name.remove_prefix(6);
    const auto type = builtInNamed(name);
    if (!type)
      fail(status::BadDecodingError, fmt::format("<{}> is no value of a built-in type", content.name()));
    else
      visitBuiltIn(*type, [&]<class T>(std::type_identity<T>) {
        if (isList) {
          std::vector<Node> elements;
          for (const auto each : list.children())
            if (each.type() == pugi::node_element) elements.push_back(each);
          FixedArray<T> items(elements.size());
          for (std::size_t i = 0; i < items.size() && ok(); ++i) read(elements[i], items[i]);
          if (isMatrix && !multiplyTo(dimensions, items.size()))
            return fail(status::BadDecodingError, "a matrix's dimensions don't multiply to its length");
          out = Variant::array(std::move(items), std::move(dimensions));
        } else if constexpr (!std::is_same_v<T, Variant>) {
          T value{};
          read(content, value);
          out = Variant(std::move(value));
        } else {
          read(content, out);
        }
      });
    leave();
    return out;
  }
  Bytes structure(Node node, const StructureSchema& schema) {
    Bytes out;
    BinaryWriter writer(out);
    if (!enter(schema.name)) return out;
    StructureBuilder<XmlDecoder>(*this, writer).structure(node, schema);
    leave();
    return out;
  }

 private:
  static std::optional<BuiltInType> builtInNamed(std::string_view name) {
    for (int type = 1; type <= 25; ++type)
      if (elementName(static_cast<BuiltInType>(type)) == name) return static_cast<BuiltInType>(type);
    return std::nullopt;
  }
  template <class Numbers>
  static bool multiplyTo(const Numbers& dimensions, std::size_t length) {
    if (dimensions.size() > kMostDimensions) return false;
    std::uint64_t product = 1;
    for (const auto dimension : dimensions)
      product = std::min<std::uint64_t>(product * static_cast<std::uint32_t>(dimension), UINT32_MAX);
    return product == length;
  }
  template <class T>
  void scalar(Node node, T& v) {
    if (!node || isNil(node)) return;
    const std::string_view text = node.text().get();
    if (text.empty()) return;
    auto parsed = parse(text, BuiltIn<T>::type);
    if (!parsed) return expected(fmt::format("a {}", nameOf(BuiltIn<T>::type)), node);
    v = *parsed->template get<T>();
  }
  void expected(std::string_view what, Node found) {
    std::string text = found.text().get();
    if (text.size() > 40) text = text.substr(0, 40) + "...";
    fail(status::BadDecodingError, fmt::format("{} was expected in <{}>, not '{}'", what, found.name(), text));
  }
  const TypeCatalog& types_;
};

}  // namespace

void toXml(pugi::xml_node value, const Variant& content, const TypeCatalog& types) {
  XmlEncoder(types).content(value, content);
}

Result<Variant> variantFromXml(pugi::xml_node content, const TypeCatalog& types) {
  if (!content) return Variant();
  XmlDecoder decoder(types);
  Variant value = decoder.variant(content);
  if (!decoder.ok()) return decoder.error();
  return value;
}

Result<ExtensionObject> withXmlBody(const ExtensionObject& object, const TypeCatalog& types) {
  if (object.body() == ExtensionObject::Body::Xml) return object;
  const auto* schema = types.find(object.encodingId());
  pugi::xml_document document;
  if (!schema || schema->xmlId.isNull() || !XmlEncoder(types).structure(document, object))
    return Error{status::BadDataEncodingUnsupported,
                 "the structure " + object.encodingId().text() + " can't be written as XML",
                 {}};
  return ExtensionObject::xml(schema->xmlId, XmlElement(outerXml(document.document_element())));
}

Result<ExtensionObject> withBinaryBody(const ExtensionObject& object, const TypeCatalog& types) {
  if (object.body() != ExtensionObject::Body::Xml) return object;
  const auto* schema = types.find(object.encodingId());
  if (!schema)
    return Error{status::BadDataTypeIdUnknown, "no structure has the encoding " + object.encodingId().text(), {}};
  pugi::xml_document document;
  const auto text = object.octets().view();
  if (const auto parsed = document.load_buffer(text.data(), text.size()); !parsed)
    return Error{status::BadDecodingError, fmt::format("the body is no XML: {}", parsed.description()), {}};
  XmlDecoder decoder(types);
  Bytes body = decoder.structure(document.document_element(), *schema);
  if (!decoder.ok()) return decoder.error();
  return ExtensionObject::binary(schema->binaryId, ByteString(BytesView(body)));
}

}  // namespace zunth::ua
