// A client whose connection is cut in the middle of a stream of changes.
#include "core/space/namespace0.hpp"
#include "core/ua/generated/node_ids.hpp"
#include "service/client/subscription.hpp"
#include "service/endpoint/listener.hpp"
#include "service/server/server.hpp"

#include <charconv>

#include "tests/service/relay.hpp"
#include <boost/asio/as_tuple.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <catch2/catch.hpp>
#include <spdlog/spdlog.h>

namespace zunth::reconnect_test {

using namespace zunth::ua;
namespace asio = net::asio;

namespace {

constexpr auto kQuietly = asio::as_tuple(asio::use_awaitable);

/// A server that counts, a thousand a second, and a client that watches through a relay.
struct Counting {
  Counting(double sessionTimeout, std::uint32_t lifetimeCount) : space("urn:fernhollow.example:test"), beat(loop) {
    spdlog::set_level(spdlog::level::off);
    space::loadNamespace0(space);
    space::NewNode node;
    node.nodeId = NodeId(1, 1u);
    node.nodeClass = NodeClass::Variable;
    node.browseName = {1, "count"};
    node.value = Variant(std::int64_t{0});
    counter = *space.add(std::move(node));
    server::Settings settings;
    settings.allowUnsecured = settings.allowAnonymous = true;
    settings.limits.leastSessionTimeout = 10;
    server = std::make_unique<server::Server>(space, settings);
    listener = std::make_unique<endpoint::Listener>(loop, *server);
    const std::string url = *listener->listen("opc.tcp://127.0.0.1:0");
    server->setEndpointUrls({url});
    std::uint16_t port = 0;
    std::from_chars(url.data() + url.rfind(':') + 1, url.data() + url.size(), port);
    relay.emplace(loop, port);
    options.timeout = std::chrono::seconds(10);
    options.sessionTimeout = sessionTimeout;
    options.firstRetry = std::chrono::milliseconds(20);
    options.mostRetry = std::chrono::milliseconds(50);
    subscriptionSettings.interval = 50;
    subscriptionSettings.keepAliveCount = 4;
    subscriptionSettings.lifetimeCount = lifetimeCount;
  }

  void countOn() {
    beat.expires_after(std::chrono::milliseconds(1));
    beat.async_wait([this](boost::system::error_code error) {
      if (error) return;
      space.setValue(counter, DataValue(Variant(++count), DateTime{count}));
      countOn();
    });
  }

  client::Awaitable<void> pause(int ms) {
    asio::steady_timer timer(loop, std::chrono::milliseconds(ms));
    co_await timer.async_wait(kQuietly);
  }

  /// Watches for a while, cut off in the middle for `cutFor` changes, a millisecond or more each, until it has seen
  /// what came after.
  client::Awaitable<void> watchThrough(int cutFor, std::uint32_t queueSize) {
    auto session = co_await client::Session::open("opc.tcp://127.0.0.1:" + std::to_string(relay->port()), options);
    if (!session) throw std::runtime_error(session.error().text());
    (*session)->onConnection([this](const Error& what) { connection.push_back(what); });
    client::Subscription::Handlers handlers;
    handlers.change = [this](std::uint32_t, const DataValue& value) {
      if (const auto* number = value.value.get<std::int64_t>()) seen.push_back(*number);
      overflows += value.status.hasOverflow();
    };
    handlers.gap = [this](const std::string& why) { gaps.push_back(why); };
    handlers.failed = [this](const Error& why) { failure = why; };
    auto subscription = co_await client::Subscription::create(*session, subscriptionSettings, handlers);
    if (!subscription) throw std::runtime_error(subscription.error().text());
    MonitoredItemCreateRequest item;
    item.itemToMonitor = {NodeId(1, 1u), 13, {}, {}};
    item.monitoringMode = MonitoringMode::Reporting;
    item.requestedParameters = {9, 0, {}, queueSize, true};
    auto added = co_await (*subscription)->add(std::vector<MonitoredItemCreateRequest>(1, item));
    if (!added) throw std::runtime_error(added.error().text());
    countOn();
    while (count < 300) co_await pause(10);
    if (interrupt) {
      co_await interrupt(**session);
    } else {
      relay->cut();
      for (const auto atCut = count; count < atCut + cutFor;) co_await pause(10);
      relay->mend();
    }
    const std::int64_t atMending = count;
    while (!failure && (seen.empty() || seen.back() < atMending + 300)) co_await pause(10);
    beat.cancel();
    co_await (*subscription)->close();
    co_await (*session)->close();
  }
  void run(int cutFor, std::uint32_t queueSize = 10'000) {
    bool ended = false;
    asio::co_spawn(loop, watchThrough(cutFor, queueSize), [&](std::exception_ptr failed) {
      if (failed) std::rethrow_exception(failed);
      ended = true;
      loop.stop();
    });
    loop.run_for(std::chrono::seconds(60));
    REQUIRE(ended);
    if (failure && !mayFail) FAIL(failure->text());
  }
  bool isComplete() const {
    for (std::size_t i = 1; i < seen.size(); ++i)
      if (seen[i] != seen[i - 1] + 1) return false;
    return true;
  }

  asio::io_context loop{1};
  space::Space space;
  space::NodeIndex counter;
  std::unique_ptr<server::Server> server;
  std::unique_ptr<endpoint::Listener> listener;
  std::optional<test::Relay> relay;
  std::function<client::Awaitable<void>(client::Session&)> interrupt;  // instead of a cut
  asio::steady_timer beat;
  client::Session::Options options;
  client::Subscription::Settings subscriptionSettings;
  std::int64_t count = 0;
  std::vector<std::int64_t> seen;
  std::size_t overflows = 0;
  std::vector<std::string> gaps;
  std::vector<Error> connection;
  std::optional<Error> failure;
  bool mayFail = false;
};

}  // namespace

TEST_CASE("a client that is cut off gets every value once when it comes back",
          "[client][cu:Subscription Republish][cu:Client Reconnect]") {
  Counting c(60'000, 600);
  c.run(700);
  CHECK(c.isComplete());
  CHECK(c.overflows == 0);
  CHECK(c.gaps.empty());
  REQUIRE(c.connection.size() == 2);
  CHECK(c.connection[0].code.isBad());
  CHECK(c.connection[1].cause.find("the session goes on") != std::string::npos);
}

TEST_CASE("what a queue could not hold is marked", "[client]") {
  Counting c(60'000, 600);
  c.run(700, 100);
  CHECK_FALSE(c.isComplete());
  CHECK(c.overflows == 1);
  CHECK(c.gaps.empty());
}

TEST_CASE("a session that has timed out meanwhile hands its subscription to the next",
          "[client][cu:Client Subscription Transfer]") {
  Counting c(600, 600);
  c.run(1500);
  CHECK(c.isComplete());
  CHECK(c.gaps.empty());
  // On a busy machine the session may time out once more.
  REQUIRE(c.connection.size() >= 2);
  CHECK(c.connection[1].cause.find("new session") != std::string::npos);
}

TEST_CASE("a session that the server ends while the connection stands is made anew, with its subscription",
          "[client][cu:Client Reconnect][cu:Client Subscription Transfer]") {
  Counting c(60'000, 600);
  c.interrupt = [&c](client::Session& session) -> client::Awaitable<void> {
    CloseSessionRequest request;
    request.deleteSubscriptions = false;
    (void)co_await session.request(std::move(request));  // whose answer the end of the session may overtake
    const auto state = co_await session.readAttributes(NodeId(id::Server_ServerStatus_State),
                                                       std::vector<AttributeId>(1, AttributeId::Value));
    CHECK(state.code() == status::Good);
  };
  c.run(0);
  CHECK(c.isComplete());
  CHECK(c.overflows == 0);
  CHECK(c.gaps.empty());
  REQUIRE(c.connection.size() == 2);
  CHECK(c.connection[0].code == status::BadSessionClosed);
  CHECK(c.connection[1].cause.find("new session") != std::string::npos);
}

TEST_CASE("a user whom the server takes no longer is not brought back again and again", "[client]") {
  Counting c(60'000, 600);
  c.mayFail = true;
  c.interrupt = [&c](client::Session& session) -> client::Awaitable<void> {
    server::Settings settings = c.server->settings();
    settings.allowAnonymous = false;
    c.server->adopt(settings);
    (void)co_await session.request(CloseSessionRequest{});
  };
  c.run(0);
  REQUIRE(c.failure);
  CHECK(c.failure->code == status::BadIdentityTokenRejected);
  CHECK(c.connection.size() == 1);
}

TEST_CASE("a session with nothing to ask is kept alive", "[client]") {
  Counting c(1'000, 600);
  c.subscriptionSettings.interval = 60'000;
  c.interrupt = [&c](client::Session&) -> client::Awaitable<void> {
    while (c.count < 4'000) co_await c.pause(10);
    c.seen.push_back(c.count + 300);  // the next publishing is a minute away
  };
  c.run(0);
  CHECK(c.connection.empty());
}

TEST_CASE("a subscription that the server has forgotten is made anew, and the gap is told",
          "[client][cu:Client Reconnect]") {
  Counting c(200, 12);  // twelve times 50 ms
  c.run(1500);
  CHECK_FALSE(c.isComplete());
  CHECK(c.gaps.size() == 1);
}

// Takes its time: run it by name.
TEST_CASE("cut off for ten seconds, a client gets every value once or an overflow bit", "[.][client]") {
  Counting c(60'000, 600);
  c.run(10'000);
  CHECK((c.isComplete() || c.overflows > 0));
  CHECK(c.gaps.empty());
  WARN(c.seen.size() << " values, " << c.overflows << " overflow bits, " << c.count << " counted");
}

}  // namespace zunth::reconnect_test
