#include "core/history/kept_event.hpp"

#include "core/history/variables.hpp"
#include "core/ua/binary_reader.hpp"
#include "core/ua/foreign.hpp"
#include "core/ua/renumbering.hpp"

namespace zunth::history {

using namespace ua;
using space::kNoNode;
using space::NodeIndex;

namespace {

constexpr std::uint8_t kEventFormat = 2, kWithoutNamespaces = 1;
constexpr std::uint16_t kGone = 0xFFFF;  // the index of a namespace that the server has no more

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

/// What stands before an event's fields.
struct Head {
  String type, source;
  List<String> namespaces{};  // from index 1 on, as the ids in its fields have them
  std::uint32_t fields = 0;
};

std::optional<Head> headOf(BinaryReader& reader) {
  const auto format = reader.next<std::uint8_t>();
  if (format != kEventFormat && format != kWithoutNamespaces) return std::nullopt;
  Head out{reader.next<String>(), reader.next<String>()};
  if (format != kWithoutNamespaces) out.namespaces = reader.next<List<String>>();
  out.fields = reader.next<std::uint32_t>();
  return reader.ok() ? std::optional(std::move(out)) : std::nullopt;
}

/// Between the namespaces of then and those of now; idle where they are the same. Ids within structures stay.
Renumbering renumberingFrom(const List<String>& namespaces, const space::Space& space) {
  static const TypeCatalog kNoTypes;
  std::vector<std::uint16_t> indexes{0};
  for (const auto& uri : namespaces) indexes.push_back(space.namespaceIndex(uri.view()).value_or(kGone));
  return {std::move(indexes), kNoTypes};
}

}  // namespace

Bytes encodeEvent(const space::Space& space, const monitor::Event& event) {
  Bytes out;
  BinaryWriter writer(out);
  writer.write(kEventFormat);
  writer.write(nodeName(space, event.type()));
  writer.write(nodeName(space, event.node()));
  const auto& namespaces = space.namespaces();
  writer.write(List<String>(std::vector<String>(namespaces.begin() + 1, namespaces.end())));
  writer.write(static_cast<std::uint32_t>(event.size()));
  event.eachField([&](const monitor::Event::Path& path, const Variant& value) {
    writer.write(List<QualifiedName>(path));
    writer.write(value);
  });
  return out;
}

std::optional<monitor::Event> decodeEvent(const space::Space& space, BytesView octets) {
  BinaryReader reader(octets);
  const auto head = headOf(reader);
  if (!head) return std::nullopt;
  const auto type = nodeNamed(space, head->type);
  monitor::Event out(type == kNoNode ? space.at(id::BaseEventType) : type, nodeNamed(space, head->source));
  const Renumbering renumbered = renumberingFrom(head->namespaces, space);
  for (auto left = head->fields; left > 0 && reader.ok(); --left) {
    auto path = reader.next<List<QualifiedName>>();
    auto value = reader.next<Variant>();
    if (!renumbered.isIdle()) {
      for (auto& name : path) name = renumbered(name);
      value = renumbered(value);
    }
    out.add(std::move(path), std::move(value));
  }
  if (!reader.ok()) return std::nullopt;
  return out;
}

EventWords wordsOf(BytesView octets) {
  constexpr std::size_t kMost = 1000;
  EventWords out;
  BinaryReader reader(octets);
  const auto head = headOf(reader);
  if (!head) return out;
  out.type = shown(head->type.view(), kMost);
  for (auto left = head->fields; left > 0 && reader.ok(); --left) {
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
  const auto head = headOf(reader);
  for (auto left = head ? head->fields : 0; left > 0 && reader.ok(); --left) {
    const auto path = reader.next<List<QualifiedName>>();
    const auto value = reader.next<Variant>();
    if (path.size() == 1 && path.front() == QualifiedName{0, String("EventId")})
      return value.get<ByteString>() ? *value.get<ByteString>() : ByteString();
  }
  return {};
}

}  // namespace zunth::history
