#pragma once

#include "core/ua/bytes.hpp"
#include "service/device/modbus_points.hpp"

#include <variant>

/// Requests that a Modbus server gets and the answers that it gives, without their transport (Modbus application
/// protocol 1.1b3, chapter 6); no I/O.
namespace zunth::registers {

using device::modbus::Table;

/// Chapter 7.
enum class Exception : std::uint8_t {
  IllegalFunction = 1,
  IllegalDataAddress = 2,
  IllegalDataValue = 3,
  ServerDeviceFailure = 4,
  ServerDeviceBusy = 6,
  GatewayTargetFailed = 11
};

/// What was asked for, or the exception that it is answered with.
template <class T>
class Outcome {
 public:
  Outcome(T value) : either_(std::move(value)) {}
  Outcome(Exception exception) : either_(exception) {}
  explicit operator bool() const { return std::holds_alternative<T>(either_); }
  const T& operator*() const { return std::get<T>(either_); }
  const T* operator->() const { return &**this; }
  Exception exception() const { return std::get<Exception>(either_); }

 private:
  std::variant<T, Exception> either_;
};

/// A span of one table.
struct Span {
  Table table = Table::HoldingRegister;
  std::uint16_t first = 0, count = 0;
};

struct Request {
  enum class Kind { Read, Write, Mask, WriteThenRead, Identify };
  std::uint8_t function = 0;
  Kind kind = Kind::Read;
  Span read, written;
  std::vector<std::uint16_t> words;  // to write: registers, or bits, one each
  std::uint16_t andMask = 0xFFFF,
                orMask = 0x0000;  // Mask: register = (register and andMask) or (orMask and not andMask)
  std::uint8_t identity = 0;      // Identify: the first object asked for
  std::uint8_t category = 1;      // and what of: 1 basic, 2 regular, 4 one object
};

/// IllegalFunction, IllegalDataValue (a count that may not be, or octets that don't fit it), IllegalDataAddress (an end
/// beyond 65535).
Outcome<Request> parseRequest(ua::BytesView pdu);

/// What was read: registers, or bits, one each.
ua::Bytes answerRead(const Request& request, std::span<const std::uint16_t> words);
ua::Bytes answerWritten(const Request& request);
/// Chapter 6.21: who makes it, what it is, its version.
ua::Bytes answerIdentity(const Request& request, std::span<const std::string> texts);
ua::Bytes answerException(std::uint8_t function, Exception exception);

}  // namespace zunth::registers
