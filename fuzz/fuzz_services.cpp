// Any requests, one after the other, in the name of a session that is activated, while time passes. Limits are small,
// so that they are met; what waits or lasts is brought to its end. A server serves many inputs, each in a session of
// its own, as making one takes a hundred times as long as an input.
#include "core/space/namespace0.hpp"
#include "service/server/server.hpp"

#include <cstdlib>

#include <spdlog/spdlog.h>

using namespace zunth;
using namespace zunth::ua;

namespace {

class Peer final : public server::Peer {
 public:
  void respond(std::uint32_t, Bytes message) override {
    // No answer is larger than what was allowed, with what stands around it.
    if (message.size() > (1u << 20) + 65'536) std::abort();
    last = std::move(message);
  }
  std::uint32_t channelId() const override { return 1; }
  const channel::ChannelSecurity& security() const override { return security_; }
  const server::Entrance& entrance() const override { return entrance_; }
  std::string address() const override { return "127.0.0.1:1"; }
  void hold() override { ++holds; }
  void release() override { --holds; }
  Bytes last;
  int holds = 0;

 private:
  channel::ChannelSecurity security_;
  server::Entrance entrance_;
};

/// A server, and one session of it at a time.
struct Fixture {
  Fixture() : space("urn:fernhollow.example:fuzz") {
    spdlog::set_level(spdlog::level::off);
    space::loadNamespace0(space);
    server::Settings settings;
    settings.allowUnsecured = settings.allowAnonymous = settings.allowNodeManagement = true;
    settings.endpointUrls = {"opc.tcp://127.0.0.1:4840"};
    settings.limits.maxAddedNodes = 200;
    settings.limits.maxResponse = 1u << 20;
    settings.limits.maxQueuedPerSession = 1u << 20;
    settings.limits.maxMonitoredItems = 500;
    settings.limits.maxSessions = 8;
    // Each look at the clock takes a while: slices end within requests.
    server.emplace(space, settings,
                   server::Clock{[this] { return now += std::chrono::microseconds(50); },
                                 [] { return DateTime{133'000'000'000'000'000}; }});
    nodes = space.size();
  }
  ~Fixture() { server->shutdown(); }
  void open() {
    peer = std::make_shared<Peer>();
    send(CreateSessionRequest{});
    BinaryReader answer(BytesView(peer->last).subspan(channel::kHeadroom));
    answer.next<NodeId>();
    token = answer.next<CreateSessionResponse>().authenticationToken;
    ActivateSessionRequest activate;
    activate.requestHeader.authenticationToken = token;
    send(activate);
    if (!server->hasSession(peer->channelId())) std::abort();
  }
  /// Ends what an input began; nothing of it may be left.
  void close() {
    CloseSessionRequest request;
    request.requestHeader.authenticationToken = token;
    request.deleteSubscriptions = true;
    send(request);
    settle();
    for (const auto* session : server->sessionList())
      server->endSession(NodeId(session->sessionId), {status::Good, {}, {}});
    server->channelClosed(*peer, {status::Good, {}, {}});
    settle();
    if (!server->sessionList().empty()) std::abort();
  }
  /// What lasts ends.
  void settle() {
    int turns = 0;
    while (peer->holds > 0)
      if (server->tick(); ++turns > 100'000) std::abort();
  }
  /// Whether the next input meets it as the first did.
  bool isAsNew() const { return inputs < 500 && space.size() == nodes; }
  template <class Request>
  void send(const Request& request) {
    Bytes body;
    BinaryWriter writer(body);
    writer.write(NodeId(Request::kBinaryId));
    writer.write(request);
    server->handle(peer, 1, body);
  }
  void send(std::uint32_t id, BytesView rest) {
    RequestHeader header;
    header.authenticationToken = token;
    header.returnDiagnostics = 0x3FF;
    Bytes body;
    BinaryWriter writer(body);
    writer.write(NodeId(id));
    writer.write(header);
    writer.raw(rest);
    server->handle(peer, 2, body);
    settle();
  }
  space::Space space;
  Instant now{std::chrono::hours(1)};
  std::optional<server::Server> server;
  std::shared_ptr<Peer> peer;
  NodeId token;
  std::size_t nodes = 0;
  int inputs = 0;
};

constexpr std::uint32_t kRequests[] = {
    AddNodesRequest::kBinaryId,
    DeleteNodesRequest::kBinaryId,
    AddReferencesRequest::kBinaryId,
    DeleteReferencesRequest::kBinaryId,
    QueryFirstRequest::kBinaryId,
    QueryNextRequest::kBinaryId,
    BrowseRequest::kBinaryId,
    BrowseNextRequest::kBinaryId,
    ReadRequest::kBinaryId,
    TranslateBrowsePathsToNodeIdsRequest::kBinaryId,
    WriteRequest::kBinaryId,
    CallRequest::kBinaryId,
    CreateSubscriptionRequest::kBinaryId,
    ModifySubscriptionRequest::kBinaryId,
    PublishRequest::kBinaryId,
    TransferSubscriptionsRequest::kBinaryId,
    CreateMonitoredItemsRequest::kBinaryId,
    ModifyMonitoredItemsRequest::kBinaryId,
    SetMonitoringModeRequest::kBinaryId,
    SetTriggeringRequest::kBinaryId,
    DeleteMonitoredItemsRequest::kBinaryId,
    RepublishRequest::kBinaryId,
    DeleteSubscriptionsRequest::kBinaryId,
    SetPublishingModeRequest::kBinaryId,
    HistoryReadRequest::kBinaryId,
    HistoryUpdateRequest::kBinaryId,
    RegisterNodesRequest::kBinaryId,
    UnregisterNodesRequest::kBinaryId,
    CancelRequest::kBinaryId,
    CreateSessionRequest::kBinaryId,
    ActivateSessionRequest::kBinaryId,
    CloseSessionRequest::kBinaryId,
    FindServersRequest::kBinaryId,
    GetEndpointsRequest::kBinaryId,
    RegisterServer2Request::kBinaryId,
};

}  // namespace

/// Each request is an octet that chooses it, two of its length, and its body after the header.
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static std::unique_ptr<Fixture> fixture;
  if (!fixture || !fixture->isAsNew()) fixture.reset(), fixture = std::make_unique<Fixture>();
  ++fixture->inputs;
  fixture->open();
  for (int requests = 0; size >= 3 && requests < 16; ++requests) {
    const std::uint32_t id = kRequests[data[0] % std::size(kRequests)];
    const std::size_t length = std::min<std::size_t>(data[1] | data[2] << 8, size - 3);
    fixture->send(id, {reinterpret_cast<const std::byte*>(data + 3), length});
    fixture->now += std::chrono::milliseconds(data[0]);
    fixture->server->tick();
    data += 3 + length;
    size -= 3 + length;
  }
  fixture->close();
  return 0;
}
