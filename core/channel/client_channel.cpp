#include "core/channel/client_channel.hpp"

#include <fmt/format.h>

namespace zunth::channel {

using namespace ua;

ClientChannel::ClientChannel(const Options& options, Handler& handler)
    : options_(options), handler_(handler), assembler_(options.limits) {
  Hello hello;
  hello.receiveBufferSize = options.limits.receiveBufferSize;
  hello.sendBufferSize = options.limits.sendBufferSize;
  hello.maxMessageSize = options.limits.maxMessageSize;
  hello.maxChunkCount = options.limits.maxChunkCount;
  hello.endpointUrl = options.endpointUrl;
  output_.push_back(writeTransport(MessageType::Hello, hello));
}

void ClientChannel::feed(BytesView octets, Instant now, DateTime wallClock) {
  if (state_ == State::Over) return;
  reader_.feed(octets);
  while (state_ != State::Over) {
    auto chunk = reader_.next(options_.limits.receiveBufferSize);
    if (!chunk) return end(chunk.error());
    if (!*chunk) return;
    handle(**chunk, now, wallClock);
  }
}

void ClientChannel::handle(const Chunk& chunk, Instant now, DateTime wallClock) {
  switch (chunk.type) {
    case MessageType::Acknowledge: {
      if (state_ != State::AwaitAcknowledge) break;
      auto reply = decode<Acknowledge>(chunk.body);
      if (!reply) return end(reply.error());
      if (reply->receiveBufferSize < kLeastBufferSize)
        return end(
            {status::BadTcpNotEnoughResources, "the server's buffers are smaller than the standard's least", {}});
      writer_.setLimits(std::min(options_.limits.sendBufferSize, reply->receiveBufferSize), reply->maxMessageSize,
                        reply->maxChunkCount);
      state_ = State::AwaitOpen;
      return askForToken(SecurityTokenRequestType::Issue, wallClock);
    }
    case MessageType::Error: {
      auto refusal = decode<Refusal>(chunk.body);
      if (!refusal) return end(refusal.error());
      return end(
          {refusal->error,
           refusal->reason.empty() ? "the server ended the connection" : "the server says: " + refusal->reason.str(),
           {}});
    }
    case MessageType::Open:
      if (state_ == State::AwaitOpen || renewing_) return openResponse(chunk, now);
      break;
    case MessageType::Message:
      if (state_ == State::Open) return message(chunk);
      break;
    default: break;
  }
  end({status::BadTcpMessageTypeInvalid, fmt::format("the server sent a {} message out of turn", tag(chunk.type)), {}});
}

void ClientChannel::askForToken(SecurityTokenRequestType type, DateTime wallClock) {
  OpenSecureChannelRequest request;
  request.requestHeader.timestamp = wallClock;
  request.requestType = type;
  request.securityMode = MessageSecurityMode::None;
  request.requestedLifetime = options_.lifetime;
  Bytes body;
  BinaryWriter writer(body);
  writer.write(NodeId(OpenSecureChannelRequest::kBinaryId));
  writer.write(request);
  output_.push_back(writer_.writeOpen(channelId_, ++lastRequestId_, {String(kPolicyNone), {}, {}}, body));
}

void ClientChannel::openResponse(const Chunk& chunk, Instant now) {
  BinaryReader reader(chunk.body);
  reader.next<std::uint32_t>();
  reader.next<AsymmetricHeader>();
  if (!reader.ok()) return end(reader.error());
  auto joined = assembler_.add(chunk.final, reader.rest());
  if (!joined) return end(joined.error());
  if (!*joined) return end({status::BadTcpMessageTypeInvalid, "the server's OPN message came in several chunks", {}});
  BinaryReader body((*joined)->body);
  const auto id = body.next<NodeId>();
  if (id == NodeId(ServiceFault::kBinaryId))
    return end({body.next<ServiceFault>().responseHeader.serviceResult, "the server refused the secure channel", {}});
  const auto response = body.next<OpenSecureChannelResponse>();
  if (!body.ok()) return end(body.error());
  channelId_ = response.securityToken.channelId;
  tokenId_ = response.securityToken.tokenId;
  renewsAt_ = now + milliseconds(response.securityToken.revisedLifetime * 0.75);
  renewing_ = false;
  if (std::exchange(state_, State::Open) != State::Open) handler_.opened();
}

void ClientChannel::message(const Chunk& chunk) {
  BinaryReader reader(chunk.body);
  const auto channelId = reader.next<std::uint32_t>();
  reader.next<std::uint32_t>();
  if (!reader.ok()) return end(reader.error());
  if (channelId != channelId_)
    return end({status::BadTcpSecureChannelUnknown, "the server answered on another channel", {}});
  auto joined = assembler_.add(chunk.final, reader.rest());
  if (!joined) return end(joined.error());
  if (!*joined) return;
  if ((*joined)->aborted)
    handler_.aborted((*joined)->requestId, *(*joined)->aborted);
  else
    handler_.response((*joined)->requestId, (*joined)->body);
}

Result<std::uint32_t> ClientChannel::request(Bytes message) {
  if (state_ != State::Open) return Error{status::BadSecureChannelClosed, "the connection is closed", {}};
  auto written =
      writer_.write(MessageType::Message, channelId_, tokenId_, lastRequestId_ + 1, std::move(message), output_);
  if (!written) return Error{status::BadRequestTooLarge, written.error().cause, {}};
  return ++lastRequestId_;
}

void ClientChannel::tick(Instant now, DateTime wallClock) {
  if (state_ != State::Open || renewing_ || now < renewsAt_) return;
  renewing_ = true;
  askForToken(SecurityTokenRequestType::Renew, wallClock);
}

void ClientChannel::close(DateTime wallClock) {
  if (state_ == State::Open) {
    CloseSecureChannelRequest request;
    request.requestHeader.timestamp = wallClock;
    Bytes message = newMessage();
    BinaryWriter writer(message);
    writer.write(NodeId(CloseSecureChannelRequest::kBinaryId));
    writer.write(request);
    (void)writer_.write(MessageType::Close, channelId_, tokenId_, ++lastRequestId_, std::move(message), output_);
  }
  end({status::Good, {}, {}});
}

void ClientChannel::end(const Error& why) {
  if (std::exchange(state_, State::Over) != State::Over) handler_.closed(why);
}

}  // namespace zunth::channel
