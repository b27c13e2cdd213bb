#pragma once

#include "core/ua/variant.hpp"

#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

/// What structures are made of, for code that meets them by their ids: text, JSON, XML and traces.
namespace zunth::ua {

/// The members of an enumeration by value.
struct EnumerationSchema {
  std::string name;
  std::vector<std::pair<std::string, std::int32_t>> members;
  /// "Running_0", as JSON and XML write it (Part 6, 5.3.1.3 and 5.4.4); the bare number for an unknown value.
  std::string text(std::int32_t value) const;
};

struct StructureSchema;

/// One field in wire order. Of `structure`, `enumeration` and `type` the first that is set says what it holds.
struct FieldSchema {
  std::string name;  // as the standard writes it: "BrowseName"
  BuiltInType type = BuiltInType::Null;
  const StructureSchema* structure = nullptr;
  const EnumerationSchema* enumeration = nullptr;
  std::int32_t valueRank = -1;  // -1 for one value, 1 for a list, more for a matrix
  bool isOptional = false;
};

/// A structure, one with optional fields, or a union (Part 6, 5.2.6 to 5.2.8).
struct StructureSchema {
  enum class Kind { Plain, WithOptionalFields, Union };

  std::string name;
  Kind kind = Kind::Plain;
  NodeId typeId;
  NodeId binaryId, xmlId, jsonId;  // of its encodings; null where it has none
  std::vector<FieldSchema> fields;
};

/// Finds structures by their ids.
class TypeCatalog {
 public:
  /// The standard's structures alone, messages of services included.
  static const TypeCatalog& standard();
  /// What isn't added here is looked for among the standard's.
  TypeCatalog() : base_(&standard()) {}

  /// By the id of the data type or of any of its encodings; nullptr when it is unknown.
  const StructureSchema* find(const NodeId& typeOrEncoding) const;
  const StructureSchema* find(std::string_view name) const;
  /// The pointers stay valid for the life of the catalog.
  const StructureSchema* add(StructureSchema schema);
  const EnumerationSchema* add(EnumerationSchema schema);

 private:
  explicit TypeCatalog(std::nullptr_t) {}
  void addStandard();

  const TypeCatalog* base_ = nullptr;
  std::vector<std::unique_ptr<StructureSchema>> structures_;
  std::vector<std::unique_ptr<EnumerationSchema>> enumerations_;
  std::unordered_map<NodeId, const StructureSchema*> byId_;
  std::map<std::string, const StructureSchema*, std::less<>> byName_;
};

}  // namespace zunth::ua
