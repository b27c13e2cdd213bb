#pragma once

#include "core/ua/bytes.hpp"

#include <cstdint>
#include <cstring>

namespace zunth::history {

/// Numbers in as few octets as they need: seven bits each, the lowest first, the top bit set but for the last. Signed
/// ones have their sign in the lowest bit.
class VarintWriter {
 public:
  explicit VarintWriter(ua::Bytes& out) : out_(out) {}
  void octet(std::uint8_t value) { out_.push_back(static_cast<std::byte>(value)); }
  void number(std::uint64_t value) {
    for (; value >= 0x80; value >>= 7) octet(static_cast<std::uint8_t>(value | 0x80));
    octet(static_cast<std::uint8_t>(value));
  }
  void difference(std::int64_t value) {
    number(static_cast<std::uint64_t>(value) << 1 ^ static_cast<std::uint64_t>(value >> 63));
  }
  template <class T>
  void fixed(T value) {
    const std::size_t at = out_.size();
    out_.resize(at + sizeof value);
    std::memcpy(out_.data() + at, &value, sizeof value);
  }

 private:
  ua::Bytes& out_;
};

/// Reads them back. What isn't there reads as zero and isn't ok.
class VarintReader {
 public:
  explicit VarintReader(ua::BytesView in) : at_(in.data()), end_(in.data() + in.size()) {}
  std::uint8_t octet() {
    if (at_ == end_) return fail();
    return static_cast<std::uint8_t>(*at_++);
  }
  std::uint64_t number() {
    if (at_ != end_ && static_cast<std::uint8_t>(*at_) < 0x80) return static_cast<std::uint8_t>(*at_++);
    std::uint64_t value = 0;
    for (int shift = 0; shift < 64; shift += 7) {
      if (at_ == end_) return fail();
      const auto octet = static_cast<std::uint8_t>(*at_++);
      value |= static_cast<std::uint64_t>(octet & 0x7F) << shift;
      if (octet < 0x80) return value;
    }
    return fail();
  }
  std::int64_t difference() {
    const std::uint64_t value = number();
    return static_cast<std::int64_t>(value >> 1 ^ (~(value & 1) + 1));
  }
  template <class T>
  T fixed() {
    T value{};
    if (static_cast<std::size_t>(end_ - at_) < sizeof value) {
      fail();
      return value;
    }
    std::memcpy(&value, at_, sizeof value);
    at_ += sizeof value;
    return value;
  }
  /// So many octets as they stand; none when there are not as many.
  ua::BytesView octets(std::size_t count) {
    if (static_cast<std::size_t>(end_ - at_) < count) {
      fail();
      return {};
    }
    const ua::BytesView out(at_, count);
    at_ += count;
    return out;
  }
  ua::BytesView rest() const { return {at_, static_cast<std::size_t>(end_ - at_)}; }
  bool ok() const { return isOk_; }
  bool atEnd() const { return at_ == end_; }

 private:
  std::uint8_t fail() {
    isOk_ = false;
    at_ = end_;
    return 0;
  }
  const std::byte* at_;
  const std::byte* end_;
  bool isOk_ = true;
};

}  // namespace zunth::history
