#pragma once

#include "core/ua/data_value.hpp"
#include "core/ua/extension_object.hpp"
#include "core/ua/structure_schema.hpp"

namespace zunth::ua {

/// Carries ids, names and values from one server's table of namespaces to another's (Part 3, 8.2.2): every NodeId,
/// ExpandedNodeId without a URI and QualifiedName gets its index there, inside structures, arrays and values of values,
/// too. A structure that the catalog doesn't know, or whose body is XML, stays as it is.
class Renumbering {
 public:
  /// `indexes` holds the new index by the old one; those beyond it stay. The catalog must live as long.
  Renumbering(std::vector<std::uint16_t> indexes, const TypeCatalog& types);

  /// Whether all stays as it is.
  bool isIdle() const { return isIdle_; }
  std::uint16_t operator()(std::uint16_t index) const { return index < indexes_.size() ? indexes_[index] : index; }
  NodeId operator()(const NodeId& id) const { return id.inNamespace((*this)(id.namespaceIndex())); }
  ExpandedNodeId operator()(const ExpandedNodeId& id) const;
  QualifiedName operator()(const QualifiedName& name) const;
  ExtensionObject operator()(const ExtensionObject& object) const;
  Variant operator()(const Variant& value) const;
  DataValue operator()(const DataValue& value) const;

 private:
  std::vector<std::uint16_t> indexes_;
  const TypeCatalog& types_;
  bool isIdle_ = true;
};

}  // namespace zunth::ua
