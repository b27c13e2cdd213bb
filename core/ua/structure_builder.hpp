#pragma once

#include "core/ua/binary_writer.hpp"
#include "core/ua/structure_schema.hpp"

#include <optional>

namespace zunth::ua {

/// The elements of a list or matrix of a document.
template <class Node>
struct Rows {
  std::vector<Node> elements;
  std::vector<std::int32_t> dimensions;  // of a matrix
};

/// Writes structures in binary from a document in which fields are found by their names: what the JSON and the XML
/// reader share. `Document` gives
///   using Node;                                                  // false when there is no such node
///   Node field(Node structure, const FieldSchema&);
///   std::optional<Rows<Node>> rows(Node list, const FieldSchema&);  // nothing for a null list
///   std::uint32_t selector(Node structure, const StructureSchema&);
///   Node held(Node union_, const FieldSchema&);                  // the value of the field that a union holds
///   template <class T> void read(Node, T&);                      // T{} where there is no node; errors stick
///   std::int32_t enumeration(Node, const EnumerationSchema&);
///   bool ok();  bool enter(std::string_view field);  void leave();
template <class Document>
class StructureBuilder {
 public:
  using Node = typename Document::Node;
  StructureBuilder(Document& document, BinaryWriter& writer) : document_(document), writer_(writer) {}

  void structure(Node node, const StructureSchema& schema) {
    if (schema.kind == StructureSchema::Kind::Plain) {
      for (const auto& field : schema.fields) one(document_.field(node, field), field);
      return;
    }
    const std::uint32_t selector = document_.selector(node, schema);
    writer_.write(selector);
    if (schema.kind == StructureSchema::Kind::Union) {
      if (selector == 0 || selector > schema.fields.size()) return;
      const auto& field = schema.fields[selector - 1];
      return one(document_.held(node, field), field);
    }
    std::uint32_t bit = 1;
    for (const auto& field : schema.fields) {
      const bool isThere = !field.isOptional || (selector & bit);
      if (field.isOptional) bit <<= 1;
      if (isThere) one(document_.field(node, field), field);
    }
  }

 private:
  void one(Node node, const FieldSchema& field) {
    if (!document_.ok() || !document_.enter(field.name)) return;
    if (field.valueRank == -1)
      element(node, field);
    else
      list(node, field);
    document_.leave();
  }
  void list(Node node, const FieldSchema& field) {
    const auto rows = document_.rows(node, field);
    if (!rows) return writer_.write(std::int32_t{-1});
    if (field.valueRank > 1) {
      writer_.write(static_cast<std::int32_t>(rows->dimensions.size()));
      for (const auto dimension : rows->dimensions) writer_.write(dimension);
    } else {
      writer_.write(static_cast<std::int32_t>(rows->elements.size()));
    }
    for (const auto& each : rows->elements)
      if (document_.ok()) element(each, field);
  }
  void element(Node node, const FieldSchema& field) {
    if (field.structure) return structure(node, *field.structure);
    if (field.enumeration) return writer_.write(document_.enumeration(node, *field.enumeration));
    visitBuiltIn(field.type, [&]<class T>(std::type_identity<T>) {
      T value{};
      document_.read(node, value);
      writer_.write(value);
    });
  }

  Document& document_;
  BinaryWriter& writer_;
};

}  // namespace zunth::ua
