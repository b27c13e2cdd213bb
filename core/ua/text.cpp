#include "core/ua/text.hpp"

#include "core/ua/base64.hpp"
#include "core/ua/letters.hpp"
#include "core/ua/structure_walk.hpp"

#include <algorithm>
#include <charconv>
#include <cmath>

#include <fmt/format.h>

namespace zunth::ua {
namespace {

/// Writes values until its bounds are met: text from strangers may be long and nest deeply.
class Printer {
 public:
  explicit Printer(const TextLimits& limits) : limits_(limits) {}

  void put(const Variant& v) {
    if (v.isNull()) return text("null");
    visitBuiltIn(v.type(), [&]<class T>(std::type_identity<T>) {
      if (v.isArray())
        row(v.items<T>(), v.dimensions());
      else
        put(*v.get<T>());
    });
  }
  void text(std::string_view v) {
    const std::size_t room = limits_.octets - std::min(limits_.octets, out_.size());
    isCut_ |= v.size() > room;
    out_.append(v.substr(0, room));
  }
  bool isFull() const { return isCut_; }
  /// False where values nest too deeply; then something stands for what is inside.
  bool enter() {
    if (depth_ < limits_.depth) return ++depth_, true;
    text("...");
    return false;
  }
  void leave() { --depth_; }
  std::string take() {
    if (!isCut_) return std::move(out_);
    // Not within a character.
    while (!out_.empty() && (static_cast<unsigned char>(out_.back()) & 0xC0) == 0x80) out_.pop_back();
    if (!out_.empty() && static_cast<unsigned char>(out_.back()) >= 0xC0) out_.pop_back();
    return std::move(out_) + "...";
  }

 private:
  void put(bool v) { text(v ? "true" : "false"); }
  template <class T>
  requires std::is_arithmetic_v<T>
  void put(T v) { text(fmt::format("{}", v)); }
  void put(const String& v) { text(v.view()); }
  void put(const XmlElement& v) { text(v.view()); }
  void put(DateTime v) { text(v.isNull() ? "no time" : v.text()); }
  void put(const Guid& v) { text(v.text()); }
  void put(const ByteString& v) {
    // Three octets make four letters; what would be cut away isn't made.
    const auto shown = std::min(v.size(), limits_.octets);
    text(toBase64(v.bytes().first(shown)));
    isCut_ |= shown < v.size();
  }
  void put(const NodeId& v) { text(v.text()); }
  void put(const ExpandedNodeId& v) { text(v.text()); }
  void put(StatusCode v) { text(v.name()); }
  void put(const QualifiedName& v) { text(v.text()); }
  void put(const LocalizedText& v) { text(v.text.view()); }
  void put(const DataValue& v) {
    if (!enter()) return;
    put(v.value);
    if (!v.status.isGood()) text(fmt::format(" ({})", v.status.name()));
    leave();
  }
  void put(const DiagnosticInfo& v) {
    text(v.additionalInfo ? v.additionalInfo->view() : std::string_view("diagnostic info"));
  }
  void put(const ExtensionObject& v);

  template <class T>
  void row(std::span<const T> items, std::span<const std::uint32_t> dimensions) {
    if (!enter()) return;
    text("[");
    // A matrix without elements may still claim billions of rows.
    if (dimensions.size() > 1 && !items.empty()) {
      const std::size_t stride = dimensions[0] ? items.size() / dimensions[0] : 0;
      for (std::uint32_t i = 0; i < dimensions[0] && !isCut_; ++i) {
        if (i) text(", ");
        row(items.subspan(i * stride, stride), dimensions.subspan(1));
      }
    } else {
      for (std::size_t i = 0; i < items.size() && !isCut_; ++i) {
        if (i) text(", ");
        put(items[i]);
      }
    }
    text("]");
    leave();
  }

  TextLimits limits_;
  std::string out_;
  std::size_t depth_ = 0;
  bool isCut_ = false;
};

/// Writes {field: value, list: [...]}.
class TextWalker final : public StructureWalker {
 public:
  explicit TextWalker(Printer& out) : out_(out) {}
  void value(const FieldSchema& field, const Variant& value) override {
    lead(&field);
    if (out_.isFull()) return;
    if (field.enumeration && !value.isNull())
      out_.text(field.enumeration->text(*value.get<std::int32_t>()));
    else
      out_.put(value);
  }
  void openStructure(const FieldSchema* field, const StructureSchema&, std::uint32_t) override { open(field, '{'); }
  void closeStructure() override { close('}'); }
  void openList(const FieldSchema& field) override { open(&field, '['); }
  void closeList() override { close(']'); }

 private:
  void lead(const FieldSchema* field) {
    if (!std::exchange(first_, false)) out_.text(", ");
    const bool isElement = brackets_.ends_with('[');
    if (!field || isElement) return;
    out_.text(field->name);
    out_.text(": ");
  }
  void open(const FieldSchema* field, char bracket) {
    lead(field);
    out_.text({&bracket, 1});
    brackets_ += bracket;
    first_ = true;
  }
  void close(char bracket) {
    out_.text({&bracket, 1});
    brackets_.pop_back();
    first_ = false;
  }
  Printer& out_;
  std::string brackets_;  // that are open
  bool first_ = true;
};

void Printer::put(const ExtensionObject& v) {
  if (v.isNull()) return text("null");
  if (!enter()) return;
  // What can't be read to its end leaves nothing behind.
  const auto before = out_.size();
  TextWalker walker(*this);
  if (!walk(v, walker) && !isCut_) {
    out_.resize(before);
    text(fmt::format("structure {} ({} octets)", v.encodingId().text(), v.octets().size()));
  }
  leave();
}

std::string_view trim(std::string_view text) {
  while (!text.empty() && (text.front() == ' ' || text.front() == '\t')) text.remove_prefix(1);
  while (!text.empty() && (text.back() == ' ' || text.back() == '\t')) text.remove_suffix(1);
  return text;
}

Error mismatch(std::string_view text, BuiltInType type, std::string_view hint = {}) {
  return {status::BadTypeMismatch, fmt::format("'{}' is no {}", text, nameOf(type)), std::string(hint)};
}

template <class T>
Result<Variant> parseNumber(std::string_view text, BuiltInType type) {
  std::string_view digits = text;
  int base = 10;
  if constexpr (std::is_integral_v<T>)
    if (digits.starts_with("0x")) {
      digits.remove_prefix(2);
      base = 16;
    }
  if (digits.starts_with('+')) digits.remove_prefix(1);
  T number{};
  std::from_chars_result read;
  if constexpr (std::is_integral_v<T>)
    read = std::from_chars(digits.data(), digits.data() + digits.size(), number, base);
  else
    read = std::from_chars(digits.data(), digits.data() + digits.size(), number);
  const bool whole = read.ptr == digits.data() + digits.size() && !digits.empty();
  if (read.ec == std::errc::result_out_of_range) {
    if constexpr (std::is_integral_v<T>)
      return Error{status::BadOutOfRange,
                   fmt::format("{} does not fit {} ({} to {})", text, nameOf(type), +std::numeric_limits<T>::lowest(),
                               +std::numeric_limits<T>::max()),
                   {}};
    return Error{status::BadOutOfRange, fmt::format("{} does not fit {}", text, nameOf(type)), {}};
  }
  if constexpr (std::is_unsigned_v<T>)
    if (digits.starts_with('-'))
      return Error{status::BadOutOfRange,
                   fmt::format("{} does not fit {} (0 to {})", text, nameOf(type), +std::numeric_limits<T>::max()),
                   {}};
  if (read.ec != std::errc() || !whole) return mismatch(text, type);
  return Variant(number);
}

Result<Variant> parseScalar(std::string_view text, BuiltInType type) {
  switch (type) {
    case BuiltInType::Boolean: {
      const std::string word = lower(text);
      if (word == "true" || word == "1" || word == "on" || word == "yes") return Variant(true);
      if (word == "false" || word == "0" || word == "off" || word == "no") return Variant(false);
      return mismatch(text, type, "write true or false");
    }
    case BuiltInType::String: return Variant(String(text));
    case BuiltInType::XmlElement: return Variant(XmlElement(text));
    case BuiltInType::LocalizedText: return Variant(LocalizedText(String(text)));
    case BuiltInType::QualifiedName: return Variant(QualifiedName::parse(text));
    case BuiltInType::DateTime: {
      auto time = DateTime::parse(text);
      if (!time) return mismatch(text, type, time.error().next);
      return Variant(*time);
    }
    case BuiltInType::Guid: {
      auto guid = Guid::parse(text);
      if (!guid) return mismatch(text, type, guid.error().next);
      return Variant(*guid);
    }
    case BuiltInType::NodeId: {
      auto id = NodeId::parse(text);
      if (!id) return mismatch(text, type, id.error().next);
      return Variant(*id);
    }
    case BuiltInType::ExpandedNodeId: {
      auto id = ExpandedNodeId::parse(text);
      if (!id) return mismatch(text, type, id.error().next);
      return Variant(*id);
    }
    case BuiltInType::ByteString: {
      auto octets = fromBase64(text);
      if (!octets) return mismatch(text, type, "write it as base64");
      return Variant(ByteString(*octets));
    }
    case BuiltInType::StatusCode: {
      if (auto code = statusNamed(text)) return Variant(*code);
      auto number = parseNumber<std::uint32_t>(text, type);
      if (!number) return mismatch(text, type, "write its name, as BadNoCommunication");
      return Variant(StatusCode{*number->get<std::uint32_t>()});
    }
    default: break;
  }
  if (isNumeric(type))
    return visitBuiltIn(type, [&]<class T>(std::type_identity<T>) -> Result<Variant> {
      if constexpr (std::is_arithmetic_v<T> && !std::is_same_v<T, bool>) return parseNumber<T>(text, type);
      return mismatch(text, type);
    });
  return Error{status::BadNotSupported, fmt::format("a value of type {} can't be typed as text", nameOf(type)), {}};
}

}  // namespace

std::string format(const Variant& value, const TextLimits& limits) {
  Printer printer(limits);
  printer.put(value);
  return printer.take();
}

Result<Variant> parse(std::string_view text, BuiltInType type, bool isArray) {
  if (!isArray) {
    if (type == BuiltInType::String || type == BuiltInType::LocalizedText || type == BuiltInType::XmlElement)
      return parseScalar(text, type);
    return parseScalar(trim(text), type);
  }
  text = trim(text);
  if (text.starts_with('[') && text.ends_with(']')) text = trim(text.substr(1, text.size() - 2));
  std::vector<Variant> scalars;
  while (!text.empty()) {
    const auto comma = text.find(',');
    auto item = parseScalar(trim(text.substr(0, comma)), type);
    if (!item) return item;
    scalars.push_back(std::move(*item));
    text = comma == std::string_view::npos ? std::string_view() : text.substr(comma + 1);
  }
  return visitBuiltIn(type, [&]<class T>(std::type_identity<T>) -> Result<Variant> {
    FixedArray<T> items(scalars.size());
    if constexpr (!std::is_same_v<T, Variant>)
      for (std::size_t i = 0; i < scalars.size(); ++i) items[i] = *scalars[i].template get<T>();
    return Variant::array(std::move(items));
  });
}

Result<Variant> convert(const Variant& value, BuiltInType type, bool round) {
  if (value.type() == type) return value;
  double number = 0;
  const bool toNumber = isNumeric(type) || type == BuiltInType::Boolean;
  if (!toNumber || !value.toDouble(number))
    return Error{
        status::BadTypeMismatch,
        fmt::format("a {}{} can't become a {}", nameOf(value.type()), value.isArray() ? " array" : "", nameOf(type)),
        {}};
  const Error outside{status::BadOutOfRange, fmt::format("{} does not fit {}", format(value), nameOf(type)), {}};
  return visitBuiltIn(type, [&]<class T>(std::type_identity<T>) -> Result<Variant> {
    if constexpr (std::is_same_v<T, bool>) {
      return Variant(number != 0);
    } else if constexpr (std::is_floating_point_v<T>) {
      const T narrow = static_cast<T>(number);
      if (std::isfinite(number) && !std::isfinite(narrow)) return outside;
      return Variant(narrow);
    } else if constexpr (std::is_integral_v<T>) {
      // 64-bit integers go exactly; Double would lose their low bits.
      if (const auto* v = value.get<std::int64_t>())
        return std::in_range<T>(*v) ? Result<Variant>(Variant(static_cast<T>(*v))) : Result<Variant>(outside);
      if (const auto* v = value.get<std::uint64_t>())
        return std::in_range<T>(*v) ? Result<Variant>(Variant(static_cast<T>(*v))) : Result<Variant>(outside);
      const double whole = round ? std::round(number) : number;
      // 2^digits is exact in Double, the largest value itself may not be.
      const double bound = std::ldexp(1.0, std::numeric_limits<T>::digits);
      if (!(whole < bound) || whole < (std::is_signed_v<T> ? -bound : 0.0) || whole != std::trunc(whole))
        return outside;
      return Variant(static_cast<T>(whole));
    } else {
      return outside;
    }
  });
}

std::size_t editDistance(std::string_view a, std::string_view b) {
  auto same = [](char x, char y) { return lower(x) == lower(y); };
  std::vector<std::size_t> before(b.size() + 1), last(b.size() + 1), row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) row[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    before = std::exchange(last, row);
    row[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      row[j] = std::min({last[j] + 1, row[j - 1] + 1, last[j - 1] + (same(a[i - 1], b[j - 1]) ? 0 : 1)});
      if (i > 1 && j > 1 && same(a[i - 1], b[j - 2]) && same(a[i - 2], b[j - 1]))
        row[j] = std::min(row[j], before[j - 2] + 1);
    }
  }
  return row[b.size()];
}

}  // namespace zunth::ua
