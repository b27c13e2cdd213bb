#include "core/ua/binary_writer.hpp"

#include "core/ua/structure_codec.hpp"

namespace zunth::ua {
namespace {

// NodeId encodings (Part 6, table 5) and the flags of an ExpandedNodeId (table 6).
enum NodeIdEncoding : std::uint8_t { TwoByte = 0, FourByte = 1, Numeric = 2, Text = 3, GuidId = 4, Opaque = 5 };
constexpr std::uint8_t kHasServerIndex = 0x40;
constexpr std::uint8_t kHasNamespaceUri = 0x80;

}  // namespace

void BinaryWriter::write(const Octets& value) {
  if (value.isNull()) {
    write(std::int32_t{-1});
    return;
  }
  const auto size = static_cast<std::uint32_t>(value.size());
  std::byte* at = grow(sizeof size + size);
  std::memcpy(at, &size, sizeof size);
  if (size) std::memcpy(at + sizeof size, value.data(), size);
}

void BinaryWriter::write(const Guid& value) {
  write(value.data1);
  write(value.data2);
  write(value.data3);
  raw(std::as_bytes(std::span(value.data4)));
}

void BinaryWriter::writeNodeId(const NodeId& value, std::uint8_t flags) {
  const auto ns = value.namespaceIndex();
  switch (value.type()) {
    case IdentifierType::Numeric:
      if (ns == 0 && value.numeric() <= 0xFF) {
        write(static_cast<std::uint8_t>(TwoByte | flags));
        write(static_cast<std::uint8_t>(value.numeric()));
      } else if (ns <= 0xFF && value.numeric() <= 0xFFFF) {
        write(static_cast<std::uint8_t>(FourByte | flags));
        write(static_cast<std::uint8_t>(ns));
        write(static_cast<std::uint16_t>(value.numeric()));
      } else {
        write(static_cast<std::uint8_t>(Numeric | flags));
        write(ns);
        write(value.numeric());
      }
      break;
    case IdentifierType::String:
      write(static_cast<std::uint8_t>(Text | flags));
      write(ns);
      write(value.octets());
      break;
    case IdentifierType::Guid:
      write(static_cast<std::uint8_t>(GuidId | flags));
      write(ns);
      write(value.guid());
      break;
    case IdentifierType::Opaque:
      write(static_cast<std::uint8_t>(Opaque | flags));
      write(ns);
      write(value.octets());
      break;
  }
}

void BinaryWriter::write(const ExpandedNodeId& value) {
  const auto flags = static_cast<std::uint8_t>((value.namespaceUri.isNull() ? 0 : kHasNamespaceUri) |
                                               (value.serverIndex ? kHasServerIndex : 0));
  writeNodeId(value.nodeId, flags);
  if (!value.namespaceUri.isNull()) write(value.namespaceUri);
  if (value.serverIndex) write(value.serverIndex);
}

void BinaryWriter::write(const QualifiedName& value) {
  write(value.namespaceIndex);
  write(value.name);
}

void BinaryWriter::write(const LocalizedText& value) {
  write(static_cast<std::uint8_t>((value.locale.isNull() ? 0 : 1) | (value.text.isNull() ? 0 : 2)));
  if (!value.locale.isNull()) write(value.locale);
  if (!value.text.isNull()) write(value.text);
}

void BinaryWriter::write(const Variant& value) {
  auto mask = static_cast<std::uint8_t>(value.type());
  if (value.isNull()) {
    write(mask);
    return;
  }
  if (!value.isArray()) {
    write(mask);
    visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) { write(*value.get<T>()); });
    return;
  }
  write(static_cast<std::uint8_t>(mask | 0x80 | (value.isMatrix() ? 0x40 : 0)));
  visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) {
    const auto items = value.items<T>();
    write(static_cast<std::int32_t>(items.size()));
    if constexpr (std::is_arithmetic_v<T> && !std::is_same_v<T, bool>)
      raw(std::as_bytes(items));
    else
      for (const auto& item : items) write(item);
  });
  if (value.isMatrix()) {
    write(static_cast<std::int32_t>(value.dimensions().size()));
    for (auto dimension : value.dimensions()) write(static_cast<std::int32_t>(dimension));
  }
}

void BinaryWriter::write(const DataValue& value) {
  const bool hasValue = !value.value.isNull();
  const bool hasStatus = value.status.value != 0;
  const bool hasSource = !value.sourceTimestamp.isNull();
  const bool hasServer = !value.serverTimestamp.isNull();
  const bool hasSourcePico = hasSource && value.sourcePicoseconds != 0;
  const bool hasServerPico = hasServer && value.serverPicoseconds != 0;
  // Most values are plain numbers with two times: one piece of memory for all of it.
  if (!hasSourcePico && !hasServerPico && hasValue && !value.value.isArray() &&
      value.value.type() <= BuiltInType::Double) {
    std::byte* const from = grow(1 + 1 + 8 + 4 + 8 + 8);
    std::byte* at = from;
    auto put = [&at](const void* data, std::size_t size) {
      std::memcpy(at, data, size);
      at += size;
    };
    *at++ = static_cast<std::byte>(1 | hasStatus << 1 | hasSource << 2 | hasServer << 3);
    *at++ = static_cast<std::byte>(value.value.type());
    visitBuiltIn(value.value.type(), [&]<class T>(std::type_identity<T>) {
      if constexpr (std::is_arithmetic_v<T>) put(value.value.get<T>(), sizeof(T));
    });
    if (hasStatus) put(&value.status.value, sizeof value.status.value);
    if (hasSource) put(&value.sourceTimestamp.ticks, sizeof value.sourceTimestamp.ticks);
    if (hasServer) put(&value.serverTimestamp.ticks, sizeof value.serverTimestamp.ticks);
    out_.resize(out_.size() - static_cast<std::size_t>(from + (1 + 1 + 8 + 4 + 8 + 8) - at));
    return;
  }
  write(static_cast<std::uint8_t>(hasValue | hasStatus << 1 | hasSource << 2 | hasServer << 3 | hasSourcePico << 4 |
                                  hasServerPico << 5));
  if (hasValue) write(value.value);
  if (hasStatus) write(value.status);
  if (hasSource) write(value.sourceTimestamp);
  if (hasSourcePico) write(value.sourcePicoseconds);
  if (hasServer) write(value.serverTimestamp);
  if (hasServerPico) write(value.serverPicoseconds);
}

void BinaryWriter::write(const DiagnosticInfo& value) {
  write(static_cast<std::uint8_t>(value.symbolicId.has_value() | value.namespaceUri.has_value() << 1 |
                                  value.localizedText.has_value() << 2 | value.locale.has_value() << 3 |
                                  value.additionalInfo.has_value() << 4 | value.innerStatusCode.has_value() << 5 |
                                  (value.inner != nullptr) << 6));
  if (value.symbolicId) write(*value.symbolicId);
  if (value.namespaceUri) write(*value.namespaceUri);
  if (value.locale) write(*value.locale);
  if (value.localizedText) write(*value.localizedText);
  if (value.additionalInfo) write(*value.additionalInfo);
  if (value.innerStatusCode) write(*value.innerStatusCode);
  if (value.inner) write(*value.inner);
}

void BinaryWriter::write(const ExtensionObject& value) {
  write(value.encodingId());
  switch (value.body()) {
    case ExtensionObject::Body::None: write(std::uint8_t{0}); break;
    case ExtensionObject::Body::Binary:
      write(std::uint8_t{1});
      write(value.octets());
      break;
    case ExtensionObject::Body::Xml:
      write(std::uint8_t{2});
      write(value.octets());
      break;
    case ExtensionObject::Body::Held: {
      write(std::uint8_t{1});
      const std::size_t lengthAt = size();
      write(std::uint32_t{0});
      value.held()->encode(*this);
      patch(lengthAt, static_cast<std::uint32_t>(size() - lengthAt - sizeof(std::uint32_t)));
      break;
    }
  }
}

}  // namespace zunth::ua
