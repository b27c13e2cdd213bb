#include "service/device/modbus_frames.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::device::modbus {

using namespace ua;

namespace {

enum Function : std::uint8_t {
  ReadCoils = 1,
  ReadDiscreteInputs = 2,
  ReadHoldingRegisters = 3,
  ReadInputRegisters = 4,
  WriteCoil = 5,
  WriteRegister = 6,
  WriteCoils = 15,
  WriteRegisters = 16,
  MaskRegister = 22,
  Identify = 43
};
constexpr std::uint8_t kIdentification = 14;  // what Identify asks for
constexpr std::uint8_t kException = 0x80;
constexpr std::uint16_t kCoilOn = 0xFF00;

void put(Bytes& out, std::uint8_t octet) { out.push_back(static_cast<std::byte>(octet)); }
void put16(Bytes& out, std::uint16_t word) {
  put(out, static_cast<std::uint8_t>(word >> 8));
  put(out, static_cast<std::uint8_t>(word));
}
std::uint8_t octetAt(BytesView bytes, std::size_t at) { return std::to_integer<std::uint8_t>(bytes[at]); }
std::uint16_t wordAt(BytesView bytes, std::size_t at) {
  return static_cast<std::uint16_t>(octetAt(bytes, at) << 8 | octetAt(bytes, at + 1));
}

Error nonsense(const char* what) { return {status::BadDecodingError, what, "look whether it is a Modbus device"}; }

/// The values behind the function code: a count of octets, then bits from the lowest up or registers.
Result<Answer> valuesIn(BytesView request, BytesView answer, bool areBits) {
  const std::uint16_t count = wordAt(request, 3);
  const std::size_t octets = areBits ? (count + 7u) / 8 : count * 2u;
  if (answer.size() != 2 + octets || octetAt(answer, 1) != octets)
    return nonsense("the device answered with another number of values than it was asked for");
  Answer out{status::Good, {}};
  for (std::size_t i = 0; i < count; ++i)
    out.registers.push_back(areBits ? static_cast<std::uint16_t>(octetAt(answer, 2 + i / 8) >> (i % 8) & 1)
                                    : wordAt(answer, 2 + i * 2));
  return out;
}

}  // namespace

StatusCode refusalOf(std::uint8_t exception) {
  switch (exception) {
    case 1: return status::BadNotSupported;         // illegal function
    case 2: return status::BadConfigurationError;   // illegal data address: the device file names what isn't there
    case 3: return status::BadOutOfRange;           // illegal data value
    case 5:                                         // acknowledge: it will take long
    case 6: return status::BadResourceUnavailable;  // busy
    case 10:                                        // gateway path unavailable
    case 11: return status::BadNoCommunication;     // gateway target failed to respond
    default: return status::BadDeviceFailure;
  }
}

std::string_view exceptionName(std::uint8_t exception) {
  switch (exception) {
    case 1: return "illegal function";
    case 2: return "illegal data address";
    case 3: return "illegal data value";
    case 4: return "server device failure";
    case 5: return "acknowledge: it will take long";
    case 6: return "server device busy";
    case 8: return "memory parity error";
    case 10: return "gateway path unavailable";
    case 11: return "gateway target device failed to respond";
    default: return "an exception that the protocol doesn't know";
  }
}

Bytes readRequest(Table table, std::uint16_t first, std::uint16_t count) {
  Bytes out;
  switch (table) {
    case Table::Coil: put(out, ReadCoils); break;
    case Table::DiscreteInput: put(out, ReadDiscreteInputs); break;
    case Table::InputRegister: put(out, ReadInputRegisters); break;
    case Table::HoldingRegister: put(out, ReadHoldingRegisters); break;
  }
  put16(out, first);
  put16(out, count);
  return out;
}

Bytes writeOne(Table table, std::uint16_t address, std::uint16_t value) {
  Bytes out;
  const bool isCoil = table == Table::Coil;
  put(out, isCoil ? WriteCoil : WriteRegister);
  put16(out, address);
  put16(out, isCoil ? (value ? kCoilOn : std::uint16_t{0}) : value);
  return out;
}

Bytes writeBit(std::uint16_t address, int bit, bool on) {
  const auto mask = static_cast<std::uint16_t>(1u << bit);
  Bytes out;
  put(out, MaskRegister);
  put16(out, address);
  put16(out, static_cast<std::uint16_t>(~mask));
  put16(out, on ? mask : std::uint16_t{0});
  return out;
}

Bytes writeSeveral(Table table, std::uint16_t first, std::span<const std::uint16_t> values) {
  Bytes out;
  const bool areCoils = table == Table::Coil;
  put(out, areCoils ? WriteCoils : WriteRegisters);
  put16(out, first);
  put16(out, static_cast<std::uint16_t>(values.size()));
  if (!areCoils) {
    put(out, static_cast<std::uint8_t>(values.size() * 2));
    for (const auto value : values) put16(out, value);
    return out;
  }
  put(out, static_cast<std::uint8_t>((values.size() + 7) / 8));
  for (std::size_t i = 0; i < values.size(); i += 8) {
    unsigned octet = 0;
    for (std::size_t bit = 0; bit < 8 && i + bit < values.size(); ++bit) octet |= (values[i + bit] ? 1u : 0u) << bit;
    put(out, static_cast<std::uint8_t>(octet));
  }
  return out;
}

namespace {

std::string_view nameOfFunction(std::uint8_t function) {
  switch (function) {
    case ReadCoils: return "read coils";
    case ReadDiscreteInputs: return "read discrete inputs";
    case ReadHoldingRegisters: return "read holding registers";
    case ReadInputRegisters: return "read input registers";
    case WriteCoil: return "write coil";
    case WriteRegister: return "write register";
    case WriteCoils: return "write coils";
    case WriteRegisters: return "write registers";
    case MaskRegister: return "write bits of register";
    case Identify: return "read device identification";
    default: return "a function of another kind";
  }
}

}  // namespace

std::string describe(BytesView request) {
  if (!request.empty() && octetAt(request, 0) == Identify) return std::string(nameOfFunction(Identify));
  if (request.size() < 5) return "too few octets";
  const std::uint8_t function = octetAt(request, 0);
  const std::uint16_t first = wordAt(request, 1), second = wordAt(request, 3);
  const bool isOne = function == WriteCoil || function == WriteRegister || function == MaskRegister;
  return isOne ? fmt::format("{} {}: {:04X}", nameOfFunction(function), first, second)
               : fmt::format("{} {} to {}", nameOfFunction(function), first, first + second - 1);
}

std::string describeAnswer(BytesView answer) {
  if (answer.size() < 2) return "too few octets";
  const std::uint8_t function = octetAt(answer, 0);
  if (function & kException)
    return fmt::format("exception {}: {}", octetAt(answer, 1), exceptionName(octetAt(answer, 1)));
  return fmt::format("{}: done", nameOfFunction(function));
}

Result<Answer> answerTo(BytesView request, BytesView answer) {
  if (request.size() < 5 || answer.size() < 2) return nonsense("the device answered with too few octets");
  const std::uint8_t function = octetAt(request, 0), answered = octetAt(answer, 0);
  if (answered == (function | kException)) return Answer{refusalOf(octetAt(answer, 1)), {octetAt(answer, 1)}};
  if (answered != function) return nonsense("the device answered something else than it was asked");
  switch (function) {
    case ReadCoils:
    case ReadDiscreteInputs: return valuesIn(request, answer, true);
    case ReadHoldingRegisters:
    case ReadInputRegisters: return valuesIn(request, answer, false);
    default: break;
  }
  if (function == MaskRegister)
    return std::ranges::equal(request, answer)
               ? Result<Answer>(Answer{status::Good, {}})
               : nonsense("the device says that it wrote something else than it was told");
  // A write is answered by its address and its value, or their number.
  if (answer.size() != 5 || wordAt(answer, 1) != wordAt(request, 1) || wordAt(answer, 3) != wordAt(request, 3))
    return nonsense("the device says that it wrote something else than it was told");
  return Answer{status::Good, {}};
}

Bytes identifyRequest(bool isRegular, std::uint8_t first) {
  Bytes out;
  for (const std::uint8_t octet : {std::uint8_t{Identify}, kIdentification, std::uint8_t{isRegular ? 2u : 1u}, first})
    put(out, octet);
  return out;
}

Result<Identification> identificationIn(BytesView answer) {
  const auto broken = [] { return nonsense("the device says what it is in a way that can't be read"); };
  if (answer.size() >= 2 && octetAt(answer, 0) == (Identify | kException))
    return Error{
        status::BadNotSupported, fmt::format("it does not say what it is: {}", exceptionName(octetAt(answer, 1))), {}};
  constexpr std::size_t kObjects = 7;  // begin there
  if (answer.size() < kObjects || octetAt(answer, 0) != Identify || octetAt(answer, 1) != kIdentification)
    return broken();
  Identification out;
  constexpr std::uint8_t kMoreFollow = 0xFF;
  if (octetAt(answer, 4) == kMoreFollow) out.next = octetAt(answer, 5);
  BytesView rest = answer.subspan(kObjects);
  for (std::size_t left = octetAt(answer, 6); left > 0; --left) {
    if (rest.size() < 2 || rest.size() < 2u + octetAt(rest, 1)) return broken();
    const std::size_t size = octetAt(rest, 1);
    const auto* text = reinterpret_cast<const char*>(rest.data() + 2);
    out.objects.emplace_back(octetAt(rest, 0), std::string(text, size));
    rest = rest.subspan(2 + size);
  }
  return out;
}

std::string nameOfObject(std::uint8_t number) {
  constexpr const char* kNames[] = {"vendor",       "product code", "revision",   "vendor's address",
                                    "product name", "model name",   "application"};
  return number < std::size(kNames) ? kNames[number] : fmt::format("object {}", number);
}

}  // namespace zunth::device::modbus
