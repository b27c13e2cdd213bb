// What stands behind the doors is an interface: they need nothing of the server but what it says.
#include "core/ua/structure_codec.hpp"
#include "service/client/connection.hpp"
#include "service/endpoint/listener.hpp"

#include "tests/service/run_loop.hpp"
#include <catch2/catch.hpp>
#include <spdlog/spdlog.h>

namespace zunth::doors_test {

using namespace zunth::ua;
namespace asio = net::asio;

namespace {

/// Writes down what comes by, and answers it with one server's name.
class Recorder final : public server::Services {
 public:
  Recorder() {
    settings_.allowUnsecured = true;
    settings_.endpointUrls = {"opc.tcp://127.0.0.1:0"};
  }
  void handle(const std::shared_ptr<server::Peer>& peer, std::uint32_t requestId, BytesView body) override {
    bodies.emplace_back(body.begin(), body.end());
    BinaryReader reader(body);
    (void)reader.next<NodeId>();
    server::Reply reply(peer, requestId, reader.next<RequestHeader>());
    FindServersResponse response;
    response.servers.emplace_back().applicationUri = "urn:fernhollow.example:elsewhere";
    reply.send(std::move(response), {});
  }
  void channelOpened(const server::Peer&, const OpenSecureChannelRequest&) override { ++opened; }
  void channelClosed(const server::Peer&, const Error&) override { ++closed; }
  bool hasSession(std::uint32_t) const override { return false; }
  void tick() override {}
  Instant nextDue() const override { return Instant::max(); }
  const server::Settings& settings() const override { return settings_; }

  std::vector<Bytes> bodies;
  int opened = 0, closed = 0;

 private:
  server::Settings settings_;
};

}  // namespace

TEST_CASE("doors serve whatever stands behind them", "[doors]") {
  spdlog::set_level(spdlog::level::off);
  asio::io_context loop(1);
  Recorder recorder;
  endpoint::Listener listener(loop, recorder);
  const std::string url = *listener.listen("opc.tcp://127.0.0.1:0");
  test::run(loop, [&]() -> client::Awaitable<void> {
    auto connection = co_await client::Connection::open(url, std::chrono::seconds(10), {});
    REQUIRE(connection);
    FindServersRequest request;
    request.endpointUrl = "opc.tcp://nowhere.example:4840";
    const auto answer = co_await (*connection)->request(std::move(request), std::chrono::seconds(10));
    REQUIRE(answer);
    REQUIRE(answer->servers.size() == 1);
    CHECK(answer->servers[0].applicationUri == "urn:fernhollow.example:elsewhere");
    (*connection)->close();
  });
  CHECK(recorder.opened == 1);
  // The body is as the client encoded it.
  REQUIRE(recorder.bodies.size() == 1);
  BinaryReader reader(recorder.bodies[0]);
  CHECK(reader.next<NodeId>() == NodeId(FindServersRequest::kBinaryId));
  CHECK(reader.next<FindServersRequest>().endpointUrl == "opc.tcp://nowhere.example:4840");
  loop.restart();
  for (int i = 0; i < 1'000 && recorder.closed == 0; ++i) loop.run_one_for(std::chrono::milliseconds(10));
  CHECK(recorder.closed == 1);
  listener.stop();
}

}  // namespace zunth::doors_test
