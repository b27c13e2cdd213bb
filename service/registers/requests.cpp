#include "service/registers/requests.hpp"

#include <algorithm>
#include <span>

namespace zunth::registers {

using namespace ua;
using device::modbus::isBits;

namespace {

constexpr std::uint16_t kMostBitsRead = 2000, kMostRead = 125, kMostBitsWritten = 1968, kMostWritten = 123;
constexpr std::uint16_t kMostWrittenThenRead = 121;
constexpr std::uint16_t kCoilOn = 0xFF00;
constexpr std::uint8_t kExceptionMark = 0x80, kIdentification = 0x0E;

void put(Bytes& out, std::size_t octet) { out.push_back(static_cast<std::byte>(octet)); }
void putWord(Bytes& out, std::uint16_t word) {
  put(out, word >> 8);
  put(out, word & 0xFF);
}

/// Octets of a request, in their order; what is missing is found out once, at the end.
class Octets {
 public:
  explicit Octets(BytesView rest) : rest_(rest) {}
  std::uint8_t octet() {
    if (rest_.empty()) {
      isShort_ = true;
      return 0;
    }
    const auto out = std::to_integer<std::uint8_t>(rest_.front());
    rest_ = rest_.subspan(1);
    return out;
  }
  std::uint16_t word() {
    const unsigned high = octet();
    return static_cast<std::uint16_t>(high << 8 | octet());
  }
  /// Whether all was there, and nothing more.
  bool isWhole() const { return !isShort_ && rest_.empty(); }
  std::size_t left() const { return rest_.size(); }

 private:
  BytesView rest_;
  bool isShort_ = false;
};

/// A function's number says what it does to which table.
struct Kind {
  std::uint8_t function;
  Request::Kind kind;
  Table table;
  bool isOne;
};
constexpr Kind kKinds[] = {{1, Request::Kind::Read, Table::Coil, false},
                           {2, Request::Kind::Read, Table::DiscreteInput, false},
                           {3, Request::Kind::Read, Table::HoldingRegister, false},
                           {4, Request::Kind::Read, Table::InputRegister, false},
                           {5, Request::Kind::Write, Table::Coil, true},
                           {6, Request::Kind::Write, Table::HoldingRegister, true},
                           {15, Request::Kind::Write, Table::Coil, false},
                           {16, Request::Kind::Write, Table::HoldingRegister, false},
                           {22, Request::Kind::Mask, Table::HoldingRegister, true},
                           {23, Request::Kind::WriteThenRead, Table::HoldingRegister, false},
                           {43, Request::Kind::Identify, Table::HoldingRegister, false}};

bool isInside(const Span& span) { return span.first + span.count <= 0x10000; }

/// The values behind a count of values and one of octets.
bool readWords(Octets& octets, const Span& span, std::vector<std::uint16_t>& out) {
  const std::size_t size = octets.octet();
  if (isBits(span.table)) {
    if (size != (span.count + 7u) / 8 || octets.left() != size) return false;
    std::uint8_t bits = 0;
    for (std::size_t i = 0; i < span.count; ++i) {
      if (i % 8 == 0) bits = octets.octet();
      out.push_back(bits >> (i % 8) & 1);
    }
    return true;
  }
  if (size != span.count * 2u || octets.left() != size) return false;
  for (std::size_t i = 0; i < span.count; ++i) out.push_back(octets.word());
  return true;
}

}  // namespace

Outcome<Request> parseRequest(BytesView pdu) {
  Octets octets(pdu);
  Request request;
  request.function = octets.octet();
  const auto* known = std::ranges::find(kKinds, request.function, &Kind::function);
  if (known == std::end(kKinds)) return Exception::IllegalFunction;
  request.kind = known->kind;
  const bool areBits = isBits(known->table);
  const auto isCount = [](std::uint16_t count, std::uint16_t most) { return count >= 1 && count <= most; };
  bool isSound = true;
  switch (request.kind) {
    case Request::Kind::Read:
      request.read = {known->table, octets.word(), octets.word()};
      isSound = isCount(request.read.count, areBits ? kMostBitsRead : kMostRead);
      break;
    case Request::Kind::Write:
      request.written = {known->table, octets.word(), 1};
      if (known->isOne) {
        const std::uint16_t word = octets.word();
        isSound = !areBits || word == 0 || word == kCoilOn;
        request.words = {areBits ? static_cast<std::uint16_t>(word != 0) : word};
      } else {
        request.written.count = octets.word();
        isSound = isCount(request.written.count, areBits ? kMostBitsWritten : kMostWritten) &&
                  readWords(octets, request.written, request.words);
      }
      break;
    case Request::Kind::Mask:
      request.written = {known->table, octets.word(), 1};
      request.andMask = octets.word();
      request.orMask = octets.word();
      break;
    case Request::Kind::WriteThenRead:
      request.read = {known->table, octets.word(), octets.word()};
      request.written = {known->table, octets.word(), octets.word()};
      isSound = isCount(request.read.count, kMostRead) && isCount(request.written.count, kMostWrittenThenRead) &&
                readWords(octets, request.written, request.words);
      break;
    case Request::Kind::Identify: {
      if (octets.octet() != kIdentification) return Exception::IllegalFunction;
      request.category = octets.octet();
      request.identity = octets.octet();
      isSound = request.category == 1 || request.category == 2 || request.category == 4;
      break;
    }
  }
  if (!isSound || !octets.isWhole()) return Exception::IllegalDataValue;
  if (!isInside(request.read) || !isInside(request.written)) return Exception::IllegalDataAddress;
  return request;
}

Bytes answerRead(const Request& request, std::span<const std::uint16_t> words) {
  Bytes out;
  put(out, request.function);
  if (!isBits(request.read.table)) {
    put(out, words.size() * 2);
    for (const auto word : words) putWord(out, word);
    return out;
  }
  put(out, (words.size() + 7) / 8);
  for (std::size_t i = 0; i < words.size(); i += 8) {
    unsigned octet = 0;
    for (std::size_t bit = 0; bit < 8 && i + bit < words.size(); ++bit) octet |= (words[i + bit] ? 1u : 0u) << bit;
    put(out, octet);
  }
  return out;
}

Bytes answerWritten(const Request& request) {
  Bytes out;
  put(out, request.function);
  putWord(out, request.written.first);
  if (request.kind == Request::Kind::Mask) {
    putWord(out, request.andMask);
    putWord(out, request.orMask);
    return out;
  }
  const bool isOne = request.function == 5 || request.function == 6;
  const std::uint16_t coil = request.words.empty() || request.words.front() == 0 ? std::uint16_t{0} : kCoilOn;
  putWord(out, !isOne ? request.written.count : request.function == 5 ? coil : request.words.front());
  return out;
}

Bytes answerIdentity(const Request& request, std::span<const std::string> texts) {
  constexpr std::uint8_t kBasicAndSingle = 0x81, kOneObject = 4;
  constexpr std::size_t kLongest = 60;  // all of them fit into one answer
  const bool isOne = request.category == kOneObject;
  if (isOne && request.identity >= texts.size())
    return answerException(request.function, Exception::IllegalDataAddress);
  // Part of 6.21: who asks for one that isn't there gets them from the first on.
  const std::size_t first = request.identity < texts.size() ? request.identity : 0;
  const auto told = texts.subspan(first, isOne ? 1 : texts.size() - first);
  Bytes out;
  put(out, request.function);
  put(out, kIdentification);
  put(out, request.category);
  put(out, kBasicAndSingle);
  putWord(out, 0);  // nothing follows
  put(out, told.size());
  for (std::size_t i = 0; i < told.size(); ++i) {
    const std::string text = told[i].substr(0, kLongest);
    put(out, first + i);
    put(out, text.size());
    for (const char c : text) put(out, static_cast<unsigned char>(c));
  }
  return out;
}

Bytes answerException(std::uint8_t function, Exception exception) {
  Bytes out;
  put(out, function | kExceptionMark);
  put(out, static_cast<std::uint8_t>(exception));
  return out;
}

}  // namespace zunth::registers
