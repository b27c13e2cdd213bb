#pragma once

#include "core/channel/sealing.hpp"

#include <optional>

namespace zunth::channel {

enum class MessageType : std::uint8_t { Hello, Acknowledge, Error, ReverseHello, Open, Message, Close };

/// One chunk as it stood in the stream: the type, the final octet, and what follows the 8-octet header.
struct Chunk {
  MessageType type;
  char final;  // 'F' last of a message, 'C' more follow, 'A' abort
  ua::BytesView body;
  std::span<std::byte> whole;  // with the header; decrypted in place
};

/// Cuts a stream into chunks (Part 6, 6.7.2). Feed what arrives, then take chunks until there is none.
class ChunkReader {
 public:
  void feed(ua::BytesView octets);
  /// The next whole chunk, valid until the next call of feed(). BadTcpMessageTypeInvalid or BadTcpMessageTooLarge
  /// when the stream is none of ours; nothing more can be read after that.
  ua::Result<std::optional<Chunk>> next(std::uint32_t maxChunkSize);

 private:
  ua::Bytes buffer_;
  std::size_t begin_ = 0;  // of what hasn't been taken yet
};

/// Octets reserved before a message's body for the headers of its first chunk.
inline constexpr std::size_t kHeadroom = 24;

/// A buffer for one message: the headroom, ready for its body to be appended.
ua::Bytes newMessage();

/// Numbers the chunks that one side sends, puts their headers on and seals them (Part 6, 6.7.2).
class ChunkWriter {
 public:
  /// The chunks of a symmetric message; `message` comes from newMessage(). One chunk is made in place, without a
  /// copy. BadTcpMessageTooLarge when the other side's limits are exceeded; nothing is numbered then.
  ua::Result<void> write(MessageType type, std::uint32_t channelId, std::uint32_t tokenId, std::uint32_t requestId,
                         ua::Bytes message, std::vector<ua::Bytes>& out);
  /// An OPN message with its asymmetric header.
  ua::Bytes writeOpen(std::uint32_t channelId, std::uint32_t requestId, const AsymmetricHeader& header,
                      ua::BytesView body, const OpenSealing& sealing = {});
  /// An abort chunk: the receiver forgets what came of this request and reports `why`.
  ua::Bytes writeAbort(std::uint32_t channelId, std::uint32_t tokenId, std::uint32_t requestId, const ua::Error& why);

  /// The next chunk's number, for one that is written elsewhere.
  std::uint32_t takeSequenceNumber();
  /// Symmetric messages are sealed so from now on.
  void setSealing(const Sealing& sealing) { sealing_ = sealing; }
  /// From 0 up to the largest number and round, as policies with curves have it (Part 6, 6.7.2.4); before the first
  /// chunk. Other policies start at 1, and begin anew before the last 1024.
  void numberFromZero() {
    nextSequenceNumber_ = 0;
    isLegacyNumbered_ = false;
  }
  void setLimits(std::uint32_t chunkSize, std::uint32_t messageSize, std::uint32_t chunkCount) {
    maxChunkSize_ = chunkSize;
    maxMessageSize_ = messageSize;
    maxChunkCount_ = chunkCount;
  }

 private:
  Sealing sealing_;
  std::uint32_t maxChunkSize_ = kLeastBufferSize;
  std::uint32_t maxMessageSize_ = 0;  // 0 for any
  std::uint32_t maxChunkCount_ = 0;
  std::uint32_t nextSequenceNumber_ = 1;
  bool isLegacyNumbered_ = true;
};

/// A sealed OPN chunk.
ua::Bytes openChunk(std::uint32_t channelId, std::uint32_t sequenceNumber, std::uint32_t requestId,
                    const AsymmetricHeader& header, ua::BytesView body, const OpenSealing& sealing);

/// An unnumbered message of the connection protocol.
template <class Structure>
ua::Bytes writeTransport(MessageType type, const Structure& body);

/// Joins the chunks that one side receives, checking their numbers (Part 6, 6.7.2.4).
class MessageAssembler {
 public:
  struct Message {
    std::uint32_t requestId = 0;
    ua::BytesView body;                // valid until the next call of add()
    std::optional<ua::Error> aborted;  // set when the sender gave the message up
  };

  explicit MessageAssembler(const ChannelLimits& limits) : limits_(limits) {}
  void setMostMessage(std::size_t octets) { limits_.maxMessageSize = static_cast<std::uint32_t>(octets); }
  std::size_t unfinished() const { return finished_ ? 0 : joined_.size(); }
  /// Takes what follows a chunk's security header. A message when this was its last chunk.
  /// BadSequenceNumberInvalid, BadSecurityChecksFailed or BadTcpMessageTooLarge end the channel.
  ua::Result<std::optional<Message>> add(char final, ua::BytesView numbered);

 private:
  ChannelLimits limits_;
  std::optional<std::uint32_t> lastSequenceNumber_;
  ua::Bytes joined_;
  bool finished_ = true;  // joined_ has been handed out
  std::uint32_t chunks_ = 0;
  std::uint32_t requestId_ = 0;
};

std::string_view tag(MessageType type);

template <class Structure>
ua::Bytes writeTransport(MessageType type, const Structure& body) {
  ua::Bytes out(8);
  ua::BinaryWriter writer(out);
  writer.write(body);
  std::memcpy(out.data(), tag(type).data(), 3);
  out[3] = std::byte{'F'};
  writer.patch(4, static_cast<std::uint32_t>(out.size()));
  return out;
}

}  // namespace zunth::channel
