#include "core/history/kept_event.hpp"

#include "core/history/variables.hpp"
#include "core/ua/binary_reader.hpp"
#include "core/ua/foreign.hpp"

namespace zunth::history {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

namespace {

constexpr std::uint8_t kEventFormat = 1;

String nodeName(const space::Space& space, NodeIndex node) {
  return node == kNoNode || !space.exists(node) ? String() : String(storedName(space, space.nodeId(node)));
}

NodeIndex nodeNamed(const space::Space& space, const String& name) {
  if (name.empty()) return kNoNode;
  auto id = ExpandedNodeId::parse(name.view());
  if (!id) return kNoNode;
  if (id->namespaceUri.empty()) return space.find(id->nodeId);
  const auto ns = space.namespaceIndex(id->namespaceUri.view());
  return ns ? space.find(id->nodeId.inNamespace(*ns)) : kNoNode;
}

}  // namespace

Bytes encodeEvent(const space::Space& space, const monitor::Event& event) {
  Bytes out;
  BinaryWriter writer(out);
  writer.write(kEventFormat);
  writer.write(nodeName(space, event.type()));
  writer.write(nodeName(space, event.node()));
  writer.write(static_cast<std::uint32_t>(event.size()));
  event.eachField([&](const monitor::Event::Path& path, const Variant& value) {
    writer.write(List<QualifiedName>(path));
    writer.write(value);
  });
  return out;
}

std::optional<monitor::Event> decodeEvent(const space::Space& space, BytesView octets) {
  BinaryReader reader(octets);
  if (reader.next<std::uint8_t>() != kEventFormat) return std::nullopt;
  const auto type = nodeNamed(space, reader.next<String>());
  const auto source = nodeNamed(space, reader.next<String>());
  monitor::Event out(type == kNoNode ? space.at(id::BaseEventType) : type, source);
  for (auto left = reader.next<std::uint32_t>(); left > 0 && reader.ok(); --left) {
    auto path = reader.next<List<QualifiedName>>();
    out.add(std::move(path), reader.next<Variant>());
  }
  if (!reader.ok()) return std::nullopt;
  return out;
}

EventWords wordsOf(BytesView octets) {
  constexpr std::size_t kMost = 1000;
  EventWords out;
  BinaryReader reader(octets);
  if (reader.next<std::uint8_t>() != kEventFormat) return out;
  out.type = shown(reader.next<String>().view(), kMost);
  reader.next<String>();
  for (auto left = reader.next<std::uint32_t>(); left > 0 && reader.ok(); --left) {
    const auto path = reader.next<List<QualifiedName>>();
    const auto value = reader.next<Variant>();
    if (path.size() != 1 || path.front().namespaceIndex != 0) continue;
    const auto name = path.front().name.view();
    if (const auto* words = value.get<String>(); words && name == "SourceName")
      out.source = shown(words->view(), kMost);
    if (const auto* text = value.get<LocalizedText>(); text && name == "Message")
      out.message = shown(text->text.view(), kMost);
    if (const auto* severity = value.get<std::uint16_t>(); severity && name == "Severity") out.severity = *severity;
  }
  return out;
}

ByteString eventIdOf(BytesView octets) {
  BinaryReader reader(octets);
  if (reader.next<std::uint8_t>() != kEventFormat) return {};
  reader.next<String>();
  reader.next<String>();
  for (auto left = reader.next<std::uint32_t>(); left > 0 && reader.ok(); --left) {
    const auto path = reader.next<List<QualifiedName>>();
    const auto value = reader.next<Variant>();
    if (path.size() == 1 && path.front() == QualifiedName{0, String("EventId")})
      return value.get<ByteString>() ? *value.get<ByteString>() : ByteString();
  }
  return {};
}

}  // namespace zunth::history
