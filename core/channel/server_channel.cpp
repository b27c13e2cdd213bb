#include "core/channel/server_channel.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::channel {

using namespace ua;

ServerChannel::ServerChannel(const Options& options, Handler& handler)
    : options_(options), handler_(handler), assembler_(options.limits) {
  security_.own = options.identity;
  if (options.reverseHello) output_.push_back(writeTransport(MessageType::ReverseHello, *options.reverseHello));
}

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
    case MessageType::Error:
      // A client that was connected to says why it won't have the connection.
      if (state_ == State::AwaitHello && options_.reverseHello) {
        auto refusal = decode<Refusal>(chunk.body);
        return end(refusal ? Error{refusal->error, "the client says: " + refusal->reason.str(), {}} : refusal.error());
      }
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
  const std::string_view policyUri = header.securityPolicyUri.view();
  const secure::Policy* policy = secure::policyOf(policyUri);
  if (policyUri != kPolicyNone && (!policy || !options_.identity))
    return refuse(
        {status::BadSecurityPolicyRejected, fmt::format("this server doesn't offer the policy {}", policyUri), {}});
  OpenSealing sealed{policy, options_.identity.get(), nullptr};
  std::optional<secure::Certificate> sender;
  if (policy) {
    if (header.receiverThumbprint.view() != options_.identity->certificate.thumbprint().view())
      return refuse({status::BadSecurityChecksFailed,
                     "the message is encrypted for another certificate than this server's: ask for its endpoints anew",
                     {}});
    auto certificate = secure::Certificate::fromDer(header.senderCertificate);
    if (!certificate) return refuse(certificate.error());
    if (certificate->keyBits() < policy->leastKeyBits || certificate->keyBits() > policy->mostKeyBits)
      return refuse(
          {status::BadCertificatePolicyCheckFailed,
           fmt::format("{} takes RSA keys of {} to {} bits", policy->name, policy->leastKeyBits, policy->mostKeyBits),
           {}});
    sender.emplace(std::move(*certificate));
    sealed.peer = &*sender;
  }
  auto numbered = unsealOpen(chunk.whole, 8 + reader.position(), sealed, plain_);
  if (!numbered) return refuse(numbered.error());
  // Only what its owner has signed is looked at further; then whether it is trusted.
  if (sender && !(peer_ && *peer_ == *sender))
    if (auto trusted = handler_.trust(header.senderCertificate); !trusted) return refuse(trusted.error());
  auto joined = assembler_.add(chunk.final, *numbered);
  if (!joined) return refuse(joined.error());
  if (!*joined) return refuse({status::BadTcpMessageTypeInvalid, "an OPN message came in several chunks", {}});

  BinaryReader body((*joined)->body);
  const auto encodingId = body.next<NodeId>();
  const auto request = body.next<OpenSecureChannelRequest>();
  if (!body.ok()) return refuse(body.error());
  if (!(encodingId == NodeId(OpenSecureChannelRequest::kBinaryId)))
    return refuse({status::BadTcpMessageTypeInvalid, "an OPN message carries no OpenSecureChannelRequest", {}});
  const bool isSecured =
      request.securityMode == MessageSecurityMode::Sign || request.securityMode == MessageSecurityMode::SignAndEncrypt;
  if (policy ? !isSecured : request.securityMode != MessageSecurityMode::None)
    return refuse({status::BadSecurityModeRejected,
                   policy ? "a security policy goes with Sign or SignAndEncrypt"
                          : "policy None goes with security mode None only",
                   {}});
  const bool renews = request.requestType == SecurityTokenRequestType::Renew;
  if (renews != (state_ == State::Open) || (renews && channelId != options_.channelId))
    return refuse({status::BadTcpSecureChannelUnknown, "a token was asked for on a channel that is not open here", {}});
  if (renews && (header.securityPolicyUri.view() != security_.policyUri.view() ||
                 request.securityMode != security_.mode || (sender && !(*sender == *peer_))))
    return refuse({status::BadSecurityChecksFailed, "a token is renewed as the channel was opened", {}});
  if (policy && request.clientNonce.size() != policy->nonceSize)
    return refuse(
        {status::BadNonceInvalid, fmt::format("{} takes nonces of {} octets", policy->name, policy->nonceSize), {}});

  const std::uint32_t lifetime = std::clamp(request.requestedLifetime, options_.leastLifetime, options_.mostLifetime);
  security_ = {header.securityPolicyUri, request.securityMode, header.senderCertificate, options_.identity};
  peer_ = sender;
  OpenSecureChannelResponse response;
  response.responseHeader.timestamp = wallClock;
  response.responseHeader.requestHandle = request.requestHeader.requestHandle;
  if (policy) response.serverNonce = options_.random(policy->nonceSize);
  // Part 4, 5.5.2: a token is accepted until 25% after its lifetime has passed.
  issue(request.clientNonce, response.serverNonce, now + milliseconds(lifetime * 1.25));
  response.securityToken = {options_.channelId, newest_.id, wallClock, lifetime};
  Bytes out;
  BinaryWriter writer(out);
  writer.write(NodeId(OpenSecureChannelResponse::kBinaryId));
  writer.write(response);
  AsymmetricHeader own{security_.policyUri, {}, {}};
  if (policy) {
    own.senderCertificate = options_.identity->certificate.der();
    own.receiverThumbprint = peer_->thumbprint();
    sealed.peer = &*peer_;
  }
  output_.push_back(writer_.writeOpen(options_.channelId, (*joined)->requestId, own, out, sealed));
  state_ = State::Open;
  handler_.opened(request);
}

void ServerChannel::issue(const ByteString& clientNonce, const ByteString& serverNonce, Instant expires) {
  ChannelToken token;
  token.id = newest_.id + 1;
  token.expires = expires;
  if (const auto* policy = security_.policy()) {
    token.sending = secure::ChannelKeys::derive(*policy, clientNonce, serverNonce);
    token.receiving = secure::ChannelKeys::derive(*policy, serverNonce, clientNonce);
  }
  if (state_ == State::Open && !previous_) previous_ = std::move(newest_);
  newest_ = std::move(token);
  useSendingToken();
}

void ServerChannel::useSendingToken() { writer_.setSealing(sealing(sendingToken().sending.get())); }

void ServerChannel::message(const Chunk& chunk, Instant now) {
  BinaryReader reader(chunk.body);
  const auto channelId = reader.next<std::uint32_t>();
  const auto tokenId = reader.next<std::uint32_t>();
  if (!reader.ok()) return refuse(reader.error());
  if (channelId != options_.channelId)
    return refuse(
        {status::BadTcpSecureChannelUnknown, fmt::format("channel {} is not this connection's", channelId), {}});
  const bool isNewest = tokenId == newest_.id;
  const bool isPrevious = previous_ && tokenId == previous_->id;
  const ChannelToken& token = isPrevious ? *previous_ : newest_;
  if ((!isNewest && !isPrevious) || now > token.expires)
    return refuse({status::BadSecureChannelTokenUnknown, "the channel's security token is unknown or has run out", {}});
  auto numbered = unseal(chunk.whole, sealing(token.receiving.get()));
  if (!numbered) return refuse(numbered.error());
  if (isNewest && previous_) {
    previous_.reset();
    useSendingToken();
  }
  auto joined = assembler_.add(chunk.final, *numbered);
  if (!joined) return refuse(joined.error());
  if (chunk.type == MessageType::Close) return end({status::Good, {}, {}});
  if (*joined && !(*joined)->aborted) handler_.request((*joined)->requestId, (*joined)->body);
}

void ServerChannel::respond(std::uint32_t requestId, Bytes message) {
  if (state_ != State::Open) return;
  const std::uint32_t tokenId = sendingToken().id;
  auto written =
      writer_.write(MessageType::Message, options_.channelId, tokenId, requestId, std::move(message), output_);
  if (!written)
    output_.push_back(writer_.writeAbort(options_.channelId, tokenId, requestId,
                                         {status::BadResponseTooLarge, written.error().cause, {}}));
}

void ServerChannel::refuse(const Error& why) {
  if (state_ == State::Over) return;
  output_.push_back(writeTransport(MessageType::Error, Refusal{why.code, String(why.cause)}));
  end(why);
}

void ServerChannel::tick(Instant now) {
  if (state_ == State::Open && now > newest_.expires)
    refuse({status::BadSecureChannelTokenUnknown, "the channel's security token ran out", {}});
}

void ServerChannel::end(const Error& why) {
  if (std::exchange(state_, State::Over) != State::Over) handler_.closed(why);
}

}  // namespace zunth::channel
