#include "core/ua/node_id.hpp"

#include "core/ua/base64.hpp"

#include <charconv>

#include <fmt/format.h>

namespace zunth::ua {
namespace {

template <class T>
bool parseWhole(std::string_view text, T& out, int base = 10) {
  const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), out, base);
  return failure == std::errc() && end == text.data() + text.size() && !text.empty();
}

Error invalidId(std::string_view text, std::string_view why) {
  return {status::BadNodeIdInvalid, fmt::format("'{}' is not a node id: {}", text, why),
          "write i=NUMBER, s=TEXT, g=GUID or b=BASE64, after ns=NUMBER; where the namespace isn't 0"};
}

}  // namespace

std::string Guid::text() const {
  return fmt::format("{:08x}-{:04x}-{:04x}-{:02x}{:02x}-{:02x}{:02x}{:02x}{:02x}{:02x}{:02x}", data1, data2, data3,
                     data4[0], data4[1], data4[2], data4[3], data4[4], data4[5], data4[6], data4[7]);
}

Result<Guid> Guid::parse(std::string_view text) {
  Guid guid;
  const Error wrong{status::BadSyntaxError, fmt::format("'{}' is not a GUID", text),
                    "write it as 72962b91-fa75-4ae6-8d28-b404dc7daf63"};
  if (text.size() != 36 || text[8] != '-' || text[13] != '-' || text[18] != '-' || text[23] != '-') return wrong;
  bool fine = parseWhole(text.substr(0, 8), guid.data1, 16) && parseWhole(text.substr(9, 4), guid.data2, 16) &&
              parseWhole(text.substr(14, 4), guid.data3, 16);
  for (std::size_t i = 0; i < 8; ++i)
    fine = fine && parseWhole(text.substr(i < 2 ? 19 + 2 * i : 20 + 2 * i, 2), guid.data4[i], 16);
  if (!fine) return wrong;
  return guid;
}

Guid NodeId::guid() const {
  Guid guid;
  if (type_ == IdentifierType::Guid) std::memcpy(&guid, octets_.data(), sizeof guid);
  return guid;
}

NodeId NodeId::inNamespace(std::uint16_t ns) const {
  NodeId copy = *this;
  copy.namespace_ = ns;
  return copy;
}

bool NodeId::isNull() const {
  if (namespace_ != 0) return false;
  switch (type_) {
    case IdentifierType::Numeric: return numeric_ == 0;
    case IdentifierType::Guid: return guid() == Guid{};
    default: return octets_.empty();
  }
}

std::string NodeId::text() const {
  const std::string prefix = namespace_ ? fmt::format("ns={};", namespace_) : std::string();
  switch (type_) {
    case IdentifierType::Numeric: return fmt::format("{}i={}", prefix, numeric_);
    case IdentifierType::String: return fmt::format("{}s={}", prefix, octets_.view());
    case IdentifierType::Guid: return fmt::format("{}g={}", prefix, guid().text());
    case IdentifierType::Opaque: return fmt::format("{}b={}", prefix, toBase64(octets_.bytes()));
  }
  return {};
}

Result<NodeId> NodeId::parse(std::string_view text) {
  std::string_view rest = text;
  std::uint16_t ns = 0;
  if (rest.starts_with("ns=")) {
    const auto end = rest.find(';');
    if (end == std::string_view::npos || !parseWhole(rest.substr(3, end - 3), ns))
      return invalidId(text, "ns= needs a number up to 65535 and a semicolon");
    rest.remove_prefix(end + 1);
  }
  if (rest.size() < 2 || rest[1] != '=') return invalidId(text, "it has no i=, s=, g= or b=");
  const std::string_view identifier = rest.substr(2);
  switch (rest[0]) {
    case 'i': {
      std::uint32_t numeric = 0;
      if (!parseWhole(identifier, numeric)) return invalidId(text, "i= needs a number up to 4294967295");
      return NodeId(ns, numeric);
    }
    case 's': return NodeId(ns, String(identifier));
    case 'g': {
      auto guid = Guid::parse(identifier);
      if (!guid) return invalidId(text, guid.error().cause);
      return NodeId(ns, *guid);
    }
    case 'b': {
      auto octets = fromBase64(identifier);
      if (!octets) return invalidId(text, "b= needs base64");
      return NodeId(ns, ByteString(*octets));
    }
    default: return invalidId(text, "it has no i=, s=, g= or b=");
  }
}

std::size_t NodeId::hash() const {
  std::uint64_t h =
      (std::uint64_t{numeric_} << 24) ^ (std::uint64_t{namespace_} << 4) ^ static_cast<std::uint64_t>(type_);
  if (!octets_.isNull()) h ^= std::hash<std::string_view>()(octets_.view());
  // Finalizer of a 64-bit mix, so that neighbouring numbers spread over the table.
  h = (h ^ (h >> 33)) * 0xff51afd7ed558ccdULL;
  h = (h ^ (h >> 33)) * 0xc4ceb9fe1a85ec53ULL;
  return static_cast<std::size_t>(h ^ (h >> 33));
}

std::string escapedUri(std::string_view uri) {
  std::string out;
  for (char c : uri) out += c == '%' ? "%25" : c == ';' ? "%3B" : std::string(1, c);
  return out;
}

std::string unescapedUri(std::string_view text) {
  std::string uri;
  while (!text.empty()) {
    const std::string_view escape = text.substr(0, 3);
    const bool isSemicolon = escape == "%3B" || escape == "%3b", isEscape = isSemicolon || escape == "%25";
    uri += isSemicolon ? ';' : text.front();  // "%25" begins with what it stands for
    text.remove_prefix(isEscape ? 3 : 1);
  }
  return uri;
}

std::string ExpandedNodeId::text() const {
  std::string out;
  if (serverIndex) out += fmt::format("svr={};", serverIndex);
  if (namespaceUri.isNull()) return out + nodeId.text();
  return out + "nsu=" + escapedUri(namespaceUri.view()) + ";" + nodeId.inNamespace(0).text();
}

Result<ExpandedNodeId> ExpandedNodeId::parse(std::string_view text) {
  ExpandedNodeId id;
  std::string_view rest = text;
  if (rest.starts_with("svr=")) {
    const auto end = rest.find(';');
    if (end == std::string_view::npos || !parseWhole(rest.substr(4, end - 4), id.serverIndex))
      return invalidId(text, "svr= needs a number and a semicolon");
    rest.remove_prefix(end + 1);
  }
  if (rest.starts_with("nsu=")) {
    const auto end = rest.find(';');
    if (end == std::string_view::npos) return invalidId(text, "nsu= needs a URI and a semicolon");
    id.namespaceUri = unescapedUri(rest.substr(4, end - 4));
    rest.remove_prefix(end + 1);
  }
  auto nodeId = NodeId::parse(rest);
  if (!nodeId) return nodeId.error();
  if (!id.namespaceUri.isNull() && nodeId->namespaceIndex() != 0)
    return invalidId(text, "a namespace is named by nsu= or by ns=, not by both");
  id.nodeId = *nodeId;
  return id;
}

}  // namespace zunth::ua
