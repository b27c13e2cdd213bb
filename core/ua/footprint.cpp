#include "core/ua/footprint.hpp"

#include "core/ua/diagnostic_info.hpp"
#include "core/ua/extension_object.hpp"

namespace zunth::ua {

namespace {

constexpr std::size_t kHeldGuess = 256;  // octets of a structure that is held as itself

std::size_t of(const Octets& v) { return v.size(); }
std::size_t of(const NodeId& v) {
  return v.type() == IdentifierType::String || v.type() == IdentifierType::Opaque ? v.octets().size() : 0;
}
std::size_t of(const ExpandedNodeId& v) { return of(v.nodeId) + v.namespaceUri.size(); }
std::size_t of(const QualifiedName& v) { return v.name.size(); }
std::size_t of(const LocalizedText& v) { return v.locale.size() + v.text.size(); }
std::size_t of(const ExtensionObject& v) { return v.octets().size() + (v.held() ? kHeldGuess : 0); }
std::size_t of(const Variant& v) { return !v.isArray() && isNumeric(v.type()) ? 0 : footprint(v); }
std::size_t of(const DataValue& v) { return footprint(v.value); }
std::size_t of(const DiagnosticInfo& v) {
  std::size_t octets = 0;
  for (const DiagnosticInfo* at = &v; at; at = at->inner.get())
    octets += sizeof v + (at->additionalInfo ? at->additionalInfo->size() : 0);
  return octets;
}

}  // namespace

std::size_t footprint(const Variant& value, std::size_t enough) {
  if (value.isNull()) return 0;
  return visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) -> std::size_t {
    constexpr bool isFlat = std::is_arithmetic_v<T> || std::is_same_v<T, DateTime> || std::is_same_v<T, StatusCode> ||
                            std::is_same_v<T, Guid>;
    if (!value.isArray()) {
      if constexpr (isFlat)
        return sizeof(T) > 8 ? sizeof(T) : 0;
      else
        return sizeof(T) + of(*value.get<T>());
    }
    std::size_t octets = value.length() * sizeof(T);
    if constexpr (!isFlat)
      for (const auto& item : value.items<T>()) {
        if (octets > enough) break;
        octets += of(item);
      }
    return octets;
  });
}

}  // namespace zunth::ua
