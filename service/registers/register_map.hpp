#pragma once

#include "core/space/space.hpp"
#include "service/registers/requests.hpp"

/// Nodes as registers and bits of a Modbus server; no I/O.
namespace zunth::registers {

/// A node as a Modbus client sees it.
struct Register {
  ua::NodeId node;
  std::string path;                       // of the node, for people
  std::string words;                      // as the file has them: "holding 0 Float"
  ua::BuiltInType type{};                 // of the node's values; Variant for any
  device::modbus::ModbusPoint point;      // which registers or bits, in which form
  device::Conversion conversion;          // from them to the node's value, and back
  std::vector<std::uint16_t> substitute;  // what they hold while the node's value is bad; empty for nothing
  std::optional<std::uint16_t> goodAt;    // the discrete input that is 1 while it isn't
};

/// Where each node lies, what a request touches, and what it holds.
class RegisterMap {
 public:
  /// None overlaps another, but for bits of the same register.
  explicit RegisterMap(std::vector<Register> registers);

  const std::vector<Register>& registers() const { return registers_; }

  /// The registers (by their number in the list) that a span of a table touches, the first first.
  /// IllegalDataAddress when there is none, or when it ends behind the last.
  Outcome<std::vector<std::size_t>> touched(Table table, std::uint16_t first, std::uint16_t count) const;
  /// What the span holds: `values` are those of touched(). Addresses between registers hold 0.
  /// ServerDeviceFailure where a value is bad and nothing stands in for it.
  Outcome<std::vector<std::uint16_t>> image(Table table, std::uint16_t first, std::uint16_t count,
                                            std::span<const std::size_t> touched,
                                            std::span<const ua::DataValue> values) const;

  struct NodeWrite {
    std::size_t number;  // of the register
    ua::Variant value;
  };
  /// What a write makes of the nodes that it touches. IllegalDataAddress where it touches none, or one that is only
  /// read; IllegalDataValue for a part of a value, and for what means nothing. Of registers of bits, only the bits of
  /// `mask`.
  Outcome<std::vector<NodeWrite>> writes(Table table, std::uint16_t first, std::span<const std::uint16_t> words,
                                         std::uint16_t mask = 0xFFFF) const;

 private:
  struct Place {
    std::uint16_t first, count;
    std::size_t number;
    bool isGoodBit;  // whether the value is good, not the value
  };
  const std::vector<Place>& placesOf(Table table) const { return places_[static_cast<std::size_t>(table)]; }

  std::vector<Register> registers_;
  std::array<std::vector<Place>, 4> places_;  // of each table, by address
};

/// The registers of a node's value; nothing when it is bad and nothing stands in for it. A floating-point number that
/// is bad is NaN.
std::optional<std::vector<std::uint16_t>> wordsOf(const Register& one, const ua::DataValue& value);

}  // namespace zunth::registers
