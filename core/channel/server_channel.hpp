#pragma once

#include "core/channel/channel_token.hpp"
#include "core/channel/chunk.hpp"
#include "core/secure/key_exchange.hpp"
#include "core/ua/generated/structures.hpp"

#include <functional>

namespace zunth::channel {

/// What an open channel is secured by; services judge by it what may be said.
struct ChannelSecurity {
  ua::String policyUri;
  ua::MessageSecurityMode mode = ua::MessageSecurityMode::Invalid;
  ua::ByteString peerCertificate;  // with its chain, as its owner signed with it; empty for policy None
  std::shared_ptr<const secure::Certificate> peer;  // the same, read; null for policy None
  std::shared_ptr<const secure::Identity> own;      // what the server showed on this channel
  const secure::Policy* policy() const { return secure::policyOf(policyUri.view()); }
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
    /// What judges whether a client with this chain may open a channel: what is wrong with its certificate, or
    /// nothing. It is called where offload() does its work.
    virtual std::function<ua::Result<void>(const ua::ByteString& certificateChain)> trust() {
      return [](const ua::ByteString&) -> ua::Result<void> {
        return ua::Error{ua::status::BadSecurityChecksFailed, "this server trusts nobody", {}};
      };
    }
    /// Does what takes long, such as working with keys, away from here, and calls `done` here afterwards; `done` must
    /// not be called once the channel is gone. BadTcpServerTooBusy when too much waits already: then neither is called.
    /// By default both are done at once.
    virtual ua::Result<void> offload(std::function<void()> work, std::function<void()> done) {
      work();
      done();
      return {};
    }
    /// Whether no further request can be taken just now: what was sent waits until read() is called again.
    virtual bool isBusy() { return false; }
    /// A whole request: `body` starts with its encoding id and lives only during the call.
    virtual void request(std::uint32_t requestId, ua::BytesView body) = 0;
    /// The channel is over: closed by the client (Good) or broken. Sent once.
    virtual void closed(const ua::Error& why) = 0;
  };
  struct Options {
    ChannelLimits limits;
    std::uint32_t channelId = 1;                                     // unique in the server, not 0
    std::uint32_t leastLifetime = 10'000, mostLifetime = 3'600'000;  // ms, of a security token
    secure::Identities identities;                                   // without any, policy None only
    secure::Offer offer;
    std::function<ua::ByteString(std::size_t)> random;               // octets for nonces
    std::optional<ReverseHello> reverseHello;                        // where the server connected to the client
  };

  /// Waits for the client's hello; after a reverse hello, which is output at once.
  ServerChannel(const Options& options, Handler& handler);

  ServerChannel(const ServerChannel&) = delete;

  /// Takes what arrived. Calls the handler for whole requests.
  void feed(ua::BytesView octets, ua::Instant now, ua::DateTime wallClock);
  /// Goes on with what arrived and was left, as when a busy handler has time again.
  void read();
  /// Whether there is no need to wait before more is read from the connection: nothing that came is left lying.
  bool wantsMore() const { return !isOpening_ && !isLeft_; }
  /// Whether the handler was busy and chunks may wait for read().
  bool isLeft() const { return isLeft_; }
  /// Messages have this many octets at most until it is said again: those of strangers are small.
  void setMostMessage(std::size_t octets) { assembler_.setMostMessage(octets); }
  /// Octets of a message that hasn't arrived whole.
  std::size_t unfinished() const { return assembler_.unfinished(); }
  /// Octets that the client takes in one message; 0 for any number.
  std::size_t mostResponse() const { return mostResponse_; }
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
  void handle(const Chunk& chunk);
  void hello(const Chunk& chunk);
  /// An OPN message on its way: its octets are unsealed away from here, looked at, and answered away from here.
  struct Opening;
  void open(const Chunk& chunk);
  void opened(const std::shared_ptr<Opening>& opening);
  static void unsealSent(Opening& opening);
  static void seal(Opening& opening);
  void answer(const std::shared_ptr<Opening>& opening);
  void offload(const std::shared_ptr<Opening>& opening, void (*work)(Opening&),
               void (ServerChannel::*then)(const std::shared_ptr<Opening>&));
  ua::Result<void> checkOpening(const Opening& opening) const;
  void message(const Chunk& chunk);
  void end(const ua::Error& why);
  void issue(ChannelToken token);
  /// What is sent goes under the old token until the client has used the new one (Part 4, 5.5.2).
  const ChannelToken& sendingToken() const { return previous_ ? *previous_ : newest_; }
  void useSendingToken();
  Sealing sealing(const secure::ChannelKeys* keys) const {
    return {keys, security_.mode == ua::MessageSecurityMode::SignAndEncrypt};
  }

  Options options_;
  Handler& handler_;
  State state_ = State::AwaitHello;
  ChunkReader reader_;
  ChunkWriter writer_;
  MessageAssembler assembler_;
  std::vector<ua::Bytes> output_;
  ua::String endpointUrl_;
  ChannelSecurity security_;
  ChannelToken newest_;
  std::optional<ChannelToken> previous_;  // accepted until the newest is used
  bool isReading_ = false;
  bool isLeft_ = false;  // the handler was busy: chunks may wait in the reader
  std::size_t mostResponse_ = 0;
  bool isOpening_ = false;  // what arrives meanwhile waits, and so do answers
  std::vector<std::pair<std::uint32_t, ua::Bytes>> held_;
  ua::Instant now_{};       // of the last octets
  ua::DateTime wallClock_;  // of the last octets
};

}  // namespace zunth::channel
