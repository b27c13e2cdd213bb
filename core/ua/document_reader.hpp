#pragma once

#include "core/ua/structure_schema.hpp"

#include <fmt/format.h>

namespace zunth::ua {

/// How deeply values of a document nest at most (Part 6, 5.1.4 asks for 100 levels).
inline constexpr std::size_t kMostDepth = 100;

/// What readers of JSON and of XML do alike: errors that stick, with the path to them, and parts that both find by
/// name. `Derived` gives `member(Node, name)`, false where there is none, `isThere(Node)` and read() for each type.
template <class Derived, class NodeType>
class DocumentReader {
 public:
  using Node = NodeType;

  bool ok() const { return !error_.code.isBad(); }
  const Error& error() const { return error_; }
  /// Goes into a field or element; false when values nest too deeply.
  bool enter(std::string_view field) {
    if (path_.size() >= kMostDepth) {
      fail(status::BadEncodingLimitsExceeded, "values nest too deeply");
      return false;
    }
    path_.emplace_back(field);
    return true;
  }
  void leave() { path_.pop_back(); }

  /// Which optional fields are there, or which field a union holds: as it is written, else by what is there.
  std::uint32_t selector(Node node, const StructureSchema& schema) {
    const bool isUnion = schema.kind == StructureSchema::Kind::Union;
    std::uint32_t number = 0;
    if (const Node written = Derived::member(node, isUnion ? "SwitchField" : "EncodingMask")) {
      self().read(written, number);
      if (isUnion && number > schema.fields.size())
        fail(status::BadDecodingError, fmt::format("{} has no field {}", schema.name, number));
      return number;
    }
    std::uint32_t bit = 1;
    for (std::size_t i = 0; i < schema.fields.size(); ++i) {
      const auto& field = schema.fields[i];
      const bool isThere = Derived::isThere(Derived::member(node, field.name));
      if (isUnion && isThere) return static_cast<std::uint32_t>(i + 1);
      if (isUnion || !field.isOptional) continue;
      if (isThere) number |= bit;
      bit <<= 1;
    }
    return number;
  }

 protected:
  /// `separator` stands between the names of a path in errors.
  explicit DocumentReader(std::string_view separator) : separator_(separator) {}

  void readDiagnostics(Node node, DiagnosticInfo& v) {
    auto optional = [&]<class T>(const char* name, std::optional<T>& part) {
      if (const Node found = Derived::member(node, name)) self().read(found, part.emplace());
    };
    optional("SymbolicId", v.symbolicId);
    optional("NamespaceUri", v.namespaceUri);
    optional("Locale", v.locale);
    optional("LocalizedText", v.localizedText);
    optional("AdditionalInfo", v.additionalInfo);
    optional("InnerStatusCode", v.innerStatusCode);
    if (const Node found = Derived::member(node, "InnerDiagnosticInfo"); found && enter("InnerDiagnosticInfo")) {
      auto inner = std::make_shared<DiagnosticInfo>();
      self().read(found, *inner);
      v.inner = std::move(inner);
      leave();
    }
  }
  void fail(StatusCode code, std::string cause) {
    if (!ok()) return;
    const std::string where = fmt::format("{}", fmt::join(path_, separator_));
    error_ = {code, where.empty() ? std::move(cause) : where + ": " + cause, {}};
  }

 private:
  Derived& self() { return static_cast<Derived&>(*this); }
  std::string_view separator_;
  std::vector<std::string> path_;
  Error error_{status::Good, {}, {}};
};

}  // namespace zunth::ua
