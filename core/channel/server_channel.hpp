#pragma once

#include "core/channel/chunk.hpp"
#include "core/ua/generated/structures.hpp"
#include "core/ua/instant.hpp"

namespace zunth::channel {

/// What an open channel is secured by; services judge by it what may be said.
struct ChannelSecurity {
  ua::String policyUri;
  ua::MessageSecurityMode mode = ua::MessageSecurityMode::Invalid;
  ua::ByteString peerCertificate;
};

/// The server's side of a connection and its secure channel (Part 6, 6.7 and 7.1), as a state machine without I/O:
/// octets go in, requests come out to the handler, responses go in, octets to send come out.
class ServerChannel {
 public:
  class Handler {
   public:
    virtual ~Handler() = default;
    /// The channel was opened, or its token renewed.
    virtual void opened(const ua::OpenSecureChannelRequest&) {}
    /// A whole request: `body` starts with its encoding id and lives only during the call.
    virtual void request(std::uint32_t requestId, ua::BytesView body) = 0;
    /// The channel is over: closed by the client (Good) or broken. Sent once.
    virtual void closed(const ua::Error& why) = 0;
  };
  struct Options {
    ChannelLimits limits;
    std::uint32_t channelId = 1;                                     // unique in the server, not 0
    std::uint32_t leastLifetime = 10'000, mostLifetime = 3'600'000;  // ms, of a security token
  };

  ServerChannel(const Options& options, Handler& handler);

  /// Takes what arrived. Calls the handler for whole requests.
  void feed(ua::BytesView octets, ua::Instant now, ua::DateTime wallClock);
  /// Answers a request; `message` comes from newMessage(). When it is larger than the client takes, the client gets
  /// an abort with BadResponseTooLarge instead.
  void respond(std::uint32_t requestId, ua::Bytes message);
  /// Tells the client why and ends the channel.
  void refuse(const ua::Error& why);
  /// Ends a channel whose token ran out. Call now and then.
  void tick(ua::Instant now);

  std::vector<ua::Bytes> takeOutput() { return std::exchange(output_, {}); }
  bool hasOutput() const { return !output_.empty(); }
  bool isOpen() const { return state_ == State::Open; }
  /// The connection is to be closed once the output is sent.
  bool isOver() const { return state_ == State::Over; }
  std::uint32_t id() const { return options_.channelId; }
  const ua::String& endpointUrl() const { return endpointUrl_; }
  const ChannelSecurity& security() const { return security_; }

 private:
  enum class State { AwaitHello, AwaitOpen, Open, Over };
  void handle(const Chunk& chunk, ua::Instant now, ua::DateTime wallClock);
  void hello(const Chunk& chunk);
  void open(const Chunk& chunk, ua::Instant now, ua::DateTime wallClock);
  void message(const Chunk& chunk, ua::Instant now);
  void end(const ua::Error& why);

  Options options_;
  Handler& handler_;
  State state_ = State::AwaitHello;
  ChunkReader reader_;
  ChunkWriter writer_;
  MessageAssembler assembler_;
  std::vector<ua::Bytes> output_;
  ua::String endpointUrl_;
  ChannelSecurity security_;
  std::uint32_t tokenId_ = 0;          // the newest issued; the one before it stays valid until this is used
  std::uint32_t previousTokenId_ = 0;  // 0 when it is no longer accepted
  ua::Instant expires_{};
};

}  // namespace zunth::channel
