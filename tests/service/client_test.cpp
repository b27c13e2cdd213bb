// The client against the server over loopback sockets, both on one loop, and against peers that are no servers.
#include "service/client/subscription.hpp"

#include "tests/service/loopback.hpp"
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/redirect_error.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <boost/asio/write.hpp>
#include <catch2/catch.hpp>

namespace zunth::client_test {

using namespace zunth::ua;
namespace asio = net::asio;

namespace {

constexpr auto kPatience = std::chrono::seconds(10);

using test::run;

/// Browses give few references at a time, so that what is long comes in pages.
struct Loopback : test::Loopback {
  Loopback() : test::Loopback({}, [](server::Settings& settings) { settings.limits.maxReferencesPerNode = 10; }) {}
};

std::vector<AttributeId> valueOnly() { return std::vector<AttributeId>(1, AttributeId::Value); }

}  // namespace

TEST_CASE("a session reads, browses in pages and closes", "[client]") {
  Loopback l;
  run(l.loop, [&]() -> client::Awaitable<void> {
    auto session = co_await l.session();
    const auto namespaces = co_await session->namespaces();
    REQUIRE(namespaces);
    CHECK(namespaces->at(1) == "urn:fernhollow.example:test");
    BrowseDescription everything{id::Server, BrowseDirection::Both, NodeId(), true, 0, 63};
    const auto references = co_await session->browse(everything);
    REQUIRE(references);
    CHECK(references->size() == l.space.references(l.space.at(id::Server)).size());
    CHECK(references->size() > 10);
    CHECK(l.server->sessionCount() == 1);
    co_await session->close();
    CHECK(l.server->sessionCount() == 0);
    const auto late = co_await session->namespaces();
    CHECK(late.code() == status::BadConnectionClosed);
  });
}

TEST_CASE("answers of many chunks arrive whole", "[client]") {
  Loopback l;
  space::NewNode node;
  node.nodeId = NodeId(1, 1u);
  node.nodeClass = NodeClass::Variable;
  node.browseName = {1, "big"};
  std::vector<double> numbers(500'000);
  for (std::size_t i = 0; i < numbers.size(); ++i) numbers[i] = static_cast<double>(i) / 3;
  node.value = Variant::array(numbers);
  const auto big = *l.space.add(std::move(node));
  l.space.refer(l.space.at(id::ObjectsFolder), id::HasComponent, big);
  run(l.loop, [&]() -> client::Awaitable<void> {
    auto session = co_await l.session();
    const auto values = co_await session->readAttributes(NodeId(1, 1u), valueOnly());
    REQUIRE(values);
    CHECK(values->front().value == l.space.value(big).value);
    co_await session->close();
  });
}

TEST_CASE("a subscription brings values and ends in order", "[client]") {
  Loopback l;
  space::NewNode node;
  node.nodeId = NodeId(1, 1u);
  node.nodeClass = NodeClass::Variable;
  node.browseName = {1, "flow"};
  node.value = Variant(0.0);
  const auto flow = *l.space.add(std::move(node));
  run(l.loop, [&]() -> client::Awaitable<void> {
    auto session = co_await l.session();
    std::vector<double> seen;
    asio::steady_timer enough(l.loop, std::chrono::seconds(20));
    client::Subscription::Handlers handlers;
    handlers.change = [&](std::uint32_t handle, const DataValue& value) {
      CHECK(handle == 9);
      seen.push_back(*value.value.get<double>());
      if (seen.back() < 20)
        l.space.setValue(flow, DataValue(Variant(seen.back() + 1), DateTime{5}));
      else
        enough.cancel();
    };
    client::Subscription::Settings settings;
    settings.interval = 20;
    auto subscription = co_await client::Subscription::create(session, settings, handlers);
    REQUIRE(subscription);
    MonitoredItemCreateRequest item;
    item.itemToMonitor = {NodeId(1, 1u), 13, {}, {}};
    item.monitoringMode = MonitoringMode::Reporting;
    item.requestedParameters = {9, 0, {}, 100, true};
    std::vector<MonitoredItemCreateRequest> items(1, item);
    const auto added = co_await (*subscription)->add(std::move(items));
    REQUIRE(added);
    boost::system::error_code ignored;
    co_await enough.async_wait(asio::redirect_error(asio::use_awaitable, ignored));
    CHECK(seen.size() == 21);
    co_await (*subscription)->close();
    CHECK(l.server->monitoredItemCount() == 0);
    co_await session->close();
  });
}

TEST_CASE("a server that stops says goodbye", "[client]") {
  Loopback l;
  run(l.loop, [&]() -> client::Awaitable<void> {
    auto session = co_await l.session();
    std::optional<Error> lost;
    session->onConnection([&](const Error& why) { lost = why; });
    l.listener->stop();
    const auto late = co_await session->namespaces();
    CHECK(late.code() == status::BadServerHalted);
    REQUIRE(lost);
    CHECK(lost->cause == "the server says: the server is shutting down");
  });
}

TEST_CASE("peers that are no servers are told apart", "[client]") {
  asio::io_context loop;
  net::Tcp::acceptor acceptor(loop, {asio::ip::address_v4::loopback(), 0});
  const std::string url = "opc.tcp://127.0.0.1:" + std::to_string(acceptor.local_endpoint().port());
  auto connect = [&](std::string to, Duration patience) {
    std::optional<Error> error;
    run(loop, [&]() -> client::Awaitable<void> {
      auto connection = co_await client::Connection::open(to, patience);
      if (!connection) error = connection.error();
    });
    loop.restart();
    REQUIRE(error);
    return *error;
  };
  SECTION("nobody") {
    acceptor.close();
    CHECK(connect(url, kPatience).code == status::BadConnectionRejected);
  }
  SECTION("no such name") {
    CHECK(connect("opc.tcp://no-such-host.invalid:4840", kPatience).code == status::BadTcpEndpointUrlInvalid);
  }
  SECTION("no such URL") { CHECK(connect("filter-house", kPatience).code == status::BadTcpEndpointUrlInvalid); }
  SECTION("somebody who says nothing") {
    CHECK(connect(url, std::chrono::milliseconds(100)).code == status::BadTimeout);
  }
  SECTION("somebody who speaks another language") {
    std::optional<net::Tcp::socket> other;
    acceptor.async_accept([&](boost::system::error_code, net::Tcp::socket socket) {
      other.emplace(std::move(socket));
      asio::write(*other, asio::buffer(std::string("220 mail ready\r\n")));
    });
    CHECK(connect(url, kPatience).code == status::BadTcpMessageTypeInvalid);
  }
  SECTION("somebody who hangs up") {
    acceptor.async_accept([&](boost::system::error_code, net::Tcp::socket socket) { socket.close(); });
    CHECK(connect(url, kPatience).code == status::BadConnectionClosed);
  }
}

TEST_CASE("a server connects to a client that waits for it", "[client][cu:Protocol Reverse Connect Server]") {
  Loopback l;
  // A port that is free; nobody waits there at first.
  std::uint16_t port = 0;
  {
    net::Tcp::acceptor free(l.loop, {asio::ip::address_v4::loopback(), 0});
    port = free.local_endpoint().port();
  }
  const std::string at = "opc.tcp://127.0.0.1:" + std::to_string(port);
  REQUIRE(l.listener->reach(at));
  CHECK(l.listener->reach("opc.wss://127.0.0.1:1").code() == status::BadTcpEndpointUrlInvalid);
  run(l.loop, [&]() -> client::Awaitable<void> {
    // Twice: the server comes again when a connection has ended.
    for (int i = 0; i < 2; ++i) {
      client::Session::Options options;
      options.timeout = kPatience;
      // Whoever comes says themselves where they are: nothing is left unsecured for that.
      const auto careful = co_await client::Session::open("await+" + at, options);
      CHECK(careful.code() == status::BadSecurityModeRejected);
      options.security.wish = client::Security::Wish::None;
      auto session = co_await client::Session::open("await+" + at, options);
      INFO((session ? "" : session.error().text()));
      REQUIRE(session);
      const auto namespaces = co_await (*session)->namespaces();
      REQUIRE(namespaces);
      CHECK(namespaces->at(1) == "urn:fernhollow.example:test");
      co_await (*session)->close();
    }
    client::Session::Options impatient;
    impatient.timeout = std::chrono::milliseconds(50);
    l.listener->stop();
    const auto late = co_await client::Session::open("await+opc.tcp://127.0.0.1:0", impatient);
    CHECK(late.code() == status::BadTimeout);
    CHECK(late.error().cause == "no server connected to 127.0.0.1:0 within 0.05 s");
  });
}

}  // namespace zunth::client_test
