#pragma once

#include "core/ua/binary_writer.hpp"

#include <algorithm>
#include <string>

namespace zunth::ua {

/// What a decoder accepts before it answers BadEncodingLimitsExceeded (Part 6, 5.1.10).
struct DecodingLimits {
  std::uint32_t maxStringLength = 16u << 20;  // octets of a String, ByteString or XmlElement
  std::uint32_t maxArrayLength = 1u << 20;    // elements
  std::uint32_t maxDepth = 100;               // of nested Variants, DataValues, ExtensionObjects, DiagnosticInfos
  std::uint32_t maxDimensions = kMostDimensions;
  std::uint32_t growth = 24;            // octets of memory for each that came, for lists and arrays
  std::size_t maxMemory = 64u << 20;    // beyond that, twice what came and no more
  std::uint32_t maxParts = UINT32_MAX;  // texts, arrays and whatever else takes a piece of memory of its own
};

/// Reads OPC UA Binary (Part 6, 5.2) from memory. Errors stick: after the first one every read gives a default
/// value and `error()` tells what was wrong and where, so callers check once, at the end. Lists and arrays take no
/// more memory than the limits allow for what came: an element of one octet may be large in memory. Nor are there more
/// parts than they allow, each of which takes its time to be made, copied and given back.
class BinaryReader {
 public:
  explicit BinaryReader(BytesView in, const DecodingLimits& limits = {})
      : begin_(in.data()),
        at_(in.data()),
        end_(in.data() + in.size()),
        limits_(limits),
        memory_(std::min(kLeastMemory + in.size() * limits.growth, limits.maxMemory + in.size() * 2)) {}

  template <class T>
  requires(std::is_arithmetic_v<T> && !std::is_same_v<T, bool>) void read(T& value) {
    if (const std::byte* from = take(sizeof value))
      std::memcpy(&value, from, sizeof value);
    else
      value = {};
  }
  void read(bool& value) {
    std::uint8_t octet;
    read(octet);
    value = octet != 0;
  }
  template <class T>
  requires std::is_enum_v<T>
  void read(T& value) { value = static_cast<T>(next<std::int32_t>()); }
  void read(StatusCode& value) { read(value.value); }
  void read(DateTime& value) { read(value.ticks); }
  void read(String& value);
  void read(ByteString& value);
  void read(XmlElement& value);
  void read(Guid& value);
  void read(NodeId& value);
  void read(ExpandedNodeId& value);
  void read(QualifiedName& value);
  void read(LocalizedText& value);
  void read(Variant& value);
  void read(DataValue& value);
  void read(DiagnosticInfo& value);
  void read(ExtensionObject& value);
  template <class T>
  void read(List<T>& list) {
    const auto length = readLength(limits_.maxArrayLength, "array");
    list = length < 0 ? List<T>() : List<T>::emptyNotNull();
    if (length > 0 && addPart() && charge(static_cast<std::size_t>(length) * sizeof(T)))
      list.reserve(static_cast<std::size_t>(length));
    for (std::int32_t i = 0; i < length && ok(); ++i) read(list.emplace_back());
  }
  template <IsStructure T>
  void read(T& structure);
  template <class T>
  T next() {
    T value{};
    read(value);
    return value;
  }

  bool ok() const { return error_.isGood(); }
  /// Good, BadDecodingError or BadEncodingLimitsExceeded.
  StatusCode code() const { return error_; }
  /// With the octet at which reading failed.
  Error error() const;
  std::size_t position() const { return static_cast<std::size_t>(at_ - begin_); }
  std::size_t remaining() const { return static_cast<std::size_t>(end_ - at_); }
  BytesView rest() const { return {at_, remaining()}; }
  const DecodingLimits& limits() const { return limits_; }
  /// A length prefix: -1 for null, other negative ones are errors. Every element takes at least one octet, so a length
  /// beyond what remains is a lie.
  std::int32_t readLength(std::uint32_t most, const char* what);
  /// Memory for so many octets of elements; BadEncodingLimitsExceeded when that is more than what came is worth.
  bool charge(std::size_t octets) {
    if (octets > memory_) fail(status::BadEncodingLimitsExceeded, "the values take too much memory");
    memory_ -= std::min(memory_, octets);
    return ok();
  }
  /// For code that reads by itself: what it found is an error.
  void reject(const char* what) { fail(status::BadDecodingError, what); }

 private:
  friend class Nesting;
  static constexpr std::size_t kLeastMemory = 64 * 1024;
  const std::byte* take(std::size_t n) {
    if (n > remaining() || !ok()) [[unlikely]] {
      fail(status::BadDecodingError, "the message ends early");
      return nullptr;
    }
    const std::byte* from = at_;
    at_ += n;
    return from;
  }
  void fail(StatusCode code, const char* what) {
    if (!ok()) return;
    error_ = code;
    what_ = what;
    failedAt_ = position();
    at_ = end_;
  }
  bool enter() {
    if (depth_ >= limits_.maxDepth) fail(status::BadEncodingLimitsExceeded, "values nest too deeply");
    ++depth_;
    return ok();
  }
  void leave() { --depth_; }
  /// What follows takes a piece of memory of its own.
  bool addPart() {
    if (parts_ >= limits_.maxParts) fail(status::BadEncodingLimitsExceeded, "there are too many texts and arrays");
    ++parts_;
    return ok();
  }
  /// The octets behind a length prefix; `isNull` tells a null string from an empty one.
  BytesView readOctets(bool& isNull);
  void readIdentifier(std::uint8_t kind, NodeId& value);
  void readArray(BuiltInType type, bool hasDimensions, Variant& value);

  const std::byte* begin_;
  const std::byte* at_;
  const std::byte* end_;
  DecodingLimits limits_;
  std::size_t memory_;  // octets that lists and arrays may still take
  std::uint32_t parts_ = 0;
  StatusCode error_ = status::Good;
  const char* what_ = "";
  std::size_t failedAt_ = 0;
  std::uint32_t depth_ = 0;
};

/// Counts one level of nesting while it lives; false when it is one too many.
class Nesting {
 public:
  explicit Nesting(BinaryReader& reader) : reader_(reader), entered_(reader.enter()) {}
  ~Nesting() { reader_.leave(); }
  explicit operator bool() const { return entered_; }

 private:
  BinaryReader& reader_;
  bool entered_;
};

}  // namespace zunth::ua
