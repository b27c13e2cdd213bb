// Any octets as a client's stream into a server's channel with services behind it, cut in two at any place; and as a
// server's stream into a client's channel.
#include "core/channel/client_channel.hpp"
#include "core/space/namespace0.hpp"
#include "service/server/server.hpp"

#include <cstdlib>

#include <spdlog/spdlog.h>

using namespace zunth;
using namespace zunth::ua;

namespace {

class Client final : public server::Peer,
                     public channel::ServerChannel::Handler,
                     public std::enable_shared_from_this<Client> {
 public:
  explicit Client(server::Server& server) : server_(server), channel_(options(), *this) {}
  void feed(BytesView octets) { channel_.feed(octets, Instant{}, DateTime{}); }
  void request(std::uint32_t id, BytesView body) override { server_.handle(shared_from_this(), id, body); }
  void closed(const Error&) override {}
  void respond(std::uint32_t id, Bytes message) override { channel_.respond(id, std::move(message)); }
  std::uint32_t channelId() const override { return channel_.id(); }
  const channel::ChannelSecurity& security() const override { return channel_.security(); }
  const server::Entrance& entrance() const override { return entrance_; }
  std::string address() const override { return "fuzz"; }

  std::function<Result<void>(const ByteString&)> trust() override {
    return [](const ByteString&) { return Result<void>(); };
  }

 private:
  /// With a certificate of its own, so that secured OPN messages are looked into, too.
  static channel::ServerChannel::Options options() {
    static const auto identity = [] {
      const auto key = secure::PrivateKey::generate();
      const secure::Certificate::Wish wish{"Fernhollow fuzz",
                                           "",
                                           "urn:fernhollow.example:fuzz",
                                           {"localhost"},
                                           DateTime{133'000'000'000'000'000},
                                           DateTime{150'000'000'000'000'000}};
      return std::make_shared<const secure::Identity>(
          secure::Identity{secure::Certificate::selfSigned(wish, key), key});
    }();
    channel::ServerChannel::Options out;
    out.identities = identity;
    out.random = [](std::size_t size) { return ByteString(std::vector<std::byte>(size).data(), size); };
    return out;
  }
  server::Server& server_;
  server::Entrance entrance_;
  channel::ServerChannel channel_;
};

class Nothing final : public channel::ClientChannel::Handler {
 public:
  void opened() override {}
  void response(std::uint32_t, BytesView) override {}
  void aborted(std::uint32_t, const Error&) override {}
  void closed(const Error&) override {}
};

server::Server& theServer() {
  static auto* space = [] {
    spdlog::set_level(spdlog::level::off);
    auto* s = new space::Space("urn:fernhollow.example:fuzz");
    space::loadNamespace0(*s);
    return s;
  }();
  static auto* server = [] {
    server::Settings settings;
    settings.allowUnsecured = settings.allowAnonymous = true;
    settings.allowNodeManagement = settings.acceptRegistrations = true;
    settings.diagnostics = false;  // eighty nodes for each session would take most of the time
    settings.endpointUrls = {"opc.tcp://127.0.0.1:4840"};
    return new server::Server(*space, settings);
  }();
  return *server;
}

/// Keeps the last answer.
class Listener final : public server::Peer {
 public:
  void respond(std::uint32_t, Bytes message) override { last = std::move(message); }
  std::uint32_t channelId() const override { return 7; }
  const channel::ChannelSecurity& security() const override { return security_; }
  const server::Entrance& entrance() const override { return entrance_; }
  std::string address() const override { return "fuzz"; }
  Bytes last;

 private:
  channel::ChannelSecurity security_;
  server::Entrance entrance_;
};

template <class Request>
Bytes bodyOf(const Request& request) {
  Bytes body;
  BinaryWriter writer(body);
  writer.write(NodeId(Request::kBinaryId));
  writer.write(request);
  return body;
}

/// The request with the token of a session that is there, and after it time for what it set off.
void asSession(BytesView octets) {
  BinaryReader reader(octets);
  const auto id = reader.next<NodeId>();
  auto header = reader.next<RequestHeader>();
  if (!reader.ok()) return;
  auto peer = std::make_shared<Listener>();
  theServer().handle(peer, 1, bodyOf(CreateSessionRequest{}));
  BinaryReader answer(BytesView(peer->last).subspan(channel::kHeadroom));
  answer.next<NodeId>();
  ActivateSessionRequest activate;
  activate.requestHeader.authenticationToken = answer.next<CreateSessionResponse>().authenticationToken;
  theServer().handle(peer, 2, bodyOf(activate));
  CreateSubscriptionRequest subscribe;
  subscribe.requestHeader.authenticationToken = activate.requestHeader.authenticationToken;
  theServer().handle(peer, 3, bodyOf(subscribe));
  header.authenticationToken = activate.requestHeader.authenticationToken;
  Bytes body;
  BinaryWriter writer(body);
  writer.write(id);
  writer.write(header);
  writer.raw(reader.rest());
  theServer().handle(peer, 4, body);
  theServer().tick();
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size < 1) return 0;
  const BytesView octets(reinterpret_cast<const std::byte*>(data + 1), size - 1);
  const std::size_t cut = std::min<std::size_t>(data[0], octets.size());
  auto client = std::make_shared<Client>(theServer());
  client->feed(octets.first(cut));
  client->feed(octets.subspan(cut));
  theServer().shutdown();

  Nothing nothing;
  channel::ClientChannel channel({}, nothing);
  channel.feed(octets, Instant{}, DateTime{});
  // The same octets as one request's body, past the channel; and once more in the name of a session.
  theServer().handle(client, 1, octets);
  asSession(octets);
  theServer().shutdown();
  return 0;
}
