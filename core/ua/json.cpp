#include "core/ua/json.hpp"

#include "core/ua/base64.hpp"
#include "core/ua/structure_walk.hpp"

#include <cmath>

#include <fmt/format.h>

namespace zunth::ua {
namespace {

using Json = nlohmann::ordered_json;

Json json(bool v) { return v; }
template <class T>
requires std::is_integral_v<T> Json json(T v) { return v; }
Json json(std::int64_t v) { return std::to_string(v); }
Json json(std::uint64_t v) { return std::to_string(v); }
template <class T>
requires std::is_floating_point_v<T> Json json(T v) {
  if (std::isnan(v)) return "NaN";
  if (std::isinf(v)) return v > 0 ? "Infinity" : "-Infinity";
  // Through the shortest decimal of the type itself, so that a Float doesn't show the digits of a Double.
  if constexpr (std::is_same_v<T, float>) return std::stod(fmt::format("{}", v));
  return v;
}
template <class T>
requires std::is_base_of_v<Octets, T> Json json(const T& v) {
  if (v.isNull()) return nullptr;
  if constexpr (std::is_same_v<T, ByteString>) return toBase64(v.bytes());
  return v.view();
}
Json json(DateTime v) { return v.isNull() ? Json(nullptr) : Json(v.text()); }
Json json(const Guid& v) { return v.text(); }
Json json(const NodeId& v) { return v.text(); }
Json json(const ExpandedNodeId& v) { return v.text(); }
Json json(StatusCode v) { return Json{{"Code", v.value}, {"Symbol", v.name()}}; }
Json json(const QualifiedName& v) { return v.text(); }
Json json(const LocalizedText& v) { return json(v.text); }
Json json(const Variant& v) { return toJson(v); }
Json json(const DataValue& v) {
  Json out{{"Value", toJson(v.value)}};
  if (v.status.value) out["Status"] = json(v.status);
  if (!v.sourceTimestamp.isNull()) out["SourceTimestamp"] = json(v.sourceTimestamp);
  if (!v.serverTimestamp.isNull()) out["ServerTimestamp"] = json(v.serverTimestamp);
  return out;
}
Json json(const DiagnosticInfo& v) {
  Json out = Json::object();
  if (v.additionalInfo) out["AdditionalInfo"] = json(*v.additionalInfo);
  if (v.innerStatusCode) out["InnerStatusCode"] = json(*v.innerStatusCode);
  if (v.inner) out["InnerDiagnosticInfo"] = json(*v.inner);
  return out;
}

/// Builds {"Field": value, "List": [...]}.
class JsonWalker final : public StructureWalker {
 public:
  void value(std::string_view name, const Variant& value) override { put(name, toJson(value)); }
  void openStructure(std::string_view name) override { open(name, Json::object()); }
  void closeStructure() override { close(); }
  void openList(std::string_view name) override { open(name, Json::array()); }
  void closeList() override { close(); }
  Json result;

 private:
  void open(std::string_view name, Json empty) {
    names_.emplace_back(name);
    open_.push_back(std::move(empty));
  }
  void put(std::string_view name, Json value) {
    if (open_.empty())
      result = std::move(value);
    else if (open_.back().is_array())
      open_.back().push_back(std::move(value));
    else
      open_.back()[field(name)] = std::move(value);
  }
  static std::string field(std::string_view name) {
    std::string key(name);
    if (!key.empty()) key[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(key[0])));
    return key;
  }
  void close() {
    Json done = std::move(open_.back());
    open_.pop_back();
    const std::string name = std::move(names_.back());
    names_.pop_back();
    put(name, std::move(done));
  }
  std::vector<Json> open_;
  std::vector<std::string> names_;
};

Json json(const ExtensionObject& v) {
  if (v.isNull()) return nullptr;
  JsonWalker walker;
  if (walk(v, walker)) return walker.result;
  return Json{{"TypeId", v.encodingId().text()}, {"Body", toBase64(v.octets().bytes())}};
}

template <class T>
Json rows(std::span<const T> items, std::span<const std::uint32_t> dimensions) {
  Json out = Json::array();
  // A matrix without elements may still claim billions of rows.
  if (dimensions.size() > 1 && !items.empty()) {
    const std::size_t stride = dimensions[0] ? items.size() / dimensions[0] : 0;
    for (std::uint32_t i = 0; i < dimensions[0]; ++i)
      out.push_back(rows(items.subspan(i * stride, stride), dimensions.subspan(1)));
  } else {
    for (const auto& item : items) out.push_back(json(item));
  }
  return out;
}

}  // namespace

Json toJson(const Variant& value) {
  if (value.isNull()) return nullptr;
  Json out;
  visitBuiltIn(value.type(), [&]<class T>(std::type_identity<T>) {
    out = value.isArray() ? rows(value.items<T>(), value.dimensions()) : json(*value.get<T>());
  });
  return out;
}

}  // namespace zunth::ua
