// The server over TLS: secure channels and JSON messages in WebSockets, messages of both encodings over HTTPS.
#include "core/channel/json_message.hpp"
#include "core/channel/url.hpp"
#include "core/space/namespace0.hpp"
#include "service/client/session.hpp"
#include "service/endpoint/listener.hpp"
#include "service/net/web_link.hpp"
#include "service/server/server.hpp"

#include "tests/identity.hpp"
#include "tests/service/run_loop.hpp"
#include <boost/asio/connect.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <boost/beast/core/buffers_to_string.hpp>
#include <boost/beast/http.hpp>
#include <catch2/catch.hpp>
#include <spdlog/spdlog.h>

namespace zunth::web_test {

using namespace zunth::ua;
namespace asio = net::asio;
namespace http = boost::beast::http;

namespace {

struct Web {
  Web() : space("urn:fernhollow.example:test") {
    spdlog::set_level(spdlog::level::off);
    space::loadNamespace0(space);
    server::Settings settings;
    settings.allowAnonymous = true;
    settings.applicationUri = "urn:fernhollow.example:test";
    settings.identities = test::identity("urn:fernhollow.example:test");
    settings.trust = [](const ByteString&) { return Result<void>(); };
    settings.maxMessageSize = 1u << 20;
    server = std::make_unique<server::Server>(space, settings);
    listener = std::make_unique<endpoint::Listener>(loop, *server);
    wss = *listener->listen("opc.wss://127.0.0.1:0");
    https = "opc.https" + wss.substr(7);
    REQUIRE(listener->listen(https));
    server->setEndpointUrls({wss, https});
  }
  /// A client's TLS stream; it looks at the certificate as applications do.
  asio::awaitable<net::TlsStream> tls() {
    auto parsed = channel::Url::parse(wss);
    net::Tcp::socket socket(loop);
    co_await socket.async_connect({asio::ip::make_address("127.0.0.1"), parsed->port}, asio::use_awaitable);
    context = net::tlsClient([](const ByteString&) { return Result<void>(); }, std::make_shared<Error>());
    net::TlsStream stream(std::move(socket), *context);
    co_await stream.async_handshake(net::TlsStream::client, asio::use_awaitable);
    co_return std::move(stream);
  }
  asio::io_context loop{1};
  space::Space space;
  std::unique_ptr<server::Server> server;
  std::unique_ptr<endpoint::Listener> listener;
  std::string wss, https;
  std::shared_ptr<net::TlsContext> context;
};

struct Posted {
  unsigned status;
  std::string body;
};

asio::awaitable<Posted> post(net::TlsStream& stream, std::string type, std::string body) {
  http::request<http::string_body> request(http::verb::post, "/", 11);
  request.set(http::field::host, "127.0.0.1");
  request.set(http::field::content_type, type);
  request.body() = std::move(body);
  request.prepare_payload();
  co_await http::async_write(stream, request, asio::use_awaitable);
  boost::beast::flat_buffer buffer;
  http::response<http::string_body> response;
  co_await http::async_read(stream, buffer, response, asio::use_awaitable);
  co_return Posted{response.result_int(), response.body()};
}

/// What a JSON message answers, by its fields.
Json answerOf(const Posted& posted) {
  CHECK(posted.status == 200);
  return Json::parse(posted.body).at("Body");
}

}  // namespace

TEST_CASE("a client opens a secure channel over a WebSocket", "[web][cu:Protocol WebSocket]") {
  Web web;
  test::run(web.loop, [&]() -> asio::awaitable<void> {
    for (const auto wish : {client::Security::Wish::None, client::Security::Wish::Encrypt}) {
      client::Session::Options options;
      options.timeout = std::chrono::seconds(10);
      options.security.wish = wish;
      int looked = 0;
      options.security.identity = [](auto) {
        return Result<std::shared_ptr<const secure::Identity>>(test::identity("urn:fernhollow.example:client"));
      };
      options.security.trust = [&](const ByteString&, const std::string&, const std::string&) {
        ++looked;
        return Result<void>();
      };
      auto session = co_await client::Session::open(web.wss, options);
      INFO((session ? "" : session.error().text()));
      REQUIRE(session);
      CHECK(looked > 0);
      const auto namespaces = co_await (*session)->namespaces();
      REQUIRE(namespaces);
      CHECK(namespaces->at(1) == "urn:fernhollow.example:test");
      co_await (*session)->close();
      // A server that isn't trusted is told nothing.
      options.security.trust = [](const ByteString&, const std::string&, const std::string&) {
        return Result<void>(Error{status::BadCertificateUntrusted, "a stranger", {}});
      };
      const auto refused = co_await client::Session::open(web.wss, options);
      CHECK(refused.code() == status::BadCertificateUntrusted);
      CHECK(refused.error().cause == "a stranger");
    }
    CHECK(web.server->sessionCount() == 0);
  });
}

TEST_CASE("messages go over HTTPS in both encodings", "[web][cu:Protocol HTTPS]") {
  Web web;
  test::run(web.loop, [&]() -> asio::awaitable<void> {
    auto stream = co_await web.tls();
    SECTION("binary") {
      GetEndpointsRequest request;
      request.requestHeader.requestHandle = 7;
      request.endpointUrl = String(web.https);
      Bytes message;
      BinaryWriter writer(message);
      writer.write(NodeId(GetEndpointsRequest::kBinaryId));
      writer.write(request);
      const auto posted = co_await post(stream, "application/octet-stream",
                                        std::string(reinterpret_cast<const char*>(message.data()), message.size()));
      CHECK(posted.status == 200);
      BinaryReader reader(std::as_bytes(std::span(posted.body)));
      REQUIRE(reader.next<NodeId>() == NodeId(GetEndpointsResponse::kBinaryId));
      const auto response = reader.next<GetEndpointsResponse>();
      CHECK(response.responseHeader.requestHandle == 7);
      std::set<std::string> profiles;
      for (const auto& endpoint : response.endpoints) profiles.insert(endpoint.transportProfileUri.str());
      CHECK(profiles == std::set<std::string>{"http://opcfoundation.org/UA-Profile/Transport/wss-uasc-uabinary",
                                              "http://opcfoundation.org/UA-Profile/Transport/wss-uajson",
                                              "http://opcfoundation.org/UA-Profile/Transport/https-uabinary",
                                              "http://opcfoundation.org/UA-Profile/Transport/https-uajson"});
    }
    SECTION("JSON, a whole session") {
      const std::string json = "application/opcua+uajson";
      const auto created = answerOf(co_await post(
          stream, json, R"({"TypeId":{"Id":459},"Body":{"SessionName":"by hand","RequestedSessionTimeout":60000}})"));
      const std::string token = created.at("AuthenticationToken").dump();
      answerOf(co_await post(
          stream, json, R"({"TypeId":{"Id":465},"Body":{"RequestHeader":{"AuthenticationToken":)" + token + "}}}"));
      // A second connection may go on with it.
      auto other = co_await web.tls();
      const auto read = answerOf(co_await post(
          other, json,
          R"({"TypeId":629,"Body":{"RequestHeader":{"AuthenticationToken":)" + token +
              R"(,"RequestHandle":5},"TimestampsToReturn":"Neither_3","NodesToRead":[{"NodeId":"i=2255","AttributeId":13}]}})"));
      CHECK(read.at("ResponseHeader").at("RequestHandle") == 5);
      CHECK(read.at("Results").at(0).at("Value").at("Body").at(1) == "urn:fernhollow.example:test");
      const auto wrong = Json::parse((co_await post(other, json, R"({"TypeId":629,"Body":{"MaxAge":"soon"}})")).body);
      CHECK(wrong.at("TypeId").at("Id") == 395);
      CHECK(wrong.at("Body").at("ResponseHeader").at("ServiceResult") == status::BadDecodingError.value);
      const auto unknown = Json::parse((co_await post(other, json, R"({"TypeId":{"Id":85},"Body":{}})")).body);
      CHECK(unknown.at("Body").at("ResponseHeader").at("ServiceResult") == status::BadServiceUnsupported.value);
    }
    SECTION("JSON as 1.05 has it, answered alike") {
      const auto ask = [&](std::string body) -> asio::awaitable<Json> {
        co_return Json::parse((co_await post(stream, "application/opcua+uajson", std::move(body))).body);
      };
      const Json created = co_await ask(R"({"UaTypeId":"i=459","SessionName":"by hand"})");
      CHECK(created.at("UaTypeId") == "i=462");
      const std::string header =
          R"("RequestHeader":{"AuthenticationToken":)" + created.at("AuthenticationToken").dump() + "}";
      CHECK((co_await ask(R"({"UaTypeId":"i=465",)" + header + "}")).at("UaTypeId") == "i=468");
      const Json read =
          co_await ask(R"({"UaTypeId":"i=629",)" + header +
                       R"(,"TimestampsToReturn":3,"NodesToRead":[{"NodeId":"i=2255","AttributeId":13}]})");
      const Json& value = read.at("Results").at(0);
      CHECK(value.at("UaType") == 12);
      CHECK(value.at("Value").at(1) == "urn:fernhollow.example:test");
      const Json refused = co_await ask(R"({"UaTypeId":"i=629",)" + header + R"(,"MaxAge":-1})");
      CHECK(refused.at("ResponseHeader").at("ServiceResult").at("Code") == status::BadNothingToDo.value);
    }
    SECTION("what is no message") {
      CHECK((co_await post(stream, "text/plain", "hello")).status == 415);
      const auto garbage = co_await post(stream, "application/opcua+uajson", "{");
      CHECK(answerOf(garbage).at("ResponseHeader").at("ServiceResult") == status::BadDecodingError.value);
      const auto empty = co_await post(stream, "application/octet-stream", "");
      CHECK(empty.status == 200);
    }
  });
  CHECK(web.server->sessionCount() <= 1);
}

TEST_CASE("JSON messages go over a WebSocket", "[web][cu:Protocol WebSocket]") {
  Web web;
  test::run(web.loop, [&]() -> asio::awaitable<void> {
    net::WebSocket socket(co_await web.tls());
    socket.set_option(
        boost::beast::websocket::stream_base::decorator([](boost::beast::websocket::request_type& request) {
          request.set(http::field::sec_websocket_protocol, "opcua+uajson");
        }));
    co_await socket.async_handshake("127.0.0.1", "/", asio::use_awaitable);
    auto ask = [&](std::string text) -> asio::awaitable<Json> {
      co_await socket.async_write(asio::buffer(text), asio::use_awaitable);
      boost::beast::flat_buffer buffer;
      co_await socket.async_read(buffer, asio::use_awaitable);
      co_return Json::parse(boost::beast::buffers_to_string(buffer.data()));
    };
    const auto created = co_await ask(R"({"TypeId":{"Id":459},"Body":{"RequestHeader":{"RequestHandle":1}}})");
    CHECK(created.at("TypeId").at("Id") == 462);
    const std::string header =
        R"({"RequestHeader":{"AuthenticationToken":)" + created.at("Body").at("AuthenticationToken").dump() + "}";
    co_await ask(R"({"TypeId":{"Id":465},"Body":)" + header + "}}");
    const auto browsed = co_await ask(R"({"TypeId":{"Id":525},"Body":)" + header +
                                      R"(,"NodesToBrowse":[{"NodeId":"i=84","ResultMask":63}]}})");
    CHECK(browsed.at("Body").at("Results").at(0).at("References").size() == 4);
    // Large answers and large requests are written and read aside; the next message is read all the same.
    const std::string large = R"({"NodeId":"i=68","BrowseDirection":1,"IncludeSubtypes":true,"ResultMask":63})";
    std::string many = large;
    for (int i = 0; i < 600; ++i)
      many += R"(,{"NodeId":"i=84","BrowseDirection":0,"IncludeSubtypes":true,"ResultMask":1})";
    for (const auto& what : {large, large, many, large}) {
      const auto answer =
          co_await ask(R"({"TypeId":{"Id":525},"Body":)" + header + R"(,"NodesToBrowse":[)" + what + "]}}");
      CHECK(answer.at("Body").at("Results").at(0).at("References").size() == 1'000);
    }
    const auto garbage = co_await ask("[]");
    CHECK(garbage.at("TypeId").at("Id") == 395);
  });
}

}  // namespace zunth::web_test
