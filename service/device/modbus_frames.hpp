#pragma once

#include "core/ua/bytes.hpp"
#include "service/device/modbus_points.hpp"

/// Requests and answers of the Modbus application protocol, without their transport: function code and data (its
/// chapter 6); no I/O.
namespace zunth::device::modbus {

/// What a device says to a request: Good and what it read, or what it has against it.
struct Answer {
  ua::StatusCode refusal;
  std::vector<std::uint16_t> registers;  // or bits, one each; the exception's number when it refuses
};

/// What an exception code means for the one who asked (chapter 7).
ua::StatusCode refusalOf(std::uint8_t exception);
/// "illegal data value": how the protocol calls it.
std::string_view exceptionName(std::uint8_t exception);
constexpr std::uint8_t kIllegalFunction = 1;

ua::Bytes readRequest(Table table, std::uint16_t first, std::uint16_t count);
/// How a value of one or several registers, or of one coil, is written: by the function for one (5, 6) or the one for
/// several (15, 16).
ua::Bytes writeOne(Table table, std::uint16_t address, std::uint16_t value);
ua::Bytes writeSeveral(Table table, std::uint16_t first, std::span<const std::uint16_t> values);
/// Sets or clears one bit of a register, 0 is the lowest, and leaves the others as they are (function 22).
ua::Bytes writeBit(std::uint16_t address, int bit, bool on);

/// Asks for the objects of a unit's identification from `first` on (6.21, function 43/14). It is told in as many
/// answers as it takes.
ua::Bytes identifyRequest(bool isRegular, std::uint8_t first = 0);
struct Identification {
  std::vector<std::pair<std::uint8_t, std::string>> objects;  // by number: 0 vendor, 1 product code, 2 revision, ...
  std::optional<std::uint8_t> next;                           // where the rest begins
};
/// BadNotSupported where the unit refuses to say; BadDecodingError for what is no such answer.
ua::Result<Identification> identificationIn(ua::BytesView answer);
/// "vendor", "product code": how people call an object of it.
std::string nameOfObject(std::uint8_t number);

/// What a request or an answer says, for people: "read input registers 0 to 9", "exception 2: illegal data address".
std::string describe(ua::BytesView request);
std::string describeAnswer(ua::BytesView answer);

/// Reads what came back for a request. BadDecodingError when it is no answer to it.
ua::Result<Answer> answerTo(ua::BytesView request, ua::BytesView answer);

}  // namespace zunth::device::modbus
