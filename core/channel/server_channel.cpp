#include "core/channel/server_channel.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::channel {

using namespace ua;

namespace {

constexpr std::size_t kChunkOverhead = 256;   // headers, padding and signature, at most
constexpr std::size_t kMostCipherBlocks = 8;  // of an OPN message: what a sound one has
constexpr std::size_t kMostPolicyUri = 255;   // octets (Part 6, 6.7.2.3)

constexpr std::size_t kMostCertificate = 16 * 1024;  // with its chain

/// Part 4, 6.1.3: what is wrong with a certificate before it is trusted is for the server's log; a stranger is told
/// that something is. What is wrong with a trusted one, such as its time, is told.
bool isAboutStrangers(StatusCode code) {
  return code == status::BadCertificateInvalid || code == status::BadCertificateChainIncomplete ||
         code == status::BadCertificatePolicyCheckFailed || code == status::BadCertificateUntrusted;
}
const Error kRefusedStranger{
    status::BadSecurityChecksFailed, "the server refuses the client's certificate: its log and audit say why", {}};

}  // namespace

ServerChannel::ServerChannel(const Options& options, Handler& handler)
    : options_(options), handler_(handler), assembler_(options.limits) {
  security_.own = options.identities.main();
  if (options.reverseHello) output_.push_back(writeTransport(MessageType::ReverseHello, *options.reverseHello));
}

void ServerChannel::feed(BytesView octets, Instant now, DateTime wallClock) {
  if (state_ == State::Over) return;
  now_ = now;
  wallClock_ = wallClock;
  reader_.feed(octets);
  read();
}

void ServerChannel::read() {
  // What is answered at once comes back here: it goes on below, not deeper and deeper.
  if (std::exchange(isReading_, true)) return;
  isLeft_ = false;
  while (state_ != State::Over && !isOpening_) {
    isLeft_ = handler_.isBusy();
    if (isLeft_) break;
    auto chunk = reader_.next(options_.limits.receiveBufferSize);
    if (!chunk) refuse(chunk.error());
    if (!chunk || !*chunk) break;
    handle(**chunk);
  }
  isReading_ = false;
}

void ServerChannel::handle(const Chunk& chunk) {
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
      if (state_ == State::AwaitOpen || state_ == State::Open) return open(chunk);
      break;
    case MessageType::Message:
    case MessageType::Close:
      if (state_ == State::Open) return message(chunk);
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
  const std::size_t inChunks = std::size_t{hello->maxChunkCount} * (reply.sendBufferSize - kChunkOverhead);
  mostResponse_ = !hello->maxMessageSize ? inChunks
                  : !inChunks            ? hello->maxMessageSize
                                         : std::min<std::size_t>(hello->maxMessageSize, inChunks);
  output_.push_back(writeTransport(MessageType::Acknowledge, reply));
  state_ = State::AwaitOpen;
}

struct ServerChannel::Opening {
  Bytes octets;  // the chunk
  std::size_t headerSize = 0;
  std::uint32_t channelId = 0;
  AsymmetricHeader header;
  const secure::Policy* policy = nullptr;  // null for None
  std::shared_ptr<const secure::Identity> own;
  std::shared_ptr<const secure::Certificate> sender;
  std::function<Result<void>(const ByteString&)> trust;  // unless it is known already
  Result<void> judged;

  Bytes plain;
  Result<BytesView> numbered = BytesView();

  OpenSecureChannelRequest request;
  OpenSecureChannelResponse response;
  std::uint32_t requestId = 0;
  std::uint32_t sequenceNumber = 0;  // of the answer
  std::function<ByteString(std::size_t)> random;
  ChannelToken token;
  Result<void> agreed;
  Bytes answer;

  OpenSealing sealing() const { return {policy, own.get(), sender.get()}; }
};

/// Waits with whatever else arrives until it is done.
void ServerChannel::offload(const std::shared_ptr<Opening>& opening, void (*work)(Opening&),
                            void (ServerChannel::*then)(const std::shared_ptr<Opening>&)) {
  isOpening_ = true;
  auto begun = handler_.offload([opening, work] { work(*opening); },
                                [this, opening, then] {
                                  isOpening_ = false;
                                  if (state_ != State::Over) (this->*then)(opening);
                                });
  if (!begun) refuse(begun.error());
}

void ServerChannel::open(const Chunk& chunk) {
  auto opening = std::make_shared<Opening>();
  BinaryReader reader(chunk.body);
  opening->channelId = reader.next<std::uint32_t>();
  opening->header = reader.next<AsymmetricHeader>();
  if (!reader.ok()) return refuse(reader.error());
  const std::string_view policyUri = opening->header.securityPolicyUri.view();
  if (policyUri.size() > kMostPolicyUri)
    return refuse({status::BadSecurityPolicyRejected, "the policy's URI has more than 255 octets", {}});
  const secure::Policy* policy = opening->policy = secure::policyOf(policyUri);
  opening->own = policy ? options_.identities.of(policy->key) : options_.identities.main();
  if (policyUri != kPolicyNone && (!policy || !opening->own || !options_.offer.has(*policy)))
    return refuse(
        {status::BadSecurityPolicyRejected, fmt::format("this server doesn't offer the policy {}", policyUri), {}});
  if (policy) {
    // What isn't encrypted needs not name its receiver.
    const auto& receiver = opening->header.receiverThumbprint;
    if (receiver.view() != opening->own->certificate.thumbprint().view() && !(policy->usesCurves() && receiver.empty()))
      return refuse({status::BadSecurityChecksFailed,
                     "the message is encrypted for another certificate than this server's: ask for its endpoints anew",
                     {}});
    const std::size_t block = static_cast<std::size_t>(opening->own->certificate.keyBits()) / 8;
    if (!policy->usesCurves() && reader.remaining() > kMostCipherBlocks * block)
      return refuse({status::BadSecurityChecksFailed, "the message is larger than one that opens a channel", {}});
    if (opening->header.senderCertificate.size() > kMostCertificate)
      return refuse({status::BadSecurityChecksFailed, "the certificate with its chain is too large", {}});
  }
  opening->octets.assign(chunk.whole.begin(), chunk.whole.end());
  opening->headerSize = 8 + reader.position();
  if (!policy) {
    unsealSent(*opening);
    return opened(opening);
  }
  // A client that renews has shown its certificate before.
  const auto& known = security_.peer;
  if (known && opening->header.senderCertificate.view() == security_.peerCertificate.view())
    opening->sender = known;
  else
    opening->trust = handler_.trust();
  offload(opening, unsealSent, &ServerChannel::opened);
}

/// Reads who sent it and unseals it; then, as only its owner has signed, whether they are trusted. Away from the
/// channel.
void ServerChannel::unsealSent(Opening& opening) {
  const auto* policy = opening.policy;
  if (policy && !opening.sender) {
    auto certificate = secure::Certificate::fromDer(opening.header.senderCertificate);
    if (!certificate) {
      opening.judged = certificate.error();
      return;
    }
    if (certificate->keyKind() != policy->key)
      opening.judged = Error{status::BadCertificatePolicyCheckFailed,
                             fmt::format("{} takes {} keys, the client's is {}", policy->name, nameOf(policy->key),
                                         nameOf(certificate->keyKind())),
                             {}};
    else if (policy->key == secure::KeyKind::Rsa &&
             (certificate->keyBits() < policy->leastKeyBits || certificate->keyBits() > policy->mostKeyBits))
      opening.judged = Error{
          status::BadCertificatePolicyCheckFailed,
          fmt::format("{} takes RSA keys of {} to {} bits", policy->name, policy->leastKeyBits, policy->mostKeyBits),
          {}};
    if (!opening.judged) return;
    opening.sender = std::make_shared<const secure::Certificate>(std::move(*certificate));
  }
  opening.numbered = unsealOpen(opening.octets, opening.headerSize, opening.sealing(), opening.plain);
  if (opening.numbered && opening.trust) opening.judged = opening.trust(opening.header.senderCertificate);
}

void ServerChannel::opened(const std::shared_ptr<Opening>& opening) {
  if (!opening->judged) return refuse(opening->judged.error());
  if (!opening->numbered) return refuse(opening->numbered.error());
  auto joined = assembler_.add('F', *opening->numbered);
  if (!joined) return refuse(joined.error());
  if (!*joined) return refuse({status::BadTcpMessageTypeInvalid, "an OPN message came in several chunks", {}});
  opening->requestId = (*joined)->requestId;
  BinaryReader body((*joined)->body);
  const auto encodingId = body.next<NodeId>();
  opening->request = body.next<OpenSecureChannelRequest>();
  if (!body.ok()) return refuse(body.error());
  if (!(encodingId == NodeId(OpenSecureChannelRequest::kBinaryId)))
    return refuse({status::BadTcpMessageTypeInvalid, "an OPN message carries no OpenSecureChannelRequest", {}});
  if (auto fine = checkOpening(*opening); !fine) return refuse(fine.error());

  const auto& request = opening->request;
  const std::uint32_t lifetime = std::clamp(request.requestedLifetime, options_.leastLifetime, options_.mostLifetime);
  auto& response = opening->response;
  response.responseHeader.timestamp = wallClock_;
  response.responseHeader.requestHandle = request.requestHeader.requestHandle;
  opening->token.id = newest_.id + 1;
  // Part 4, 5.5.2: a token is accepted until 25% after its lifetime has passed.
  opening->token.expires = now_ + milliseconds(lifetime * 1.25);
  response.securityToken = {options_.channelId, opening->token.id, wallClock_, lifetime};
  opening->random = options_.random;
  if (state_ == State::AwaitOpen && opening->policy && opening->policy->usesCurves()) writer_.numberFromZero();
  opening->sequenceNumber = writer_.takeSequenceNumber();
  if (opening->policy) return offload(opening, seal, &ServerChannel::answer);
  seal(*opening);
  answer(opening);
}

Result<void> ServerChannel::checkOpening(const Opening& opening) const {
  const auto& request = opening.request;
  const bool isSecured =
      request.securityMode == MessageSecurityMode::Sign || request.securityMode == MessageSecurityMode::SignAndEncrypt;
  if (opening.policy ? !isSecured : request.securityMode != MessageSecurityMode::None)
    return Error{status::BadSecurityModeRejected,
                 opening.policy ? "a security policy goes with Sign or SignAndEncrypt"
                                : "policy None goes with security mode None only",
                 {}};
  if (opening.policy &&
      !options_.offer.has(*opening.policy, request.securityMode == MessageSecurityMode::SignAndEncrypt))
    return Error{
        status::BadSecurityModeRejected, "this server doesn't offer this mode: ask for its endpoints anew", {}};
  if (request.requestType != SecurityTokenRequestType::Issue && request.requestType != SecurityTokenRequestType::Renew)
    return Error{status::BadRequestTypeInvalid, "a token is issued or renewed, and nothing else", {}};
  const bool renews = request.requestType == SecurityTokenRequestType::Renew;
  if (renews != (state_ == State::Open) || (renews && opening.channelId != options_.channelId))
    return Error{status::BadTcpSecureChannelUnknown, "a token was asked for on a channel that is not open here", {}};
  if (renews && (opening.header.securityPolicyUri.view() != security_.policyUri.view() ||
                 request.securityMode != security_.mode || (opening.sender && !(*opening.sender == *security_.peer))))
    return Error{status::BadSecurityChecksFailed, "a token is renewed as the channel was opened", {}};
  return {};
}

/// Agrees on keys and writes the answer; away from the channel, which numbers nothing else meanwhile.
void ServerChannel::seal(Opening& opening) {
  AsymmetricHeader header{opening.header.securityPolicyUri, {}, {}};
  if (opening.policy) {
    const secure::KeyExchange exchange(*opening.policy, opening.random);
    auto keys = exchange.finish(secure::KeyExchange::Side::Server, opening.request.clientNonce);
    if (!keys) {
      opening.agreed = keys.error();
      return;
    }
    opening.response.serverNonce = exchange.nonce();
    opening.token.sending = std::move(keys->sending);
    opening.token.receiving = std::move(keys->receiving);
    header.senderCertificate = opening.own->chain();
    header.receiverThumbprint = opening.sender->thumbprint();
  }
  Bytes out;
  BinaryWriter writer(out);
  writer.write(NodeId(OpenSecureChannelResponse::kBinaryId));
  writer.write(opening.response);
  opening.answer = openChunk(opening.response.securityToken.channelId, opening.sequenceNumber, opening.requestId,
                             header, out, opening.sealing());
}

void ServerChannel::answer(const std::shared_ptr<Opening>& opening) {
  if (!opening->agreed) return refuse(opening->agreed.error());
  // Without a policy nothing proves a certificate, whatever was sent.
  security_ = {opening->header.securityPolicyUri, opening->request.securityMode,
               opening->sender ? opening->header.senderCertificate : ByteString(), opening->sender, opening->own};
  issue(std::move(opening->token));
  output_.push_back(std::move(opening->answer));
  state_ = State::Open;
  handler_.opened(opening->request);
  for (auto& [requestId, message] : std::exchange(held_, {})) respond(requestId, std::move(message));
  read();
}

void ServerChannel::issue(ChannelToken token) {
  if (state_ == State::Open && !previous_) previous_ = std::move(newest_);
  newest_ = std::move(token);
  useSendingToken();
}

void ServerChannel::useSendingToken() { writer_.setSealing(sealing(sendingToken().sending.get())); }

void ServerChannel::message(const Chunk& chunk) {
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
  if ((!isNewest && !isPrevious) || now_ > token.expires)
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
  if (isOpening_) return held_.emplace_back(requestId, std::move(message)), void();
  const std::uint32_t tokenId = sendingToken().id;
  auto written =
      writer_.write(MessageType::Message, options_.channelId, tokenId, requestId, std::move(message), output_);
  if (!written)
    output_.push_back(writer_.writeAbort(options_.channelId, tokenId, requestId,
                                         {status::BadResponseTooLarge, written.error().cause, {}}));
}

void ServerChannel::refuse(const Error& why) {
  if (state_ == State::Over) return;
  const bool isStranger = state_ != State::Open && isAboutStrangers(why.code);
  const Error told = isStranger ? kRefusedStranger : why;
  output_.push_back(writeTransport(MessageType::Error, Refusal{told.code, String(told.cause)}));
  end(why);
}

void ServerChannel::tick(Instant now) {
  now_ = now;
  // Part 4, 5.5.2: the token before the newest is used until it runs out, and no longer.
  if (previous_ && now > previous_->expires && !isOpening_) {
    previous_.reset();
    useSendingToken();
  }
  if (state_ == State::Open && now > newest_.expires)
    refuse({status::BadSecureChannelTokenUnknown, "the channel's security token ran out", {}});
}

void ServerChannel::end(const Error& why) {
  if (std::exchange(state_, State::Over) != State::Over) handler_.closed(why);
}

}  // namespace zunth::channel
