#pragma once

#include "core/channel/channel_token.hpp"
#include "core/channel/chunk.hpp"
#include "core/secure/key_exchange.hpp"
#include "core/ua/generated/structures.hpp"

#include <functional>

namespace zunth::channel {

/// The client's side of a connection and its secure channel, as a state machine without I/O. See ServerChannel.
class ClientChannel {
 public:
  class Handler {
   public:
    virtual ~Handler() = default;
    virtual void opened() = 0;
    /// A whole response: `body` starts with its encoding id and lives only during the call.
    virtual void response(std::uint32_t requestId, ua::BytesView body) = 0;
    /// The server gave this response up (BadResponseTooLarge and the like).
    virtual void aborted(std::uint32_t requestId, const ua::Error& why) = 0;
    /// The channel is over; `why` carries the server's word when it sent one. Sent once.
    virtual void closed(const ua::Error& why) = 0;
  };
  struct Options {
    ChannelLimits limits;
    ua::String endpointUrl;
    std::uint32_t lifetime = 3'600'000;      // ms asked for, of a security token
    const secure::Policy* policy = nullptr;  // null for None
    ua::MessageSecurityMode mode = ua::MessageSecurityMode::None;
    std::shared_ptr<const secure::Identity> identity;   // this client's; for a policy
    std::optional<secure::Certificate> server;          // whom it must be; for a policy
    std::function<ua::ByteString(std::size_t)> random;  // octets for nonces
    bool awaitsReverseHello = false;                    // the server connected; its word says what to say hello to
  };

  /// Says hello at once: there is output to send. Or waits for the server's reverse hello first.
  ClientChannel(const Options& options, Handler& handler);

  void feed(ua::BytesView octets, ua::Instant now, ua::DateTime wallClock);
  /// Sends a request once opened() was called; `message` comes from newMessage(). The request's id, or
  /// BadRequestTooLarge when it is larger than the server takes, BadSecureChannelClosed when there is no channel.
  ua::Result<std::uint32_t> request(ua::Bytes message);
  /// Renews the token when three quarters of its life have passed.
  void tick(ua::Instant now, ua::DateTime wallClock);
  /// Says goodbye.
  void close(ua::DateTime wallClock);

  /// The connection is gone: nothing goes in or out any more. The handler is not told.
  void abandon() { state_ = State::Over; }

  std::vector<ua::Bytes> takeOutput() { return std::exchange(output_, {}); }
  bool isOpen() const { return state_ == State::Open; }
  bool isOver() const { return state_ == State::Over; }
  ua::Instant renewsAt() const { return renewsAt_; }
  /// What hello was said to.
  const ua::String& endpointUrl() const { return options_.endpointUrl; }

 private:
  enum class State { AwaitReverseHello, AwaitAcknowledge, AwaitOpen, Open, Over };
  void handle(const Chunk& chunk, ua::Instant now, ua::DateTime wallClock);
  void sayHello();
  void askForToken(ua::SecurityTokenRequestType type, ua::DateTime wallClock);
  void openResponse(const Chunk& chunk, ua::Instant now);
  void message(const Chunk& chunk);
  void end(const ua::Error& why);
  Sealing sealing(const secure::ChannelKeys* keys) const {
    return {keys, options_.mode == ua::MessageSecurityMode::SignAndEncrypt};
  }
  OpenSealing openSealing() const {
    return {options_.policy, options_.identity.get(), options_.server ? &*options_.server : nullptr};
  }

  Options options_;
  Handler& handler_;
  State state_ = State::AwaitAcknowledge;
  ChunkReader reader_;
  ChunkWriter writer_;
  MessageAssembler assembler_;
  std::vector<ua::Bytes> output_;
  std::uint32_t channelId_ = 0;
  secure::KeyExchange exchange_;  // of the token that is being asked for
  ChannelToken newest_;
  std::optional<ChannelToken> previous_;  // until the server answers under the newest
  ua::Bytes plain_;
  std::uint32_t lastRequestId_ = 0;
  bool renewing_ = false;
  ua::Instant renewsAt_ = ua::Instant::max();
};

}  // namespace zunth::channel
