// People who mean no good: the service stays up, and a good client notices nothing.
#include "core/channel/client_channel.hpp"
#include "core/space/namespace0.hpp"
#include "service/client/subscription.hpp"
#include "service/endpoint/listener.hpp"
#include "service/server/server.hpp"

#include "tests/identity.hpp"
#include "tests/service/run_loop.hpp"
#include <boost/asio/redirect_error.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <boost/asio/write.hpp>
#include <catch2/catch.hpp>
#include <spdlog/spdlog.h>

namespace zunth::attack_test {

using namespace zunth::ua;
namespace asio = net::asio;

namespace {

struct Target {
  Target() : space("urn:fernhollow.example:test") {
    spdlog::set_level(spdlog::level::off);
    space::loadNamespace0(space);
    server::Settings settings;
    settings.applicationUri = "urn:fernhollow.example:test";
    settings.allowUnsecured = settings.allowAnonymous = true;
    settings.identities = test::identity("urn:fernhollow.example:test");
    settings.trust = [](const ByteString& chain) -> Result<void> {
      const auto certificate = secure::Certificate::fromDer(chain);
      if (certificate && certificate->applicationUri() == "urn:fernhollow.example:client") return {};
      return Error{status::BadSecurityChecksFailed, "a stranger", {}};
    };
    server = std::make_unique<server::Server>(space, settings);
    listener = std::make_unique<endpoint::Listener>(loop, *server);
    url = *listener->listen("opc.tcp://127.0.0.1:0");
    server->setEndpointUrls({url});
    port = channel::Url::parse(url)->port;
  }
  client::Awaitable<std::shared_ptr<client::Session>> goodClient(client::Security::Wish wish) {
    client::Session::Options options;
    options.timeout = std::chrono::seconds(20);
    options.reconnects = false;
    options.security.wish = wish;
    options.security.identity = [](auto) {
      return Result<std::shared_ptr<const secure::Identity>>(test::identity("urn:fernhollow.example:client"));
    };
    options.security.trust = [](const ByteString&, const std::string&, const std::string&) { return Result<void>(); };
    auto session = co_await client::Session::open(url, options);
    if (!session) throw std::runtime_error(session.error().text());
    co_return *session;
  }
  client::Awaitable<net::Tcp::socket> raw() {
    net::Tcp::socket socket(loop);
    co_await socket.async_connect({asio::ip::make_address("127.0.0.1"), port}, asio::use_awaitable);
    co_return std::move(socket);
  }
  asio::io_context loop{1};
  space::Space space;
  std::unique_ptr<server::Server> server;
  std::unique_ptr<endpoint::Listener> listener;
  std::string url;
  std::uint16_t port = 0;
};

Bytes hello() {
  channel::Hello hello;
  hello.receiveBufferSize = hello.sendBufferSize = 65536;
  hello.endpointUrl = String("opc.tcp://127.0.0.1");
  return channel::writeTransport(channel::MessageType::Hello, hello);
}

/// Hello, and an OPN message that is sound but for who sends it: work for the server's key.
Bytes strangersOpening() {
  struct Silent final : channel::ClientChannel::Handler {
    void opened() override {}
    void response(std::uint32_t, BytesView) override {}
    void aborted(std::uint32_t, const Error&) override {}
    void closed(const Error&) override {}
  } handler;
  channel::ClientChannel::Options options;
  options.endpointUrl = "opc.tcp://127.0.0.1";
  options.policy = secure::policyNamed("Basic256Sha256");
  options.mode = MessageSecurityMode::SignAndEncrypt;
  options.identity = test::identity("urn:fernhollow.example:stranger");
  options.server = test::identity("urn:fernhollow.example:test")->certificate;
  options.random = client::randomOctets;
  channel::ClientChannel channel(options, handler);
  channel::Acknowledge reply;
  reply.receiveBufferSize = reply.sendBufferSize = 65536;
  channel.feed(channel::writeTransport(channel::MessageType::Acknowledge, reply), {}, {});
  Bytes out;
  for (const auto& octets : channel.takeOutput()) out.insert(out.end(), octets.begin(), octets.end());
  return out;
}

/// What the server says at last before it ends the connection.
client::Awaitable<StatusCode> refusalOn(net::Tcp::socket& socket) {
  std::string heard;
  char piece[4096];
  boost::system::error_code ended;
  while (!ended) {
    const auto size =
        co_await socket.async_read_some(asio::buffer(piece), asio::redirect_error(asio::use_awaitable, ended));
    heard.append(piece, size);
  }
  const auto error = heard.rfind("ERR");
  REQUIRE(error != std::string::npos);
  std::uint32_t code = 0;
  std::memcpy(&code, heard.data() + error + 8, sizeof code);
  co_return StatusCode{code};
}

}  // namespace

TEST_CASE("strangers who open channels by the hundred keep nobody waiting", "[attack]") {
  Target target;
  const Bytes opening = strangersOpening();
  test::run(target.loop, [&]() -> client::Awaitable<void> {
    auto good = co_await target.goodClient(client::Security::Wish::Encrypt);
    std::vector<net::Tcp::socket> flood;
    for (int i = 0; i < 150; ++i) {
      flood.push_back(co_await target.raw());
      co_await asio::async_write(flood.back(), asio::buffer(opening.data(), opening.size()), asio::use_awaitable);
    }
    CHECK(co_await good->namespaces());
    for (auto& socket : flood) {
      const auto code = co_await refusalOn(socket);
      CHECK((code == status::BadSecurityChecksFailed || code == status::BadTcpServerTooBusy));
    }
    auto late = co_await target.goodClient(client::Security::Wish::Encrypt);
    CHECK(co_await late->namespaces());
    co_await late->close();
    co_await good->close();
  });
}

TEST_CASE("a flood of half-open connections shuts nobody out", "[attack]") {
  Target target;
  test::run(target.loop, [&]() -> client::Awaitable<void> {
    auto good = co_await target.goodClient(client::Security::Wish::Encrypt);
    std::vector<net::Tcp::socket> flood;
    // More than the server holds; every other one says hello and then nothing.
    for (int i = 0; i < 300; ++i) {
      flood.push_back(co_await target.raw());
      if (i % 2)
        co_await asio::async_write(flood.back(), asio::buffer(hello().data(), hello().size()), asio::use_awaitable);
    }
    CHECK(co_await good->namespaces());
    // Newcomers get in as well, by all the work of a secured channel.
    auto late = co_await target.goodClient(client::Security::Wish::Encrypt);
    CHECK(co_await late->namespaces());
    CHECK(target.listener->connectionCount() <= 201);
    co_await late->close();
    co_await good->close();
  });
}

TEST_CASE("what is no conversation is ended with a word, others go on", "[attack]") {
  Target target;
  struct Row {
    const char* name;
    std::string octets;
    StatusCode code;
  };
  const Bytes greeting = hello();
  const std::string hi(reinterpret_cast<const char*>(greeting.data()), greeting.size());
  std::string huge = hi;
  huge[4] = huge[5] = huge[6] = '\xFF';
  const Row rows[] = {
      {"another protocol", "GET / HTTP/1.1\r\n\r\n", status::BadTcpMessageTypeInvalid},
      {"a chunk larger than agreed", huge, status::BadTcpMessageTooLarge},
      {"hello twice", hi + hi, status::BadTcpMessageTypeInvalid},
      {"a message before a channel", hi + std::string("MSGF\x10\0\0\0abcdefgh", 16), status::BadTcpMessageTypeInvalid},
      {"a message that is cut off by nothing", hi + std::string("OPNF\x0c\0\0\0\0\0\0\0", 12),
       status::BadDecodingError},
  };
  test::run(target.loop, [&]() -> client::Awaitable<void> {
    auto good = co_await target.goodClient(client::Security::Wish::None);
    for (const auto& row : rows) {
      INFO(row.name);
      auto socket = co_await target.raw();
      co_await asio::async_write(socket, asio::buffer(row.octets), asio::use_awaitable);
      const auto code = co_await refusalOn(socket);
      CHECK(code == row.code);
      CHECK(co_await good->namespaces());
    }
    co_await good->close();
  });
}

}  // namespace zunth::attack_test
