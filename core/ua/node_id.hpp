#pragma once

#include "core/ua/result.hpp"
#include "core/ua/strings.hpp"

#include <array>
#include <cstdint>
#include <functional>
#include <string>
#include <string_view>

namespace zunth::ua {

/// Guid (Part 6, 5.1.3), fields as the wire has them.
struct Guid {
  std::uint32_t data1 = 0;
  std::uint16_t data2 = 0;
  std::uint16_t data3 = 0;
  std::array<std::uint8_t, 8> data4{};

  /// "72962b91-fa75-4ae6-8d28-b404dc7daf63"
  std::string text() const;
  static Result<Guid> parse(std::string_view text);
  auto operator<=>(const Guid&) const = default;
};

/// A numeric identifier of namespace 0; a type of its own, so that it can't be taken for another number.
struct StandardId {
  std::uint32_t value;
};

enum class IdentifierType : std::uint8_t { Numeric = 0, String = 1, Guid = 2, Opaque = 3 };

/// NodeId (Part 3, 8.2): a namespace index and an identifier of one of four kinds. 16 bytes.
class NodeId {
 public:
  NodeId() = default;
  explicit NodeId(std::uint32_t numericIn0) : numeric_(numericIn0) {}
  NodeId(StandardId id) : numeric_(id.value) {}
  NodeId(std::uint16_t ns, std::uint32_t numeric) : namespace_(ns), numeric_(numeric) {}
  NodeId(std::uint16_t ns, String text) : namespace_(ns), type_(IdentifierType::String), octets_(std::move(text)) {}
  NodeId(std::uint16_t ns, const Guid& guid)
      : namespace_(ns), type_(IdentifierType::Guid), octets_(&guid, sizeof guid) {}
  NodeId(std::uint16_t ns, ByteString opaque)
      : namespace_(ns), type_(IdentifierType::Opaque), octets_(std::move(opaque)) {}

  std::uint16_t namespaceIndex() const { return namespace_; }
  IdentifierType type() const { return type_; }
  std::uint32_t numeric() const { return numeric_; }
  /// The identifier of a String or Opaque id, the 16 octets of a Guid.
  const Octets& octets() const { return octets_; }
  Guid guid() const;
  NodeId inNamespace(std::uint16_t ns) const;

  /// Part 3, 8.2.4: the null NodeId, and every id of namespace 0 with an empty identifier.
  bool isNull() const;
  bool isNumericIn0() const { return namespace_ == 0 && type_ == IdentifierType::Numeric; }
  bool is(StandardId id) const { return isNumericIn0() && numeric_ == id.value; }

  /// The standard's text form (Part 6, 5.3.1.10): "i=84", "ns=2;s=Hatchery/Intake".
  std::string text() const;
  /// BadNodeIdInvalid, naming what is wrong.
  static Result<NodeId> parse(std::string_view text);

  std::size_t hash() const;
  bool operator==(const NodeId& other) const {
    return numeric_ == other.numeric_ && namespace_ == other.namespace_ && type_ == other.type_ &&
           octets_.view() == other.octets_.view();
  }

 private:
  std::uint16_t namespace_ = 0;
  IdentifierType type_ = IdentifierType::Numeric;
  std::uint32_t numeric_ = 0;
  Octets octets_;
};
static_assert(sizeof(NodeId) == 16);

/// ExpandedNodeId (Part 3, 8.3): a NodeId that may name its namespace by URI and live in another server.
struct ExpandedNodeId {
  NodeId nodeId;
  String namespaceUri;
  std::uint32_t serverIndex = 0;

  ExpandedNodeId() = default;
  ExpandedNodeId(NodeId id) : nodeId(std::move(id)) {}
  ExpandedNodeId(StandardId id) : nodeId(id) {}

  bool isLocal() const { return namespaceUri.empty() && serverIndex == 0; }
  std::string text() const;
  static Result<ExpandedNodeId> parse(std::string_view text);
  bool operator==(const ExpandedNodeId&) const = default;
};

/// A URI as it stands before a semicolon in a text form (Part 6, 5.1.12): "%" and ";" escaped.
std::string escapedUri(std::string_view uri);
std::string unescapedUri(std::string_view text);

}  // namespace zunth::ua

template <>
struct std::hash<zunth::ua::NodeId> {
  std::size_t operator()(const zunth::ua::NodeId& id) const { return id.hash(); }
};
