#pragma once

#include "core/ua/shared.hpp"

#include <compare>
#include <cstddef>
#include <cstring>
#include <functional>
#include <new>
#include <span>
#include <string>
#include <string_view>

namespace zunth::ua {

/// The octets behind a String or ByteString, in one allocation.
class OctetBlock final : public Shared {
 public:
  static const OctetBlock* create(const void* from, std::size_t size) {
    auto* block = new (::operator new(sizeof(OctetBlock) + size)) OctetBlock(size);
    if (size) std::memcpy(reinterpret_cast<char*>(block + 1), from, size);
    return block;
  }
  const char* data() const { return reinterpret_cast<const char*>(this + 1); }
  std::size_t size() const { return size_; }

 private:
  explicit OctetBlock(std::size_t size) : size_(size) {}
  void destroy() const noexcept override {
    auto* self = const_cast<OctetBlock*>(this);
    self->~OctetBlock();
    ::operator delete(self);
  }
  std::size_t size_;
};

/// An immutable, shared run of octets that may be null; null and empty differ on the wire (Part 6, 5.2.2.4).
class Octets {
 public:
  Octets() = default;
  Octets(const void* from, std::size_t size) : block_(OctetBlock::create(from, size)) {}

  bool isNull() const { return !block_; }
  bool empty() const { return size() == 0; }
  std::size_t size() const { return block_ ? block_->size() : 0; }
  const char* data() const { return block_ ? block_->data() : ""; }
  std::string_view view() const { return {data(), size()}; }
  std::span<const std::byte> bytes() const { return {reinterpret_cast<const std::byte*>(data()), size()}; }

  bool operator==(const Octets& other) const {
    return block_.get() == other.block_.get() || (isNull() == other.isNull() && view() == other.view());
  }
  auto operator<=>(const Octets& other) const { return view() <=> other.view(); }

 private:
  Ref<const OctetBlock> block_;
};

/// String: UTF-8.
class String : public Octets {
 public:
  String() = default;
  String(std::string_view text) : Octets(text.data(), text.size()) {}
  String(const std::string& text) : String(std::string_view(text)) {}
  String(const char* text) : String(std::string_view(text)) {}
  std::string str() const { return std::string(view()); }
  bool operator==(const String&) const = default;
};

class ByteString : public Octets {
 public:
  using Octets::Octets;
  explicit ByteString(std::span<const std::byte> bytes) : Octets(bytes.data(), bytes.size()) {}
  bool operator==(const ByteString&) const = default;
};

/// An XML fragment as UTF-8; a String on the wire.
class XmlElement : public Octets {
 public:
  XmlElement() = default;
  explicit XmlElement(std::string_view text) : Octets(text.data(), text.size()) {}
  bool operator==(const XmlElement&) const = default;
};

}  // namespace zunth::ua

template <>
struct std::hash<zunth::ua::String> {
  std::size_t operator()(const zunth::ua::String& s) const { return std::hash<std::string_view>()(s.view()); }
};
