#pragma once

#include "core/model/yaml_source.hpp"
#include "service/device/conversion.hpp"

/// What Modbus points mean and how they are read together; no I/O.
namespace zunth::device::modbus {

enum class Table { Coil, DiscreteInput, InputRegister, HoldingRegister };
/// "holding": how a device's file calls it.
std::string_view nameOf(Table table);
constexpr bool isBits(Table t) { return t == Table::Coil || t == Table::DiscreteInput; }
constexpr bool canWrite(Table t) { return t == Table::Coil || t == Table::HoldingRegister; }

/// Where a point lies and how its registers become a value.
struct Place {
  Table table = Table::HoldingRegister;
  std::uint16_t address = 0;  // from 0, as on the wire
  std::uint16_t count = 1;    // of bits or registers, of all elements
  std::uint16_t length = 0;   // of an array; 0 for a single value
  ua::BuiltInType raw = ua::BuiltInType::UInt16;
  bool isDecimal = false;     // four decimal digits a register (BCD)
  bool lowWordFirst = false;  // values of several registers
  bool lowByteFirst = false;  // octets inside a register
};
struct ModbusPoint {
  Point point;
  Place place;
};

/// "TABLE ADDRESS [TYPE|TYPE[LENGTH]] [low-word-first] [low-byte-first] [read-only]" and the words of a conversion.
/// Nothing and a finding when it is not sound. Without a type, registers have the one of `usual`.
std::optional<ModbusPoint> parsePoint(const model::Text& name, const model::Text& words, Conversion& conversion,
                                      model::Findings& findings, const Place& usual = {});
/// How many registers hold a value of this type.
std::uint16_t registersOf(ua::BuiltInType type);

/// One read of neighbouring bits or registers.
struct ReadRequest {
  Table table;
  std::uint16_t first;
  std::uint16_t count;
  std::vector<PointIndex> points;
};
/// As few requests as the protocol allows (125 registers, 2000 bits a request). Runs that are up to `gap` apart are
/// read in one go.
std::vector<ReadRequest> plan(const std::vector<ModbusPoint>& points, std::span<const PointIndex> wanted,
                              std::uint16_t gap);

/// The register that holds a bit of the point's number, 0 is the lowest, and which of its bits that is.
std::pair<std::uint16_t, int> bitAt(const Place& place, int bit);

/// The value of a point in what a request read: one number a bit, or registers. Null for decimal digits that are none.
ua::Variant decode(const Place& place, std::span<const std::uint16_t> registers);
/// The registers, or bits, that a value is written as; BadOutOfRange when the raw type can't hold it, BadTypeMismatch
/// for an array of another length.
ua::Result<std::vector<std::uint16_t>> encode(const Place& place, const ua::Variant& value);

}  // namespace zunth::device::modbus
