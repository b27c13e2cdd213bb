#pragma once

#include "core/space/namespace0.hpp"
#include "service/server/server.hpp"

#include <deque>

#include <spdlog/spdlog.h>

namespace zunth::test {

/// A client without a socket: keeps what it is answered.
class FakePeer : public server::Peer {
 public:
  explicit FakePeer(std::uint32_t channelId = 1) : channelId_(channelId) {}
  void respond(std::uint32_t requestId, ua::Bytes message) override {
    answers.emplace_back(requestId, std::move(message));
  }
  std::uint32_t channelId() const override { return channelId_; }
  const channel::ChannelSecurity& security() const override { return security_; }
  const server::Entrance& entrance() const override { return entrance_; }
  std::string address() const override { return from + ":51234"; }
  void hold() override { ++holds; }
  void release() override { --holds; }
  bool isGone() const override { return gone; }
  bool isEncryptedBelow() const override { return tls; }
  /// As if the channel were secured so.
  void pretend(ua::MessageSecurityMode mode) { security_.mode = mode; }
  /// As if it came in by another door.
  void enterBy(server::Entrance entrance) { entrance_ = std::move(entrance); }
  std::deque<std::pair<std::uint32_t, ua::Bytes>> answers;
  std::string from = "127.0.0.1";
  int holds = 0;
  bool gone = false, tls = false;

 private:
  std::uint32_t channelId_;
  channel::ChannelSecurity security_;
  server::Entrance entrance_{"opc.tcp://127.0.0.1:4840",
                             "http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary"};
};

/// A server with a clock that stands still until it is moved, and one client of it.
class Bench {
 public:
  explicit Bench(bool open = true, const std::function<void(server::Settings&)>& adjust = {})
      : space("urn:fernhollow.example:test") {
    spdlog::set_level(spdlog::level::off);
    space::loadNamespace0(space);
    server::Settings settings;
    settings.allowUnsecured = settings.allowAnonymous = open;
    settings.endpointUrls = {"opc.tcp://127.0.0.1:4840"};
    settings.limits.maxSessions = 3;
    settings.limits.maxContinuationPointsPerSession = 2;
    settings.limits.maxPublishRequestsPerSession = 4;
    if (adjust) adjust(settings);
    server = std::make_unique<server::Server>(
        space, settings, server::Clock{[this] { return now; }, [] { return ua::DateTime{133'000'000'000'000'000}; }});
  }

  space::NodeIndex addVariable(const char* name, ua::StandardId dataType, ua::Variant value) {
    space::NewNode node;
    node.nodeId = ua::NodeId(1, ua::String(name));
    node.nodeClass = ua::NodeClass::Variable;
    node.browseName = {1, name};
    node.traits.dataType = space.at(dataType);
    node.traits.accessLevel = 3;
    node.value = std::move(value);
    const auto added = *space.add(std::move(node));
    space.refer(space.at(ua::id::ObjectsFolder), ua::id::HasComponent, added);
    space.refer(added, ua::id::HasTypeDefinition, space.at(ua::id::BaseDataVariableType));
    return added;
  }
  space::NodeIndex addNode(ua::NodeId id, ua::NodeClass nodeClass, const char* name, space::NodeIndex parent,
                           ua::StandardId type = ua::id::BaseObjectType) {
    space::NewNode node;
    node.nodeId = std::move(id);
    node.nodeClass = nodeClass;
    node.browseName = {1, name};
    node.eventNotifier = 1;
    const auto added = *space.add(std::move(node));
    space.refer(parent, ua::id::HasComponent, added);
    if (nodeClass == ua::NodeClass::Object) space.refer(added, ua::id::HasTypeDefinition, space.at(type));
    return added;
  }
  void addArguments(space::NodeIndex method, const char* name,
                    const std::vector<std::pair<const char*, ua::StandardId>>& wanted) {
    std::vector<ua::ExtensionObject> arguments;
    for (const auto& [argument, type] : wanted)
      arguments.push_back(ua::ExtensionObject::of(ua::Argument{argument, type, -1, {}, {}}));
    space::NewNode node;
    node.nodeId = ua::NodeId(1, ua::String(space.nodeId(method).text() + name));
    node.nodeClass = ua::NodeClass::Variable;
    node.browseName = {0, name};
    node.traits.dataType = space.at(ua::id::Argument);
    node.traits.valueRank = 1;
    node.value = ua::Variant::array(arguments);
    space.refer(method, ua::id::HasProperty, *space.add(std::move(node)));
  }
  template <class Request>
  void send(Request request) {
    if (request.requestHeader.authenticationToken.isNull()) request.requestHeader.authenticationToken = token;
    request.requestHeader.requestHandle = ++handle;
    request.requestHeader.returnDiagnostics = 0x84;
    ua::Bytes body;
    ua::BinaryWriter writer(body);
    writer.write(ua::NodeId(Request::kBinaryId));
    writer.write(request);
    server->handle(peer, handle, body);
  }
  /// The oldest answer not taken yet, as this structure; an Error for a fault.
  template <class Response>
  ua::Result<Response> take() {
    if (peer->answers.empty()) return ua::Error{ua::status::BadTimeout, "no answer is there", {}};
    const ua::Bytes message = std::move(peer->answers.front().second);
    peer->answers.pop_front();
    ua::BinaryReader reader(ua::BytesView(message).subspan(channel::kHeadroom));
    const auto id = reader.next<ua::NodeId>();
    if (id == ua::NodeId(ua::ServiceFault::kBinaryId)) {
      const auto header = reader.next<ua::ServiceFault>().responseHeader;
      return ua::Error{header.serviceResult, header.serviceDiagnostics.additionalInfo.value_or(ua::String()).str(), {}};
    }
    if (!(id == ua::NodeId(Response::kBinaryId))) return ua::Error{ua::status::BadUnknownResponse, id.text(), {}};
    return reader.next<Response>();
  }
  template <class Request>
  ua::Result<typename Request::Response> call(Request request) {
    send(std::move(request));
    return take<typename Request::Response>();
  }
  void open() {
    ua::CreateSessionRequest create;
    create.requestedSessionTimeout = 60'000;
    token = call(create)->authenticationToken;
    (void)call(ua::ActivateSessionRequest{});
  }
  void pass(double ms) {
    now += ua::milliseconds(ms);
    server->tick();
  }

  space::Space space;
  ua::Instant now{std::chrono::hours(1)};
  std::unique_ptr<server::Server> server;
  std::shared_ptr<FakePeer> peer = std::make_shared<FakePeer>();
  ua::NodeId token;
  std::uint32_t handle = 0;
};

}  // namespace zunth::test
