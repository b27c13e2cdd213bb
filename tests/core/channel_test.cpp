#include "core/channel/client_channel.hpp"
#include "core/channel/server_channel.hpp"

#include "tests/hex.hpp"
#include <catch2/catch.hpp>

namespace zunth::channel_test {

using namespace zunth::ua;
using namespace zunth::channel;

namespace {

const DateTime kWall{133'000'000'000'000'000};

struct ServerSide final : ServerChannel::Handler {
  void request(std::uint32_t requestId, BytesView body) override {
    requests.emplace_back(requestId, Bytes(body.begin(), body.end()));
    if (echoes) {
      Bytes answer = newMessage();
      answer.insert(answer.end(), body.begin(), body.end());
      channel->respond(requestId, std::move(answer));
    }
  }
  void closed(const Error& why) override { endings.push_back(why); }
  std::function<Result<void>(const ByteString&)> trust() override {
    return [this](const ByteString&) { return trusts ? Result<void>() : status::BadSecurityChecksFailed; };
  }
  Result<void> offload(std::function<void()> work, std::function<void()> done) override {
    if (isBusy) return Error{status::BadTcpServerTooBusy, "busy", {}};
    if (!isElsewhere) return Handler::offload(std::move(work), std::move(done));
    work();
    pending.push_back(std::move(done));
    return {};
  }
  /// What was done elsewhere comes back, and what follows from it.
  void finishPending() {
    while (!pending.empty()) {
      auto done = std::move(pending.front());
      pending.erase(pending.begin());
      done();
    }
  }
  bool isElsewhere = false, isBusy = false;
  std::vector<std::function<void()>> pending;
  bool trusts = true;
  ServerChannel* channel = nullptr;
  bool echoes = true;
  std::vector<std::pair<std::uint32_t, Bytes>> requests;
  std::vector<Error> endings;
};

struct ClientSide final : ClientChannel::Handler {
  void opened() override { ++openings; }
  void response(std::uint32_t requestId, BytesView body) override {
    responses.emplace_back(requestId, Bytes(body.begin(), body.end()));
  }
  void aborted(std::uint32_t, const Error& why) override { aborts.push_back(why); }
  void closed(const Error& why) override { endings.push_back(why); }
  int openings = 0;
  std::vector<std::pair<std::uint32_t, Bytes>> responses;
  std::vector<Error> aborts, endings;
};

/// Nonces that are as long as they should be; tests need no secrets.
ByteString countingOctets(std::size_t size) {
  static std::uint8_t next = 0;
  std::vector<std::byte> octets(size);
  for (auto& octet : octets) octet = static_cast<std::byte>(next++);
  return ByteString(octets.data(), octets.size());
}

/// The same for both sides: making keys takes its time.
const zunth::secure::Identities& identities() {
  using namespace zunth::secure;
  static const auto made = [] {
    Identities out;
    for (const auto kind : {KeyKind::Rsa, KeyKind::NistP256, KeyKind::NistP384}) {
      const PrivateKey key = PrivateKey::generate(kind);
      const Certificate::Wish wish{"Fernhollow test", "",    "urn:fernhollow.example:test",
                                   {"localhost"},     kWall, {kWall.ticks * 2}};
      out.add(std::make_shared<const Identity>(Identity{Certificate::selfSigned(wish, key), key}));
    }
    return out;
  }();
  return made;
}

/// A client and a server that talk through memory.
struct Pair {
  explicit Pair(ChannelLimits clientLimits = {}, ChannelLimits serverLimits = {},
                const zunth::secure::Policy* policy = nullptr, MessageSecurityMode mode = MessageSecurityMode::None,
                zunth::secure::Offer offer = {}) {
    ServerChannel::Options serverOptions;
    serverOptions.limits = serverLimits;
    serverOptions.channelId = 7;
    serverOptions.identities = identities();
    serverOptions.random = countingOctets;
    serverOptions.offer = std::move(offer);
    server = std::make_unique<ServerChannel>(serverOptions, serverSide);
    serverSide.channel = server.get();
    ClientChannel::Options clientOptions;
    clientOptions.limits = clientLimits;
    clientOptions.endpointUrl = "opc.tcp://fernhollow.example:4840";
    clientOptions.lifetime = 60'000;
    clientOptions.policy = policy;
    clientOptions.mode = mode;
    clientOptions.identity = identities().of(policy ? policy->key : zunth::secure::KeyKind::Rsa);
    clientOptions.server = clientOptions.identity->certificate;
    clientOptions.random = countingOctets;
    client = std::make_unique<ClientChannel>(clientOptions, clientSide);
  }
  /// Carries octets both ways until nobody has any; `cut` loses the connection after so many.
  void settle(std::size_t cut = SIZE_MAX) {
    for (bool moved = true; moved;) {
      moved = false;
      for (const auto& octets : client->takeOutput()) {
        for (std::byte b : octets)
          if (cut-- == 0)
            return;
          else
            server->feed({&b, 1}, now, kWall);  // one by one: no message may depend on how it is cut
        moved = true;
      }
      for (const auto& octets : server->takeOutput()) {
        if (octets.size() > cut) return;
        cut -= octets.size();
        client->feed(octets, now, kWall);
        moved = true;
      }
    }
  }
  Bytes message(std::size_t size) const {
    Bytes out = newMessage();
    for (std::size_t i = 0; i < size; ++i) out.push_back(static_cast<std::byte>(i * 7));
    return out;
  }
  Instant now{std::chrono::hours(1)};
  ServerSide serverSide;
  ClientSide clientSide;
  std::unique_ptr<ServerChannel> server;
  std::unique_ptr<ClientChannel> client;
};

/// A server that has just been said hello to, and what it answers to more octets.
struct RawServer {
  RawServer() : channel(ServerChannel::Options{}, side) { side.channel = &channel; }
  std::optional<StatusCode> refusalAfter(BytesView octets) {
    channel.feed(octets, now, kWall);
    for (const auto& out : channel.takeOutput())
      if (out.size() >= 12 && out[0] == std::byte{'E'}) return decode<Refusal>(BytesView(out).subspan(8))->error;
    return std::nullopt;
  }
  Instant now{};
  ServerSide side;
  ServerChannel channel;
};

Hello soundHello() {
  Hello hello;
  hello.receiveBufferSize = hello.sendBufferSize = 65536;
  hello.endpointUrl = "opc.tcp://fernhollow.example:4840";
  return hello;
}

}  // namespace

TEST_CASE("a channel opens, carries messages both ways and closes", "[channel][cu:Protocol UA TCP][cu:Security None]") {
  Pair pair;
  pair.settle();
  REQUIRE(pair.clientSide.openings == 1);
  REQUIRE(pair.client->request(pair.message(100)));
  pair.settle();
  REQUIRE(pair.clientSide.responses.size() == 1);
  CHECK(pair.clientSide.responses[0].second.size() == 100);
  CHECK(pair.server->endpointUrl().view() == "opc.tcp://fernhollow.example:4840");
  pair.client->close(kWall);
  pair.settle();
  REQUIRE(pair.serverSide.endings.size() == 1);
  CHECK(pair.serverSide.endings[0].code.isGood());
}

TEST_CASE("long messages travel in several chunks both ways", "[channel]") {
  ChannelLimits small;
  small.receiveBufferSize = small.sendBufferSize = 8192;
  Pair pair(small);
  pair.settle();
  for (std::size_t size : {8167u, 8168u, 8169u, 100'000u}) {
    REQUIRE(pair.client->request(pair.message(size)));
    pair.settle();
    const auto& got = pair.clientSide.responses.back().second;
    const Bytes sent = pair.message(size);
    REQUIRE(got.size() == size);
    CHECK(std::equal(got.begin(), got.end(), sent.begin() + kHeadroom));
  }
  CHECK(pair.clientSide.endings.empty());
}

TEST_CASE("an answer larger than the client takes becomes an abort", "[channel]") {
  ChannelLimits small;
  small.maxMessageSize = 20'000;
  Pair pair(small);
  pair.serverSide.echoes = false;
  pair.settle();
  REQUIRE(pair.client->request(pair.message(10)));
  pair.settle();
  pair.server->respond(pair.serverSide.requests[0].first, pair.message(20'001));
  pair.settle();
  REQUIRE(pair.clientSide.aborts.size() == 1);
  CHECK(pair.clientSide.aborts[0].code == status::BadResponseTooLarge);
  CHECK(pair.clientSide.endings.empty());
}

TEST_CASE("a request larger than the server takes is refused before it is sent", "[channel]") {
  ChannelLimits small;
  small.maxMessageSize = 20'000;
  Pair pair({}, small);
  pair.settle();
  CHECK(pair.client->request(pair.message(20'001)).code() == status::BadRequestTooLarge);
  CHECK(pair.client->request(pair.message(20'000)));
  pair.settle();
  CHECK(pair.clientSide.responses.size() == 1);
}

TEST_CASE("tokens are renewed in time, and the old one holds until the new one is used",
          "[channel][cu:Security Token Renewal]") {
  Pair pair;
  pair.settle();
  pair.now += std::chrono::seconds(46);
  pair.client->tick(pair.now, kWall);
  const auto renewal = pair.client->takeOutput();
  REQUIRE(renewal.size() == 1);
  REQUIRE(pair.client->request(pair.message(1)));  // still on the old token
  const auto request = pair.client->takeOutput();
  pair.server->feed(renewal[0], pair.now, kWall);
  // Sequence numbers go on across both kinds of chunk.
  for (const auto& octets : request) pair.server->feed(octets, pair.now, kWall);
  pair.settle();
  CHECK(pair.clientSide.responses.size() == 1);
  pair.now += std::chrono::seconds(40);  // beyond the first token's life
  REQUIRE(pair.client->request(pair.message(2)));
  pair.settle();
  CHECK(pair.clientSide.responses.size() == 2);
  pair.now += std::chrono::seconds(60);
  pair.server->tick(pair.now);
  pair.settle();
  REQUIRE(pair.clientSide.endings.size() == 1);
  CHECK(pair.clientSide.endings[0].code == status::BadSecureChannelTokenUnknown);
}

TEST_CASE("a connection that is cut at any octet ends without harm", "[channel]") {
  for (std::size_t cut = 0; cut < 700; ++cut) {
    Pair pair;
    pair.settle(cut);
    if (pair.client->isOpen()) {
      (void)pair.client->request(pair.message(50));
      pair.settle();
    }
    CHECK(pair.serverSide.endings.empty());
  }
}

TEST_CASE("what breaks the protocol is answered with its StatusCode", "[channel]") {
  auto hello = soundHello();
  SECTION("no protocol at all") {
    const char http[] = "GET / HTTP/1.1\r\n";
    CHECK(RawServer().refusalAfter(std::as_bytes(std::span(http))) == status::BadTcpMessageTypeInvalid);
  }
  SECTION("buffers too small") {
    hello.receiveBufferSize = 8191;
    CHECK(RawServer().refusalAfter(writeTransport(MessageType::Hello, hello)) == status::BadTcpNotEnoughResources);
  }
  SECTION("an endless URL") {
    hello.endpointUrl = String(std::string(4097, 'x'));
    CHECK(RawServer().refusalAfter(writeTransport(MessageType::Hello, hello)) == status::BadTcpEndpointUrlInvalid);
  }
  SECTION("a chunk that claims to be huge") {
    Bytes octets = writeTransport(MessageType::Hello, hello);
    octets[7] = std::byte{0x7F};
    CHECK(RawServer().refusalAfter(octets) == status::BadTcpMessageTooLarge);
  }
  SECTION("a message before the channel is open") {
    RawServer server;
    CHECK(!server.refusalAfter(writeTransport(MessageType::Hello, hello)));
    std::vector<Bytes> chunks;
    ChunkWriter writer;
    writer.setLimits(65536, 0, 0);
    REQUIRE(writer.write(MessageType::Message, 1, 1, 1, newMessage(), chunks));
    CHECK(server.refusalAfter(chunks[0]) == status::BadTcpMessageTypeInvalid);
  }
  SECTION("an unknown policy") {
    RawServer server;
    CHECK(!server.refusalAfter(writeTransport(MessageType::Hello, hello)));
    ChunkWriter writer;
    CHECK(server.refusalAfter(writer.writeOpen(0, 1, {"http://fernhollow.example/secret", {}, {}}, {})) ==
          status::BadSecurityPolicyRejected);
  }
}

TEST_CASE("numbers of chunks are checked", "[channel]") {
  auto broken = [](auto&& spoil) {
    Pair pair;
    pair.settle();
    REQUIRE(pair.client->request(pair.message(10)));
    auto octets = pair.client->takeOutput();
    spoil(octets[0]);
    pair.server->feed(octets[0], pair.now, kWall);
    pair.settle();
    REQUIRE(pair.clientSide.endings.size() == 1);
    return pair.clientSide.endings[0].code;
  };
  CHECK(broken([](Bytes& chunk) { chunk[16] ^= std::byte{4}; }) == status::BadSequenceNumberInvalid);
  CHECK(broken([](Bytes& chunk) { chunk[8] ^= std::byte{1}; }) == status::BadTcpSecureChannelUnknown);
  CHECK(broken([](Bytes& chunk) { chunk[12] ^= std::byte{8}; }) == status::BadSecureChannelTokenUnknown);
}

TEST_CASE("sequence numbers wrap as the standard allows", "[channel]") {
  MessageAssembler assembler{ChannelLimits{}};
  auto add = [&](std::uint32_t sequence) {
    Bytes octets;
    BinaryWriter writer(octets);
    writer.write(sequence);
    writer.write(std::uint32_t{1});
    return assembler.add('F', octets).code();
  };
  CHECK(add(UINT32_MAX - 1024).isGood());
  CHECK(add(5).isGood());
  CHECK(add(6).isGood());
  CHECK(add(6) == status::BadSequenceNumberInvalid);
}

namespace {

struct Secured {
  const zunth::secure::Policy* policy;
  MessageSecurityMode mode;
};
std::vector<Secured> everySecurity() {
  std::vector<Secured> out;
  for (const auto& policy : zunth::secure::policies())
    for (auto mode : {MessageSecurityMode::Sign, MessageSecurityMode::SignAndEncrypt}) out.push_back({&policy, mode});
  return out;
}

}  // namespace

TEST_CASE("secured channels carry messages of any size both ways and renew their keys",
          "[channel][cu:Security Token Renewal]") {
  for (const auto& [policy, mode] : everySecurity()) {
    INFO(policy->name << " " << static_cast<int>(mode));
    ChannelLimits small;
    small.receiveBufferSize = small.sendBufferSize = 8192;
    Pair pair(small, small, policy, mode);
    pair.settle();
    REQUIRE(pair.clientSide.openings == 1);
    CHECK(pair.server->security().policyUri.view() == policy->uri);
    CHECK(pair.server->security().mode == mode);
    for (const std::size_t size : {0u, 1u, 15u, 16u, 17u, 8000u, 8127u, 8128u, 8129u, 8160u, 50'000u}) {
      REQUIRE(pair.client->request(pair.message(size)));
      pair.settle();
      REQUIRE(!pair.clientSide.responses.empty());
      CHECK(pair.clientSide.responses.back().second.size() == size);
      CHECK(pair.serverSide.requests.back().second == pair.clientSide.responses.back().second);
    }
    pair.now += std::chrono::seconds(50);
    pair.client->tick(pair.now, kWall);
    pair.settle();
    const std::size_t before = pair.clientSide.responses.size();
    REQUIRE(pair.client->request(pair.message(100)));
    pair.settle();
    CHECK(pair.clientSide.responses.size() == before + 1);
    CHECK(pair.serverSide.endings.empty());
    CHECK(pair.clientSide.endings.empty());
  }
}

TEST_CASE("an octet that is altered or a message that is replayed ends a secured channel", "[channel]") {
  for (const auto& [policy, mode] : everySecurity()) {
    for (const bool isReplay : {false, true}) {
      Pair pair({}, {}, policy, mode);
      pair.settle();
      REQUIRE(pair.client->request(pair.message(100)));
      auto sent = pair.client->takeOutput();
      REQUIRE(sent.size() == 1);
      if (isReplay)
        pair.server->feed(sent[0], pair.now, kWall);
      else
        sent[0][60] ^= std::byte{1};
      const std::size_t before = pair.serverSide.requests.size();
      pair.server->feed(sent[0], pair.now, kWall);
      CHECK(pair.serverSide.requests.size() == before);
      REQUIRE(pair.serverSide.endings.size() == 1);
      CHECK(pair.serverSide.endings[0].code ==
            (isReplay ? status::BadSequenceNumberInvalid : status::BadSecurityChecksFailed));
    }
  }
}

TEST_CASE("while keys are worked with elsewhere, what arrives waits and nothing is lost", "[channel]") {
  for (const auto& [policy, mode] : everySecurity()) {
    INFO(policy->name << " " << static_cast<int>(mode));
    Pair pair({}, {}, policy, mode);
    pair.serverSide.isElsewhere = true;
    pair.settle();
    CHECK(pair.clientSide.openings == 0);
    CHECK(pair.serverSide.pending.size() == 1);
    pair.serverSide.finishPending();
    pair.settle();
    REQUIRE(pair.clientSide.openings == 1);
    // A request before the renewal is answered during it, another comes right behind it.
    pair.serverSide.echoes = false;
    REQUIRE(pair.client->request(pair.message(10)));
    pair.settle();
    const auto early = pair.serverSide.requests.back().first;
    pair.now += std::chrono::seconds(50);
    pair.client->tick(pair.now, kWall);
    REQUIRE(pair.client->request(pair.message(20)));
    pair.settle();
    CHECK(pair.serverSide.requests.size() == 1);
    pair.server->respond(early, pair.message(30));
    CHECK_FALSE(pair.server->hasOutput());
    pair.serverSide.echoes = true;
    pair.serverSide.finishPending();
    pair.settle();
    CHECK(pair.serverSide.requests.size() == 2);
    CHECK(pair.clientSide.responses.size() == 2);
    CHECK(pair.clientSide.endings.empty());
    CHECK(pair.serverSide.endings.empty());
  }
}

TEST_CASE("a channel that comes too much is told so", "[channel]") {
  const auto security = everySecurity().front();
  Pair pair({}, {}, security.policy, security.mode);
  pair.serverSide.isBusy = true;
  pair.settle();
  REQUIRE(pair.clientSide.endings.size() == 1);
  CHECK(pair.clientSide.endings[0].code == status::BadTcpServerTooBusy);
}

TEST_CASE("a client that is not trusted is told so", "[channel]") {
  const auto security = everySecurity().front();
  Pair pair({}, {}, security.policy, security.mode);
  pair.serverSide.trusts = false;
  pair.settle();
  CHECK(pair.clientSide.openings == 0);
  REQUIRE(pair.clientSide.endings.size() == 1);
  CHECK(pair.clientSide.endings[0].code == status::BadSecurityChecksFailed);
}

TEST_CASE("a channel of a policy or mode that isn't offered is refused", "[channel]") {
  const auto* const one = zunth::secure::policyNamed("Basic256Sha256");
  const auto* const other = zunth::secure::policyNamed("Aes256_Sha256_RsaPss");
  const struct {
    zunth::secure::Offer offer;
    const zunth::secure::Policy* policy;
    MessageSecurityMode mode;
    StatusCode outcome;
  } cases[] = {
      {{}, one, MessageSecurityMode::Sign, status::Good},
      {{{one}}, one, MessageSecurityMode::Sign, status::Good},
      {{{other}}, one, MessageSecurityMode::Sign, status::BadSecurityPolicyRejected},
      {{{other, one}, false, true}, one, MessageSecurityMode::Sign, status::BadSecurityModeRejected},
      {{{}, false, true}, one, MessageSecurityMode::SignAndEncrypt, status::Good},
      {{{}, true, false}, one, MessageSecurityMode::SignAndEncrypt, status::BadSecurityModeRejected},
  };
  for (const auto& [offer, policy, mode, outcome] : cases) {
    Pair pair({}, {}, policy, mode, offer);
    pair.settle();
    CHECK(pair.clientSide.openings == (outcome == status::Good));
    if (outcome == status::Good) continue;
    REQUIRE(pair.clientSide.endings.size() == 1);
    CHECK(pair.clientSide.endings[0].code == outcome);
  }
}

TEST_CASE("a server that comes by itself is who it says it is", "[channel]") {
  for (const auto& [uri, isAwaited] : std::vector<std::pair<const char*, bool>>{
           {"urn:fernhollow.example:test", true}, {"urn:fernhollow.example:other", false}}) {
    INFO(uri);
    ClientSide side;
    ClientChannel::Options options;
    options.awaitsReverseHello = true;
    options.server = identities().main()->certificate;
    ClientChannel client(options, side);
    client.feed(writeTransport(MessageType::ReverseHello, ReverseHello{uri, "opc.tcp://fernhollow.example:4840"}), {},
                kWall);
    CHECK(client.isOver() != isAwaited);
    CHECK(client.takeOutput().empty() != isAwaited);  // its hello
    if (!isAwaited) CHECK(side.endings.at(0).code == status::BadCertificateUriInvalid);
  }
}

}  // namespace zunth::channel_test
