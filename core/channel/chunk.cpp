#include "core/channel/chunk.hpp"

#include <fmt/format.h>

namespace zunth::channel {

using namespace ua;

namespace {

constexpr std::size_t kHeaderSize = 8;
constexpr std::size_t kSymmetricHeaderSize = 12 + 4 + 8;  // header and channel id, token id, sequence header
static_assert(kSymmetricHeaderSize == kHeadroom);
constexpr std::uint32_t kSequenceWrap = UINT32_MAX - 1024;  // Part 6, 6.7.2.4

std::optional<MessageType> typeOf(const std::byte* at) {
  const std::string_view text(reinterpret_cast<const char*>(at), 3);
  for (auto type : {MessageType::Message, MessageType::Open, MessageType::Close, MessageType::Hello,
                    MessageType::Acknowledge, MessageType::ReverseHello, MessageType::Error})
    if (text == tag(type)) return type;
  return std::nullopt;
}

void put(std::byte* at, std::uint32_t value) { std::memcpy(at, &value, sizeof value); }
std::uint32_t get(const std::byte* at) {
  std::uint32_t value;
  std::memcpy(&value, at, sizeof value);
  return value;
}

void putSymmetricHeader(std::byte* at, MessageType type, char final, std::size_t size, std::uint32_t channelId,
                        std::uint32_t tokenId, std::uint32_t sequenceNumber, std::uint32_t requestId) {
  std::memcpy(at, tag(type).data(), 3);
  at[3] = static_cast<std::byte>(final);
  put(at + 4, static_cast<std::uint32_t>(size));
  put(at + 8, channelId);
  put(at + 12, tokenId);
  put(at + 16, sequenceNumber);
  put(at + 20, requestId);
}

}  // namespace

std::string_view tag(MessageType type) {
  switch (type) {
    case MessageType::Hello: return "HEL";
    case MessageType::Acknowledge: return "ACK";
    case MessageType::Error: return "ERR";
    case MessageType::ReverseHello: return "RHE";
    case MessageType::Open: return "OPN";
    case MessageType::Message: return "MSG";
    case MessageType::Close: return "CLO";
  }
  return "";
}

Bytes newMessage() {
  Bytes message;
  message.reserve(1024);
  message.resize(kHeadroom);
  return message;
}

void ChunkReader::feed(BytesView octets) {
  if (begin_ == buffer_.size()) {
    buffer_.clear();
    begin_ = 0;
  } else if (begin_ > buffer_.size() / 2) {
    buffer_.erase(buffer_.begin(), buffer_.begin() + static_cast<std::ptrdiff_t>(begin_));
    begin_ = 0;
  }
  buffer_.insert(buffer_.end(), octets.begin(), octets.end());
}

Result<std::optional<Chunk>> ChunkReader::next(std::uint32_t maxChunkSize) {
  const std::size_t there = buffer_.size() - begin_;
  const std::byte* at = buffer_.data() + begin_;
  if (there < 3) return std::optional<Chunk>();
  const auto type = typeOf(at);
  if (!type) return Error{status::BadTcpMessageTypeInvalid, "what arrived is not the OPC UA connection protocol", {}};
  if (there < kHeaderSize) return std::optional<Chunk>();
  const char final = static_cast<char>(at[3]);
  const std::uint32_t size = get(at + 4);
  if (final != 'F' && ((final != 'C' && final != 'A') || *type != MessageType::Message))
    return Error{status::BadTcpMessageTypeInvalid, "a chunk is marked neither final, continued nor aborted", {}};
  if (size < kHeaderSize || size > maxChunkSize)
    return Error{status::BadTcpMessageTooLarge,
                 fmt::format("a chunk of {} octets arrived; {} were agreed on", size, maxChunkSize),
                 {}};
  if (there < size) return std::optional<Chunk>();
  begin_ += size;
  std::byte* start = buffer_.data() + begin_ - size;
  return std::optional<Chunk>(Chunk{*type, final, {start + kHeaderSize, size - kHeaderSize}, {start, size}});
}

std::uint32_t ChunkWriter::takeSequenceNumber() {
  const std::uint32_t number = nextSequenceNumber_;
  nextSequenceNumber_ = isLegacyNumbered_ && number >= kSequenceWrap ? 1 : number + 1;
  return number;
}

Result<void> ChunkWriter::write(MessageType type, std::uint32_t channelId, std::uint32_t tokenId,
                                std::uint32_t requestId, Bytes message, std::vector<Bytes>& out) {
  const std::size_t bodySize = message.size() - kHeadroom;
  const std::size_t most = sealing_.mostBody(maxChunkSize_);
  const std::size_t count = bodySize ? (bodySize + most - 1) / most : 1;
  if ((maxMessageSize_ && bodySize > maxMessageSize_) || (maxChunkCount_ && count > maxChunkCount_))
    return Error{status::BadTcpMessageTooLarge,
                 fmt::format("the message has {} octets in {} chunks; the other side takes {} in {}", bodySize, count,
                             maxMessageSize_, maxChunkCount_),
                 {}};
  if (count == 1) {
    putSymmetricHeader(message.data(), type, 'F', message.size(), channelId, tokenId, takeSequenceNumber(), requestId);
    seal(message, sealing_);
    out.push_back(std::move(message));
    return {};
  }
  for (std::size_t i = 0; i < count; ++i) {
    const std::size_t from = kHeadroom + i * most;
    const std::size_t size = std::min(most, message.size() - from);
    Bytes chunk;
    chunk.reserve(maxChunkSize_);  // sealing adds to it
    chunk.resize(kHeadroom + size);
    std::memcpy(chunk.data() + kHeadroom, message.data() + from, size);
    putSymmetricHeader(chunk.data(), type, i + 1 == count ? 'F' : 'C', chunk.size(), channelId, tokenId,
                       takeSequenceNumber(), requestId);
    seal(chunk, sealing_);
    out.push_back(std::move(chunk));
  }
  return {};
}

Bytes ChunkWriter::writeOpen(std::uint32_t channelId, std::uint32_t requestId, const AsymmetricHeader& header,
                             BytesView body, const OpenSealing& sealing) {
  return openChunk(channelId, takeSequenceNumber(), requestId, header, body, sealing);
}

Bytes openChunk(std::uint32_t channelId, std::uint32_t sequenceNumber, std::uint32_t requestId,
                const AsymmetricHeader& header, BytesView body, const OpenSealing& sealing) {
  Bytes out(kHeaderSize);
  BinaryWriter writer(out);
  writer.write(channelId);
  writer.write(header);
  const std::size_t headerSize = out.size();
  writer.write(sequenceNumber);
  writer.write(requestId);
  writer.raw(body);
  std::memcpy(out.data(), tag(MessageType::Open).data(), 3);
  out[3] = std::byte{'F'};
  sealOpen(out, headerSize, sealing);
  return out;
}

Bytes ChunkWriter::writeAbort(std::uint32_t channelId, std::uint32_t tokenId, std::uint32_t requestId,
                              const Error& why) {
  Bytes out = newMessage();
  BinaryWriter(out).write(Refusal{why.code, String(why.cause)});
  putSymmetricHeader(out.data(), MessageType::Message, 'A', out.size(), channelId, tokenId, takeSequenceNumber(),
                     requestId);
  seal(out, sealing_);
  return out;
}

Result<std::optional<MessageAssembler::Message>> MessageAssembler::add(char final, BytesView numbered) {
  if (numbered.size() < 8) return Error{status::BadDecodingError, "a chunk ends before its sequence header", {}};
  const std::uint32_t sequenceNumber = get(numbered.data());
  const std::uint32_t requestId = get(numbered.data() + 4);
  const BytesView body = numbered.subspan(8);
  if (lastSequenceNumber_) {
    const bool follows = sequenceNumber == *lastSequenceNumber_ + 1;
    const bool wraps = *lastSequenceNumber_ >= kSequenceWrap && sequenceNumber < 1024;
    if (!follows && !wraps)
      return Error{status::BadSequenceNumberInvalid,
                   fmt::format("chunk {} came after chunk {}", sequenceNumber, *lastSequenceNumber_),
                   {}};
  }
  lastSequenceNumber_ = sequenceNumber;

  if (finished_) {
    // A large message's memory is not kept for small ones.
    constexpr std::size_t kMostKept = 256 * 1024;
    if (joined_.capacity() > kMostKept) joined_ = Bytes();
    joined_.clear();
    chunks_ = 0;
    requestId_ = requestId;
  } else if (requestId != requestId_) {
    return Error{status::BadSecurityChecksFailed,
                 fmt::format("a chunk of request {} came in the middle of request {}", requestId, requestId_),
                 {}};
  }
  if (final == 'A') {
    finished_ = true;
    auto refusal = decode<Refusal>(body);
    Message message{requestId, {}, Error{status::BadCommunicationError, "the sender gave the message up", {}}};
    if (refusal) message.aborted = Error{refusal->error, refusal->reason.str(), {}};
    return std::optional<Message>(std::move(message));
  }
  ++chunks_;
  if (joined_.size() + body.size() > limits_.maxMessageSize || chunks_ > limits_.maxChunkCount)
    return Error{status::BadTcpMessageTooLarge,
                 fmt::format("a message of more than {} octets or {} chunks arrived", limits_.maxMessageSize,
                             limits_.maxChunkCount),
                 {}};
  finished_ = final == 'F';
  if (finished_ && chunks_ == 1) return std::optional<Message>(Message{requestId, body, {}});
  joined_.insert(joined_.end(), body.begin(), body.end());
  if (!finished_) return std::optional<Message>();
  return std::optional<Message>(Message{requestId, joined_, {}});
}

}  // namespace zunth::channel
