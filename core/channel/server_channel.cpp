#include "core/channel/server_channel.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::channel {

using namespace ua;

ServerChannel::ServerChannel(const Options& options, Handler& handler)
    : options_(options), handler_(handler), assembler_(options.limits) {}

void ServerChannel::feed(BytesView octets, Instant now, DateTime wallClock) {
  if (state_ == State::Over) return;
  reader_.feed(octets);
  while (state_ != State::Over) {
    auto chunk = reader_.next(options_.limits.receiveBufferSize);
    if (!chunk) return refuse(chunk.error());
    if (!*chunk) return;
    handle(**chunk, now, wallClock);
  }
}

void ServerChannel::handle(const Chunk& chunk, Instant now, DateTime wallClock) {
  switch (chunk.type) {
    case MessageType::Hello:
      if (state_ == State::AwaitHello) return hello(chunk);
      break;
    case MessageType::Open:
      if (state_ == State::AwaitOpen || state_ == State::Open) return open(chunk, now, wallClock);
      break;
    case MessageType::Message:
    case MessageType::Close:
      if (state_ == State::Open) return message(chunk, now);
      break;
    default: break;
  }
  refuse({status::BadTcpMessageTypeInvalid, fmt::format("a {} message came out of turn", tag(chunk.type)), {}});
}

void ServerChannel::hello(const Chunk& chunk) {
  auto hello = decode<Hello>(chunk.body);
  if (!hello) return refuse(hello.error());
  if (hello->endpointUrl.size() > kMostUrlLength)
    return refuse({status::BadTcpEndpointUrlInvalid, "the endpoint URL is longer than 4096 octets", {}});
  if (hello->receiveBufferSize < kLeastBufferSize || hello->sendBufferSize < kLeastBufferSize)
    return refuse({status::BadTcpNotEnoughResources, "buffers must hold at least 8192 octets", {}});
  endpointUrl_ = hello->endpointUrl;
  Acknowledge reply;
  reply.receiveBufferSize = std::min(options_.limits.receiveBufferSize, hello->sendBufferSize);
  reply.sendBufferSize = std::min(options_.limits.sendBufferSize, hello->receiveBufferSize);
  reply.maxMessageSize = options_.limits.maxMessageSize;
  reply.maxChunkCount = options_.limits.maxChunkCount;
  options_.limits.receiveBufferSize = reply.receiveBufferSize;
  writer_.setLimits(reply.sendBufferSize, hello->maxMessageSize, hello->maxChunkCount);
  output_.push_back(writeTransport(MessageType::Acknowledge, reply));
  state_ = State::AwaitOpen;
}

void ServerChannel::open(const Chunk& chunk, Instant now, DateTime wallClock) {
  BinaryReader reader(chunk.body);
  const auto channelId = reader.next<std::uint32_t>();
  const auto header = reader.next<AsymmetricHeader>();
  if (!reader.ok()) return refuse(reader.error());
  if (header.securityPolicyUri.view() != kPolicyNone)
    return refuse({status::BadSecurityPolicyRejected,
                   fmt::format("this server doesn't offer the policy {}", header.securityPolicyUri.view()),
                   {}});
  auto joined = assembler_.add(chunk.final, reader.rest());
  if (!joined) return refuse(joined.error());
  if (!*joined) return refuse({status::BadTcpMessageTypeInvalid, "an OPN message came in several chunks", {}});

  BinaryReader body((*joined)->body);
  const auto encodingId = body.next<NodeId>();
  const auto request = body.next<OpenSecureChannelRequest>();
  if (!body.ok()) return refuse(body.error());
  if (!(encodingId == NodeId(OpenSecureChannelRequest::kBinaryId)))
    return refuse({status::BadTcpMessageTypeInvalid, "an OPN message carries no OpenSecureChannelRequest", {}});
  if (request.securityMode != MessageSecurityMode::None)
    return refuse({status::BadSecurityModeRejected, "policy None goes with security mode None only", {}});
  const bool renews = request.requestType == SecurityTokenRequestType::Renew;
  if (renews != (state_ == State::Open) || (renews && channelId != options_.channelId))
    return refuse({status::BadTcpSecureChannelUnknown, "a token was asked for on a channel that is not open here", {}});

  previousTokenId_ = renews ? tokenId_ : 0;
  ++tokenId_;
  const std::uint32_t lifetime = std::clamp(request.requestedLifetime, options_.leastLifetime, options_.mostLifetime);
  // Part 4, 5.5.2: a token is accepted until 25% after its lifetime has passed.
  expires_ = now + milliseconds(lifetime * 1.25);
  security_ = {header.securityPolicyUri, request.securityMode, header.senderCertificate};

  OpenSecureChannelResponse response;
  response.responseHeader.timestamp = wallClock;
  response.responseHeader.requestHandle = request.requestHeader.requestHandle;
  response.securityToken = {options_.channelId, tokenId_, wallClock, lifetime};
  Bytes out;
  BinaryWriter writer(out);
  writer.write(NodeId(OpenSecureChannelResponse::kBinaryId));
  writer.write(response);
  output_.push_back(writer_.writeOpen(options_.channelId, (*joined)->requestId, {String(kPolicyNone), {}, {}}, out));
  state_ = State::Open;
  handler_.opened(request);
}

void ServerChannel::message(const Chunk& chunk, Instant now) {
  BinaryReader reader(chunk.body);
  const auto channelId = reader.next<std::uint32_t>();
  const auto tokenId = reader.next<std::uint32_t>();
  if (!reader.ok()) return refuse(reader.error());
  if (channelId != options_.channelId)
    return refuse(
        {status::BadTcpSecureChannelUnknown, fmt::format("channel {} is not this connection's", channelId), {}});
  const bool isNewest = tokenId == tokenId_;
  if (now > expires_ || (!isNewest && (tokenId != previousTokenId_ || previousTokenId_ == 0)))
    return refuse({status::BadSecureChannelTokenUnknown, "the channel's security token is unknown or has run out", {}});
  if (isNewest) previousTokenId_ = 0;
  auto joined = assembler_.add(chunk.final, reader.rest());
  if (!joined) return refuse(joined.error());
  if (chunk.type == MessageType::Close) return end({status::Good, {}, {}});
  if (*joined && !(*joined)->aborted) handler_.request((*joined)->requestId, (*joined)->body);
}

void ServerChannel::respond(std::uint32_t requestId, Bytes message) {
  if (state_ != State::Open) return;
  auto written =
      writer_.write(MessageType::Message, options_.channelId, tokenId_, requestId, std::move(message), output_);
  if (!written)
    output_.push_back(writer_.writeAbort(options_.channelId, tokenId_, requestId,
                                         {status::BadResponseTooLarge, written.error().cause, {}}));
}

void ServerChannel::refuse(const Error& why) {
  if (state_ == State::Over) return;
  output_.push_back(writeTransport(MessageType::Error, Refusal{why.code, String(why.cause)}));
  end(why);
}

void ServerChannel::tick(Instant now) {
  if (state_ == State::Open && now > expires_)
    refuse({status::BadSecureChannelTokenUnknown, "the channel's security token ran out", {}});
}

void ServerChannel::end(const Error& why) {
  if (std::exchange(state_, State::Over) != State::Over) handler_.closed(why);
}

}  // namespace zunth::channel
