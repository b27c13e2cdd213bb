#include "core/ua/binary_reader.hpp"

#include "core/ua/structure_codec.hpp"

#include <fmt/format.h>

namespace zunth::ua {

Error BinaryReader::error() const { return {error_, fmt::format("{} (at octet {})", what_, failedAt_), {}}; }

std::int32_t BinaryReader::readLength(std::uint32_t most, const char* what) {
  const auto length = next<std::int32_t>();
  if (length < -1) fail(status::BadDecodingError, "a length is negative");
  if (length < 0) return -1;  // Part 6, 5.2.2.4: null
  if (static_cast<std::size_t>(length) > remaining()) {
    fail(status::BadDecodingError, "a length goes beyond the end of the message");
    return 0;
  }
  if (static_cast<std::uint32_t>(length) > most) {
    fail(status::BadEncodingLimitsExceeded, what[0] == 's' ? "a string is too long" : "an array is too long");
    return 0;
  }
  return length;
}

BytesView BinaryReader::readOctets(bool& isNull) {
  const auto length = readLength(limits_.maxStringLength, "string");
  isNull = length < 0 || !ok();
  if (length <= 0 || !addPart()) return {};
  const std::byte* from = take(static_cast<std::size_t>(length));
  return from ? BytesView(from, static_cast<std::size_t>(length)) : BytesView();
}

void BinaryReader::read(String& value) {
  bool isNull = false;
  const auto octets = readOctets(isNull);
  value = isNull ? String() : String(std::string_view(reinterpret_cast<const char*>(octets.data()), octets.size()));
}

void BinaryReader::read(ByteString& value) {
  bool isNull = false;
  const auto octets = readOctets(isNull);
  value = isNull ? ByteString() : ByteString(octets);
}

void BinaryReader::read(XmlElement& value) {
  bool isNull = false;
  const auto octets = readOctets(isNull);
  value =
      isNull ? XmlElement() : XmlElement(std::string_view(reinterpret_cast<const char*>(octets.data()), octets.size()));
}

void BinaryReader::read(Guid& value) {
  read(value.data1);
  read(value.data2);
  read(value.data3);
  if (const std::byte* from = take(value.data4.size())) std::memcpy(value.data4.data(), from, value.data4.size());
}

void BinaryReader::readIdentifier(std::uint8_t kind, NodeId& value) {
  switch (kind) {
    case 0: value = NodeId(next<std::uint8_t>()); return;
    case 1: {
      const auto ns = next<std::uint8_t>();
      value = NodeId(ns, next<std::uint16_t>());
      return;
    }
    case 2: {
      const auto ns = next<std::uint16_t>();
      value = NodeId(ns, next<std::uint32_t>());
      return;
    }
    case 3: {
      const auto ns = next<std::uint16_t>();
      value = NodeId(ns, next<String>());
      return;
    }
    case 4: {
      const auto ns = next<std::uint16_t>();
      value = NodeId(ns, next<Guid>());
      return;
    }
    case 5: {
      const auto ns = next<std::uint16_t>();
      value = NodeId(ns, next<ByteString>());
      return;
    }
    default: fail(status::BadDecodingError, "a node id has an unknown encoding"); value = NodeId();
  }
}

void BinaryReader::read(NodeId& value) { readIdentifier(next<std::uint8_t>(), value); }

void BinaryReader::read(ExpandedNodeId& value) {
  const auto kind = next<std::uint8_t>();
  value = ExpandedNodeId();
  readIdentifier(kind & 0x3F, value.nodeId);
  if (kind & 0x80) read(value.namespaceUri);
  if (kind & 0x40) read(value.serverIndex);
}

void BinaryReader::read(QualifiedName& value) {
  read(value.namespaceIndex);
  read(value.name);
}

void BinaryReader::read(LocalizedText& value) {
  const auto mask = next<std::uint8_t>();
  value = LocalizedText();
  if (mask & 1) read(value.locale);
  if (mask & 2) read(value.text);
}

void BinaryReader::readArray(BuiltInType type, bool hasDimensions, Variant& value) {
  visitBuiltIn(type, [&]<class T>(std::type_identity<T>) {
    const auto length = readLength(limits_.maxArrayLength, "array");
    FixedArray<T> items;
    if (!addPart()) return;
    if constexpr (std::is_arithmetic_v<T> && !std::is_same_v<T, bool>) {
      const std::size_t octets = static_cast<std::size_t>(std::max(length, 0)) * sizeof(T);
      const std::byte* from = take(octets);
      if (!from) return;
      items = FixedArray<T>(octets / sizeof(T));
      if (octets) std::memcpy(items.begin(), from, octets);
    } else {
      if (!charge(static_cast<std::size_t>(std::max(length, 0)) * sizeof(T))) return;
      // Elements that may hold others take their time, too.
      constexpr std::int32_t kElementsOfPart = 4;
      for (std::int32_t i = kElementsOfPart; !detail::kInline<T> && i <= length; i += kElementsOfPart)
        if (!addPart()) return;
      items = FixedArray<T>(static_cast<std::size_t>(std::max(length, 0)));
      for (std::size_t i = 0; i < items.size() && ok(); ++i) read(items[i]);
      if (!ok()) return;
    }
    std::vector<std::uint32_t> dimensions;
    if (hasDimensions) {
      const auto count = readLength(limits_.maxArrayLength, "array");
      if (count > static_cast<std::int32_t>(limits_.maxDimensions))
        fail(status::BadEncodingLimitsExceeded, "a matrix has too many dimensions");
      std::uint64_t product = 1;
      for (std::int32_t i = 0; i < count && ok(); ++i) {
        const auto dimension = next<std::int32_t>();
        if (dimension > 0 && static_cast<std::uint32_t>(dimension) > limits_.maxArrayLength)
          fail(status::BadEncodingLimitsExceeded, "a matrix has too many rows");
        dimensions.push_back(static_cast<std::uint32_t>(std::max(dimension, 0)));
        product = std::min<std::uint64_t>(product * dimensions.back(), UINT32_MAX);
      }
      if (ok() && count > 0 && product != items.size())
        fail(status::BadDecodingError, "a matrix's dimensions don't multiply to its length");
      if (dimensions.size() == 1) dimensions.clear();
    }
    if (ok()) value = Variant::array(std::move(items), std::move(dimensions));
  });
}

void BinaryReader::read(Variant& value) {
  value = Variant();
  const auto mask = next<std::uint8_t>();
  const auto kind = static_cast<std::uint8_t>(mask & 0x3F);
  const bool isArray = mask & 0x80, hasDimensions = mask & 0x40;
  if (kind == 0) return;
  // Part 6, table 16: 26 to 31 are reserved and read as ByteString.
  if (kind > 31) return fail(status::BadDecodingError, "a Variant has an unknown type");
  const auto type = kind > 25 ? BuiltInType::ByteString : static_cast<BuiltInType>(kind);
  if (hasDimensions && !isArray) return fail(status::BadDecodingError, "a scalar Variant has dimensions");
  if (type == BuiltInType::Variant && !isArray)
    return fail(status::BadDecodingError, "a Variant directly holds a Variant");
  Nesting nesting(*this);
  if (!nesting) return;
  if (isArray) return readArray(type, hasDimensions, value);
  visitBuiltIn(type, [&]<class T>(std::type_identity<T>) {
    if constexpr (!std::is_same_v<T, Variant>) {
      T scalar{};
      if (!detail::kInline<T> && !detail::kOctets<T> && !addPart()) return;
      read(scalar);
      if (ok()) value = Variant(std::move(scalar));
    }
  });
}

void BinaryReader::read(DataValue& value) {
  value = DataValue();
  const auto mask = next<std::uint8_t>();
  Nesting nesting(*this);
  if (!nesting) return;
  if (mask & 0x01) read(value.value);
  if (mask & 0x02) read(value.status);
  if (mask & 0x04) read(value.sourceTimestamp);
  // Part 6, 5.2.2.17: more than 9999 are taken for 9999.
  constexpr std::uint16_t kMostPicoseconds = 9999;
  if (mask & 0x10) read(value.sourcePicoseconds);
  if (mask & 0x08) read(value.serverTimestamp);
  if (mask & 0x20) read(value.serverPicoseconds);
  value.sourcePicoseconds = std::min(value.sourcePicoseconds, kMostPicoseconds);
  value.serverPicoseconds = std::min(value.serverPicoseconds, kMostPicoseconds);
}

void BinaryReader::read(DiagnosticInfo& value) {
  value = DiagnosticInfo();
  const auto mask = next<std::uint8_t>();
  Nesting nesting(*this);
  if (!nesting) return;
  if (mask & 0x01) value.symbolicId = next<std::int32_t>();
  if (mask & 0x02) value.namespaceUri = next<std::int32_t>();
  if (mask & 0x08) value.locale = next<std::int32_t>();
  if (mask & 0x04) value.localizedText = next<std::int32_t>();
  if (mask & 0x10) value.additionalInfo = next<String>();
  if (mask & 0x20) value.innerStatusCode = next<StatusCode>();
  if (mask & 0x40 && charge(sizeof(DiagnosticInfo)))
    value.inner = std::make_shared<DiagnosticInfo>(next<DiagnosticInfo>());
}

void BinaryReader::read(ExtensionObject& value) {
  value = ExtensionObject();
  auto id = next<NodeId>();
  const auto kind = next<std::uint8_t>();
  Nesting nesting(*this);
  if (!nesting) return;
  switch (kind) {
    case 0: value = ExtensionObject::withoutBody(std::move(id)); return;
    case 1: value = ExtensionObject::binary(std::move(id), next<ByteString>()); return;
    case 2: value = ExtensionObject::xml(std::move(id), next<XmlElement>()); return;
    default: fail(status::BadDecodingError, "an ExtensionObject has an unknown kind of body");
  }
}

}  // namespace zunth::ua
