#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/variant.hpp"

#include <bit>
#include <cstring>

namespace zunth::ua {

static_assert(std::endian::native == std::endian::little, "the wire is little-endian; this host must be too");

/// A structure of the standard or of a site: a plain struct that lists its fields once.
template <class T>
concept IsStructure = requires {
  T::kFieldCount;
};

/// Writes OPC UA Binary (Part 6, 5.2) to the end of a buffer.
class BinaryWriter {
 public:
  explicit BinaryWriter(Bytes& out) : out_(out) {}

  template <class T>
  requires(std::is_arithmetic_v<T> && !std::is_same_v<T, bool>) void write(T value) {
    std::memcpy(grow(sizeof value), &value, sizeof value);
  }
  void write(bool value) { write(static_cast<std::uint8_t>(value)); }
  template <class T>
  requires std::is_enum_v<T>
  void write(T value) { write(static_cast<std::int32_t>(value)); }
  void write(StatusCode value) { write(value.value); }
  void write(DateTime value) { write(value.ticks); }
  void write(const Octets& value);
  void write(const Guid& value);
  void write(const NodeId& value) { writeNodeId(value, 0); }
  void write(const ExpandedNodeId& value);
  void write(const QualifiedName& value);
  void write(const LocalizedText& value);
  void write(const Variant& value);
  void write(const DataValue& value);
  void write(const DiagnosticInfo& value);
  void write(const ExtensionObject& value);
  template <class T>
  void write(const List<T>& list) {
    write(list.isNull() ? std::int32_t{-1} : static_cast<std::int32_t>(list.size()));
    for (const auto& item : list) write(item);
  }
  template <IsStructure T>
  void write(const T& structure);

  std::size_t size() const { return out_.size(); }
  /// Appends raw octets.
  void raw(BytesView octets) {
    if (!octets.empty()) std::memcpy(grow(octets.size()), octets.data(), octets.size());
  }
  /// Overwrites four octets written earlier, as a length that is known only now.
  void patch(std::size_t at, std::uint32_t value) { std::memcpy(out_.data() + at, &value, sizeof value); }

 private:
  std::byte* grow(std::size_t n) {
    const std::size_t at = out_.size();
    out_.resize(at + n);
    return out_.data() + at;
  }
  void writeNodeId(const NodeId& value, std::uint8_t flags);

  Bytes& out_;
};

}  // namespace zunth::ua
