#pragma once

#include "core/ua/basic_types.hpp"

#include <bit>
#include <cstdint>
#include <initializer_list>
#include <memory>
#include <span>
#include <type_traits>
#include <vector>

namespace zunth::ua {

class Variant;
class ExtensionObject;
struct DataValue;
struct DiagnosticInfo;

/// The built-in types and their ids on the wire (Part 6, table 1). Null is the type of an empty Variant.
enum class BuiltInType : std::uint8_t {
  Null = 0,
  Boolean = 1,
  SByte = 2,
  Byte = 3,
  Int16 = 4,
  UInt16 = 5,
  Int32 = 6,
  UInt32 = 7,
  Int64 = 8,
  UInt64 = 9,
  Float = 10,
  Double = 11,
  String = 12,
  DateTime = 13,
  Guid = 14,
  ByteString = 15,
  XmlElement = 16,
  NodeId = 17,
  ExpandedNodeId = 18,
  StatusCode = 19,
  QualifiedName = 20,
  LocalizedText = 21,
  ExtensionObject = 22,
  DataValue = 23,
  Variant = 24,
  DiagnosticInfo = 25,
};

template <class T>
struct BuiltIn;  // maps a C++ type to its BuiltInType; undefined for others

#define ZUNTH_BUILT_IN(CppType, Name)                      \
  template <>                                              \
  struct BuiltIn<CppType> {                                \
    static constexpr BuiltInType type = BuiltInType::Name; \
  }
ZUNTH_BUILT_IN(bool, Boolean);
ZUNTH_BUILT_IN(std::int8_t, SByte);
ZUNTH_BUILT_IN(std::uint8_t, Byte);
ZUNTH_BUILT_IN(std::int16_t, Int16);
ZUNTH_BUILT_IN(std::uint16_t, UInt16);
ZUNTH_BUILT_IN(std::int32_t, Int32);
ZUNTH_BUILT_IN(std::uint32_t, UInt32);
ZUNTH_BUILT_IN(std::int64_t, Int64);
ZUNTH_BUILT_IN(std::uint64_t, UInt64);
ZUNTH_BUILT_IN(float, Float);
ZUNTH_BUILT_IN(double, Double);
ZUNTH_BUILT_IN(String, String);
ZUNTH_BUILT_IN(DateTime, DateTime);
ZUNTH_BUILT_IN(Guid, Guid);
ZUNTH_BUILT_IN(ByteString, ByteString);
ZUNTH_BUILT_IN(XmlElement, XmlElement);
ZUNTH_BUILT_IN(NodeId, NodeId);
ZUNTH_BUILT_IN(ExpandedNodeId, ExpandedNodeId);
ZUNTH_BUILT_IN(StatusCode, StatusCode);
ZUNTH_BUILT_IN(QualifiedName, QualifiedName);
ZUNTH_BUILT_IN(LocalizedText, LocalizedText);
ZUNTH_BUILT_IN(ExtensionObject, ExtensionObject);
ZUNTH_BUILT_IN(DataValue, DataValue);
ZUNTH_BUILT_IN(Variant, Variant);
ZUNTH_BUILT_IN(DiagnosticInfo, DiagnosticInfo);
#undef ZUNTH_BUILT_IN

template <class T>
concept IsBuiltIn = requires {
  BuiltIn<T>::type;
};

/// Calls `visit(std::type_identity<T>{})` with the C++ type of a built-in type. `type` must not be Null.
template <class Visit>
decltype(auto) visitBuiltIn(BuiltInType type, Visit&& visit) {
  switch (type) {
    case BuiltInType::Boolean: return visit(std::type_identity<bool>{});
    case BuiltInType::SByte: return visit(std::type_identity<std::int8_t>{});
    case BuiltInType::Byte: return visit(std::type_identity<std::uint8_t>{});
    case BuiltInType::Int16: return visit(std::type_identity<std::int16_t>{});
    case BuiltInType::UInt16: return visit(std::type_identity<std::uint16_t>{});
    case BuiltInType::Int32: return visit(std::type_identity<std::int32_t>{});
    case BuiltInType::UInt32: return visit(std::type_identity<std::uint32_t>{});
    case BuiltInType::Int64: return visit(std::type_identity<std::int64_t>{});
    case BuiltInType::UInt64: return visit(std::type_identity<std::uint64_t>{});
    case BuiltInType::Float: return visit(std::type_identity<float>{});
    case BuiltInType::Double: return visit(std::type_identity<double>{});
    case BuiltInType::String: return visit(std::type_identity<String>{});
    case BuiltInType::DateTime: return visit(std::type_identity<DateTime>{});
    case BuiltInType::Guid: return visit(std::type_identity<Guid>{});
    case BuiltInType::XmlElement: return visit(std::type_identity<XmlElement>{});
    case BuiltInType::NodeId: return visit(std::type_identity<NodeId>{});
    case BuiltInType::ExpandedNodeId: return visit(std::type_identity<ExpandedNodeId>{});
    case BuiltInType::StatusCode: return visit(std::type_identity<StatusCode>{});
    case BuiltInType::QualifiedName: return visit(std::type_identity<QualifiedName>{});
    case BuiltInType::LocalizedText: return visit(std::type_identity<LocalizedText>{});
    case BuiltInType::ExtensionObject: return visit(std::type_identity<ExtensionObject>{});
    case BuiltInType::DataValue: return visit(std::type_identity<DataValue>{});
    case BuiltInType::Variant: return visit(std::type_identity<Variant>{});
    case BuiltInType::DiagnosticInfo: return visit(std::type_identity<DiagnosticInfo>{});
    case BuiltInType::ByteString:
    default: return visit(std::type_identity<ByteString>{});
  }
}

/// What is accepted of a matrix from outside; whoever goes through its rows goes as deep.
inline constexpr std::uint32_t kMostDimensions = 32;

/// "Double", "String", ... as the standard writes it.
std::string_view nameOf(BuiltInType type);
constexpr bool isInteger(BuiltInType t) { return t >= BuiltInType::SByte && t <= BuiltInType::UInt64; }
constexpr bool isNumeric(BuiltInType t) { return t >= BuiltInType::SByte && t <= BuiltInType::Double; }

/// A fixed-size run of elements; unlike std::vector it holds bool as bool.
template <class T>
class FixedArray {
 public:
  FixedArray() = default;
  explicit FixedArray(std::size_t size) : items_(size ? new T[size]() : nullptr), size_(size) {}
  T* begin() const { return items_.get(); }
  T* end() const { return items_.get() + size_; }
  std::size_t size() const { return size_; }
  T& operator[](std::size_t i) const { return items_[i]; }

 private:
  std::unique_ptr<T[]> items_;
  std::size_t size_ = 0;
};

namespace detail {
template <class T>
struct Boxed final : Shared {
  explicit Boxed(T v) : value(std::move(v)) {}
  T value;
};
struct AnyArray : Shared {
  std::size_t size = 0;
  std::vector<std::uint32_t> dimensions;  // empty unless the value is a matrix
};
template <class T>
struct ArrayBlock final : AnyArray {
  FixedArray<T> items;
};
template <class T>
constexpr bool kInline = std::is_arithmetic_v<T> || std::is_same_v<T, DateTime> || std::is_same_v<T, StatusCode>;
template <class T>
constexpr bool kOctets = std::is_base_of_v<Octets, T>;
}  // namespace detail

/// Variant (Part 6, 5.2.2.16): one value of a built-in type, or an array or matrix of them. 16 bytes, immutable;
/// copying shares strings and arrays.
class Variant {
 public:
  Variant() = default;
  template <IsBuiltIn T>
  requires(!std::is_same_v<T, Variant>) Variant(T value) : type_(BuiltIn<T>::type) {
    if constexpr (detail::kInline<T>) {
      new (storage_) T(value);
    } else if constexpr (detail::kOctets<T>) {
      new (storage_) T(std::move(value));
      counted_ = true;
    } else {
      new (storage_) Ref<const Shared>(new detail::Boxed<T>(std::move(value)));
      counted_ = true;
    }
  }
  Variant(const char* text) : Variant(String(text)) {}

  /// A one-dimensional array, or a matrix whose dimensions multiply to the number of items.
  template <IsBuiltIn T>
  static Variant array(FixedArray<T> items, std::vector<std::uint32_t> dimensions = {}) {
    Variant v;
    v.type_ = BuiltIn<T>::type;
    v.isArray_ = v.counted_ = true;
    auto* block = new detail::ArrayBlock<T>();
    block->size = items.size();
    block->dimensions = std::move(dimensions);
    block->items = std::move(items);
    new (v.storage_) Ref<const Shared>(block);
    return v;
  }
  template <IsBuiltIn T>
  static Variant array(const std::vector<T>& items, std::vector<std::uint32_t> dimensions = {}) {
    FixedArray<T> fixed(items.size());
    for (std::size_t i = 0; i < items.size(); ++i) fixed[i] = items[i];
    return array(std::move(fixed), std::move(dimensions));
  }
  template <IsBuiltIn T>
  static Variant array(std::initializer_list<T> items) {
    return array(std::vector<T>(items));
  }

  Variant(const Variant& other) noexcept { copyFrom(other); }
  Variant(Variant&& other) noexcept { takeFrom(other); }
  Variant& operator=(const Variant& other) noexcept {
    if (this != &other) {
      release();
      copyFrom(other);
    }
    return *this;
  }
  Variant& operator=(Variant&& other) noexcept {
    if (this != &other) {
      release();
      takeFrom(other);
    }
    return *this;
  }
  ~Variant() { release(); }

  BuiltInType type() const { return type_; }
  bool isNull() const { return type_ == BuiltInType::Null; }
  bool isArray() const { return isArray_; }
  bool isMatrix() const { return isArray_ && !arrayBlock().dimensions.empty(); }
  /// Number of elements; 0 for a scalar.
  std::size_t length() const { return isArray_ ? arrayBlock().size : 0; }
  /// Of a matrix, outermost first; empty otherwise.
  std::span<const std::uint32_t> dimensions() const {
    return isArray_ ? std::span<const std::uint32_t>(arrayBlock().dimensions) : std::span<const std::uint32_t>();
  }
  /// -1 for a scalar, 1 for an array, the number of dimensions for a matrix (Part 3, 5.6.2).
  std::int32_t valueRank() const {
    return !isArray_ ? -1 : isMatrix() ? static_cast<std::int32_t>(arrayBlock().dimensions.size()) : 1;
  }

  /// The scalar, or nullptr when this is an array or of another type.
  template <IsBuiltIn T>
  const T* get() const {
    if (isArray_ || type_ != BuiltIn<T>::type) return nullptr;
    if constexpr (detail::kInline<T> || detail::kOctets<T>)
      return std::launder(reinterpret_cast<const T*>(storage_));
    else
      return &static_cast<const detail::Boxed<T>*>(pointer())->value;
  }
  /// The elements; empty when this is a scalar or of another type.
  template <IsBuiltIn T>
  std::span<const T> items() const {
    if (!isArray_ || type_ != BuiltIn<T>::type) return {};
    const auto& block = static_cast<const detail::ArrayBlock<T>&>(arrayBlock());
    return {block.items.begin(), block.items.size()};
  }

  /// A scalar number as Double, whatever its numeric type (Boolean counts as 0 or 1).
  bool toDouble(double& out) const;

  bool operator==(const Variant& other) const;

 private:
  const Shared* pointer() const { return *reinterpret_cast<const Shared* const*>(storage_); }
  const detail::AnyArray& arrayBlock() const { return *static_cast<const detail::AnyArray*>(pointer()); }
  void copyFrom(const Variant& other) noexcept {
    std::memcpy(static_cast<void*>(this), &other, sizeof *this);
    if (counted_ && pointer()) pointer()->retain();
  }
  void takeFrom(Variant& other) noexcept {
    std::memcpy(static_cast<void*>(this), &other, sizeof *this);
    other.type_ = BuiltInType::Null;
    other.isArray_ = other.counted_ = false;
  }
  void release() noexcept {
    if (counted_ && pointer()) pointer()->release();
  }

  alignas(8) std::byte storage_[8]{};  // the scalar itself, or one pointer to what is shared
  BuiltInType type_ = BuiltInType::Null;
  bool isArray_ = false;
  bool counted_ = false;  // storage_ is a pointer that is held
};
static_assert(sizeof(Variant) == 16);

}  // namespace zunth::ua

#include "core/ua/data_value.hpp"
#include "core/ua/diagnostic_info.hpp"
#include "core/ua/extension_object.hpp"
