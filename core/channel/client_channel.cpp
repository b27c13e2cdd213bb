#include "core/channel/client_channel.hpp"

#include "core/ua/foreign.hpp"

#include <fmt/format.h>

namespace zunth::channel {

using namespace ua;

ClientChannel::ClientChannel(const Options& options, Handler& handler)
    : options_(options), handler_(handler), assembler_(options.limits) {
  if (options.policy && options.policy->usesCurves()) writer_.numberFromZero();
  if (options.awaitsReverseHello)
    state_ = State::AwaitReverseHello;
  else
    sayHello();
}

void ClientChannel::sayHello() {
  Hello hello;
  hello.receiveBufferSize = options_.limits.receiveBufferSize;
  hello.sendBufferSize = options_.limits.sendBufferSize;
  hello.maxMessageSize = options_.limits.maxMessageSize;
  hello.maxChunkCount = options_.limits.maxChunkCount;
  hello.endpointUrl = options_.endpointUrl;
  output_.push_back(writeTransport(MessageType::Hello, hello));
  state_ = State::AwaitAcknowledge;
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
    case MessageType::ReverseHello: {
      if (state_ != State::AwaitReverseHello) break;
      auto said = decode<ReverseHello>(chunk.body);
      if (!said) return end(said.error());
      if (said->endpointUrl.size() > kMostUrlLength || said->serverUri.size() > kMostUrlLength)
        return end({status::BadTcpEndpointUrlInvalid, "the server's endpoint URL is longer than 4096 octets", {}});
      // Part 6, 7.1.2.6: who it says it is must be who it then proves to be.
      if (options_.server && said->serverUri.view() != options_.server->applicationUri())
        return end({status::BadCertificateUriInvalid,
                    fmt::format("the server that came calls itself {}, and {} was awaited",
                                shown(said->serverUri.view()), shown(options_.server->applicationUri())),
                    "look which servers connect here: their 'clients' in site.yaml"});
      options_.endpointUrl = said->endpointUrl;
      return sayHello();
    }
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
  request.securityMode = options_.policy ? options_.mode : MessageSecurityMode::None;
  request.requestedLifetime = options_.lifetime;
  AsymmetricHeader header{String(kPolicyNone), {}, {}};
  if (options_.policy) {
    exchange_ = secure::KeyExchange(*options_.policy, options_.random);
    request.clientNonce = exchange_.nonce();
    header = {String(options_.policy->uri), options_.identity->chain(), options_.server->thumbprint()};
  }
  Bytes body;
  BinaryWriter writer(body);
  writer.write(NodeId(OpenSecureChannelRequest::kBinaryId));
  writer.write(request);
  output_.push_back(writer_.writeOpen(channelId_, ++lastRequestId_, header, body, openSealing()));
}

void ClientChannel::openResponse(const Chunk& chunk, Instant now) {
  BinaryReader reader(chunk.body);
  reader.next<std::uint32_t>();
  const auto header = reader.next<AsymmetricHeader>();
  if (!reader.ok()) return end(reader.error());
  if (header.securityPolicyUri.view() != (options_.policy ? options_.policy->uri : kPolicyNone))
    return end({status::BadSecurityPolicyRejected, "the server answered under another security policy", {}});
  if (options_.policy) {
    auto certificate = secure::Certificate::fromDer(header.senderCertificate);
    if (!certificate || !(*certificate == *options_.server))
      return end(
          {status::BadSecurityChecksFailed, "the server answered with another certificate than its endpoint's", {}});
  }
  auto numbered = unsealOpen(chunk.whole, 8 + reader.position(), openSealing(), plain_);
  if (!numbered) return end(numbered.error());
  auto joined = assembler_.add(chunk.final, *numbered);
  if (!joined) return end(joined.error());
  if (!*joined) return end({status::BadTcpMessageTypeInvalid, "the server's OPN message came in several chunks", {}});
  BinaryReader body((*joined)->body);
  const auto id = body.next<NodeId>();
  if (id == NodeId(ServiceFault::kBinaryId))
    return end({body.next<ServiceFault>().responseHeader.serviceResult, "the server refused the secure channel", {}});
  if (!(id == NodeId(OpenSecureChannelResponse::kBinaryId)))
    return end({status::BadTcpMessageTypeInvalid, "the server's OPN message carries no OpenSecureChannelResponse", {}});
  const auto response = body.next<OpenSecureChannelResponse>();
  if (!body.ok()) return end(body.error());
  if (response.responseHeader.serviceResult.isBad())
    return end({response.responseHeader.serviceResult, "the server refused the secure channel", {}});
  ChannelToken token;
  token.id = response.securityToken.tokenId;
  if (options_.policy) {
    auto keys = exchange_.finish(secure::KeyExchange::Side::Client, response.serverNonce);
    if (!keys) return end({keys.code(), "of the server: " + keys.error().cause, {}});
    token.sending = std::move(keys->sending);
    token.receiving = std::move(keys->receiving);
  }
  channelId_ = response.securityToken.channelId;
  if (state_ == State::Open) previous_ = std::move(newest_);
  newest_ = std::move(token);
  writer_.setSealing(sealing(newest_.sending.get()));
  // A life-time of nothing would have it renewed without end.
  constexpr double kLeastLifetime = 5'000;  // ms
  renewsAt_ = now + milliseconds(std::max(response.securityToken.revisedLifetime * 0.75, kLeastLifetime));
  renewing_ = false;
  if (std::exchange(state_, State::Open) != State::Open) handler_.opened();
}

void ClientChannel::message(const Chunk& chunk) {
  BinaryReader reader(chunk.body);
  const auto channelId = reader.next<std::uint32_t>();
  const auto tokenId = reader.next<std::uint32_t>();
  if (!reader.ok()) return end(reader.error());
  if (channelId != channelId_)
    return end({status::BadTcpSecureChannelUnknown, "the server answered on another channel", {}});
  const bool isPrevious = previous_ && tokenId == previous_->id && tokenId != newest_.id;
  if (options_.policy && !isPrevious && tokenId != newest_.id)
    return end({status::BadSecureChannelTokenUnknown, "the server answered under a token that it did not give", {}});
  auto numbered = unseal(chunk.whole, sealing((isPrevious ? *previous_ : newest_).receiving.get()));
  if (!numbered) return end(numbered.error());
  if (!isPrevious) previous_.reset();
  auto joined = assembler_.add(chunk.final, *numbered);
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
      writer_.write(MessageType::Message, channelId_, newest_.id, lastRequestId_ + 1, std::move(message), output_);
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
    (void)writer_.write(MessageType::Close, channelId_, newest_.id, ++lastRequestId_, std::move(message), output_);
  }
  end({status::Good, {}, {}});
}

void ClientChannel::end(const Error& why) {
  if (std::exchange(state_, State::Over) != State::Over) handler_.closed(why);
}

}  // namespace zunth::channel
