// Connections on threads of their own, services on one at a time.
#include "core/space/namespace0.hpp"
#include "service/client/subscription.hpp"
#include "service/endpoint/listener.hpp"
#include "service/net/handed_link.hpp"
#include "service/server/server.hpp"

#include <barrier>
#include <future>
#include <numeric>
#include <thread>

#include "tests/identity.hpp"
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/write.hpp>
#include <catch2/catch.hpp>
#include <spdlog/spdlog.h>

namespace zunth::loops_test {

using namespace zunth::ua;
namespace asio = net::asio;

namespace {

/// Threads that run one loop.
class Threads {
 public:
  explicit Threads(int count) : loop(count), guard_(asio::make_work_guard(loop)) {
    for (int i = 0; i < count; ++i) threads_.emplace_back([this] { loop.run(); });
  }
  ~Threads() { join(); }
  void join() {
    guard_.reset();
    loop.stop();
    threads_.clear();
  }
  asio::io_context loop;

 private:
  asio::executor_work_guard<asio::io_context::executor_type> guard_;
  std::vector<std::jthread> threads_;
};

}  // namespace

TEST_CASE("who asks idle services is served where it asks, and in order when they are busy", "[loops]") {
  Threads threads(2);
  const net::Loops loops(threads.loop);
  const auto asker = loops.ofOne();
  std::promise<std::pair<std::thread::id, std::thread::id>> idle;
  asio::post(asker, [&] {
    std::thread::id there;
    asio::dispatch(loops.services(), [&] { there = std::this_thread::get_id(); });
    idle.set_value({std::this_thread::get_id(), there});
  });
  const auto [here, there] = idle.get_future().get();
  CHECK(here == there);

  std::barrier<> busy(2), asked(2);
  asio::post(loops.services(), [&] {
    busy.arrive_and_wait();
    asked.arrive_and_wait();
  });
  busy.arrive_and_wait();
  std::vector<int> order;
  std::promise<std::size_t> servedMeanwhile;
  asio::post(asker, [&] {
    for (int i = 0; i < 10; ++i) asio::dispatch(loops.services(), [&order, i] { order.push_back(i); });
    servedMeanwhile.set_value(order.size());
  });
  CHECK(servedMeanwhile.get_future().get() == 0);
  std::promise<void> last;
  asio::post(loops.services(), [&] { last.set_value(); });
  asked.arrive_and_wait();
  last.get_future().get();
  CHECK(order == std::vector<int>{0, 1, 2, 3, 4, 5, 6, 7, 8, 9});
}

TEST_CASE("a link that is handed over brings everything once, piece by piece", "[loops]") {
  Threads threads(2);
  const net::Loops loops(threads.loop);
  net::Tcp::acceptor acceptor(threads.loop, {asio::ip::address_v4::loopback(), 0});
  asio::io_context own;
  net::Tcp::socket client(own);
  client.connect(acceptor.local_endpoint());
  net::Tcp::socket accepted(loops.ofOne());
  acceptor.accept(accepted);
  const auto link =
      std::make_shared<net::HandedLink>(std::make_shared<net::TcpLink>(std::move(accepted)), loops.services());
  std::promise<std::string> ended;
  std::string received;
  std::atomic<int> under{0};
  bool isAlone = true;
  asio::post(loops.services(), [&] {
    link->start({[&](BytesView octets) {
                   isAlone &= ++under == 1;
                   received.append(reinterpret_cast<const char*>(octets.data()), octets.size());
                   link->send({Bytes(octets.begin(), octets.end())});
                   --under;
                   link->setReading(true);
                 },
                 [&](const std::string&) { ended.set_value(received); }});
  });
  std::string sent, back;
  for (int i = 0; i < 2'000; ++i) {
    const std::string line = std::to_string(i) + " trout\n";
    asio::write(client, asio::buffer(line));
    sent += line;
  }
  while (back.size() < sent.size()) {
    char buffer[4096];
    back.append(buffer, client.read_some(asio::buffer(buffer)));
  }
  client.close();
  CHECK(ended.get_future().get() == sent);
  CHECK(back == sent);
  CHECK(isAlone);
}

TEST_CASE("clients on several threads each get what they wrote, and every change once", "[loops]") {
  constexpr int kClients = 4, kWrites = 200;
  spdlog::set_level(spdlog::level::off);
  Threads threads(3);
  const net::Loops loops(threads.loop);
  space::Space space("urn:fernhollow.example:test");
  space::loadNamespace0(space);
  for (std::uint32_t i = 0; i < kClients; ++i) {
    space::NewNode node;
    node.nodeId = NodeId(1, i);
    node.nodeClass = NodeClass::Variable;
    node.browseName = {1, "count"};
    node.traits.dataType = space.at(id::Int32);
    node.traits.accessLevel = 3;
    node.value = Variant(0);
    REQUIRE(space.add(std::move(node)));
  }
  server::Settings settings;
  settings.applicationUri = "urn:fernhollow.example:test";
  settings.allowAnonymous = true;
  settings.identities = test::identity("urn:fernhollow.example:test");
  settings.trust = [](const ByteString&) { return Result<void>(); };
  std::unique_ptr<server::Server> server;
  std::unique_ptr<endpoint::Listener> listener;
  std::promise<std::string> listening;
  asio::post(loops.services(), [&] {
    server = std::make_unique<server::Server>(space, settings);
    listener = std::make_unique<endpoint::Listener>(loops, *server);
    const std::string url = *listener->listen("opc.tcp://127.0.0.1:0");
    server->setEndpointUrls({url});
    listening.set_value(url);
  });
  const std::string url = listening.get_future().get();

  const auto work = [&](std::uint32_t number, std::vector<std::int32_t>& heard, bool& isRight) {
    asio::io_context loop;
    asio::co_spawn(
        loop,
        [&]() -> client::Awaitable<void> {
          client::Session::Options options;
          options.timeout = std::chrono::seconds(30);
          options.reconnects = false;
          options.security.identity = [](auto) {
            return Result<std::shared_ptr<const secure::Identity>>(test::identity("urn:fernhollow.example:client"));
          };
          options.security.trust = [](const ByteString&, const std::string&, const std::string&) {
            return Result<void>();
          };
          auto session = co_await client::Session::open(url, options);
          if (!session) co_return;
          const NodeId node(1, number);
          client::Subscription::Settings settings;
          settings.interval = 20;
          client::Subscription::Handlers handlers;
          handlers.change = [&](std::uint32_t, const DataValue& value) {
            if (const auto* count = value.value.template get<std::int32_t>()) heard.push_back(*count);
          };
          auto subscription = co_await client::Subscription::create(*session, settings, handlers);
          if (!subscription) co_return;
          MonitoredItemCreateRequest item;
          item.itemToMonitor = {node, 13, {}, {}};
          item.monitoringMode = MonitoringMode::Reporting;
          item.requestedParameters.queueSize = 1'000;
          (void)co_await (*subscription)->add(std::vector(1, item));
          const std::vector<ReadValueId> what(1, {node, 13, {}, {}});
          for (std::int32_t i = 1; i <= kWrites; ++i) {
            const auto written = co_await (*session)->write(node, Variant(i));
            const auto read = co_await (*session)->read(what);
            isRight &= written && written->error.code.isGood() && read && read->front().value == Variant(i);
          }
          asio::steady_timer patience(loop);
          while (heard.empty() || heard.back() != kWrites) {
            patience.expires_after(std::chrono::milliseconds(5));
            co_await patience.async_wait(asio::use_awaitable);
          }
          (void)co_await (*session)->close();
        },
        asio::detached);
    loop.run_for(std::chrono::seconds(60));
  };
  std::array<std::vector<std::int32_t>, kClients> heard;
  std::array<bool, kClients> isRight;
  isRight.fill(true);
  {
    std::vector<std::jthread> clients;
    for (std::uint32_t i = 0; i < kClients; ++i) clients.emplace_back([&, i] { work(i, heard[i], isRight[i]); });
  }
  for (std::size_t i = 0; i < kClients; ++i) {
    CHECK(isRight[i]);
    std::vector<std::int32_t> wanted(kWrites + 1);
    std::iota(wanted.begin(), wanted.end(), 0);
    CHECK(heard[i] == wanted);
  }
  threads.join();
  listener.reset();
}

}  // namespace zunth::loops_test
