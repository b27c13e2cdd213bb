#include "service/endpoint/web_endpoint.hpp"

#include "core/channel/json_message.hpp"

#include <boost/asio/as_tuple.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <boost/beast/http.hpp>
#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::endpoint {

using namespace ua;
using server::Peer;
using server::Reply;
using server::Server;
namespace asio = net::asio;
namespace http = boost::beast::http;
namespace websocket = boost::beast::websocket;

namespace {

constexpr auto kQuietly = asio::as_tuple(asio::use_awaitable);
constexpr auto kTimeToAsk = std::chrono::seconds(60);  // from one request to the next
constexpr std::string_view kBinaryContent = "application/octet-stream", kJsonContent = "application/opcua+uajson";
constexpr std::string_view kChannelProtocol = "opcua+uacp", kJsonProtocol = "opcua+uajson";

/// Closes a connection that takes too long, as long as it is not put off.
class Deadline {
 public:
  Deadline(asio::io_context& loop, net::TlsStream& stream) : timer_(loop), stream_(stream) {}
  ~Deadline() { *isThere_ = false; }
  void set(std::chrono::steady_clock::duration time) {
    timer_.expires_after(time);
    // The time may run out in the same turn in which the connection ends: then nobody is there to be closed.
    timer_.async_wait([&stream = stream_, isThere = isThere_](const boost::system::error_code& cancelled) {
      boost::system::error_code ignored;
      if (!cancelled && *isThere) stream.next_layer().close(ignored);
    });
  }
  void lift() { timer_.cancel(); }

 private:
  asio::steady_timer timer_;
  net::TlsStream& stream_;
  std::shared_ptr<bool> isThere_ = std::make_shared<bool>(true);
};

bool offers(const http::request<http::string_body>& request, std::string_view protocol) {
  const auto offered = request[http::field::sec_websocket_protocol];
  for (const auto token : http::token_list(offered))
    if (token == boost::beast::string_view(protocol.data(), protocol.size())) return true;
  return false;
}

}  // namespace

/// A client without a secure channel: TLS alone protects what it says.
class WebEndpoint::Caller : public Peer {
 public:
  Caller(Server& server, std::string address) : server_(server), address_(std::move(address)) {
    security_.policyUri = String(channel::kPolicyNone);
    security_.mode = MessageSecurityMode::None;
  }
  const channel::ChannelSecurity& security() const override { return security_; }
  bool isEncryptedBelow() const override { return true; }
  const String& endpointUrl() const override { return url_; }
  std::string address() const override { return address_; }

 protected:
  /// Serves a message of either encoding; what is unreadable is answered as a service's failure.
  void serve(const std::shared_ptr<Peer>& self, Result<Bytes> message) {
    if (message) return server_.handle(self, 0, *message);
    Reply(self, 0, RequestHeader{}).fault(message.error(), DateTime::from(std::chrono::system_clock::now()));
  }
  static BytesView bodyOf(const Bytes& message) { return BytesView(message).subspan(channel::kHeadroom); }

  Server& server_;

 private:
  std::string address_;
  channel::ChannelSecurity security_;
  String url_;
};

/// A WebSocket with JSON messages.
class WebEndpoint::JsonCaller final : public Caller, public std::enable_shared_from_this<JsonCaller> {
 public:
  JsonCaller(Server& server, const std::shared_ptr<net::Link>& link, std::uint32_t channelId)
      : Caller(server, link->peer()), link_(link), channelId_(channelId) {}
  /// The link's callback keeps this alive as long as the connection lives.
  void start(net::Link& link, std::function<void()> served) {
    link.start({[self = shared_from_this(), served = std::move(served)](BytesView octets) {
                  const std::string_view text(reinterpret_cast<const char*>(octets.data()), octets.size());
                  self->serve(self, channel::messageFromJson(text));
                  served();
                },
                [](const std::string&) {}});
  }
  void respond(std::uint32_t, Bytes message) override {
    auto text = channel::messageToJson(bodyOf(message));
    if (!text) return spdlog::error("an answer can't be written as JSON: {}", text.error().text());
    const auto octets = std::as_bytes(std::span(*text));
    std::vector<Bytes> buffers;
    buffers.emplace_back(octets.begin(), octets.end());
    if (const auto link = link_.lock()) link->send(std::move(buffers));
  }
  std::uint32_t channelId() const override { return channelId_; }

 private:
  std::weak_ptr<net::Link> link_;
  std::uint32_t channelId_;
};

/// One message posted over HTTPS; wakes who waits for its answer.
class WebEndpoint::HttpCaller final : public Caller, public std::enable_shared_from_this<HttpCaller> {
 public:
  HttpCaller(Server& server, std::string address, asio::io_context& loop)
      : Caller(server, std::move(address)), answered_(loop, Instant::max()) {}

  void serve(bool isJson, std::string_view body) {
    isJson_ = isJson;
    const auto octets = std::as_bytes(std::span(body));
    Caller::serve(shared_from_this(), isJson ? channel::messageFromJson(body) : Bytes(octets.begin(), octets.end()));
  }
  void respond(std::uint32_t, Bytes message) override {
    const BytesView body = bodyOf(message);
    if (isJson_) {
      auto text = channel::messageToJson(body);
      if (text) answer_ = std::move(*text);
    } else {
      answer_.assign(reinterpret_cast<const char*>(body.data()), body.size());
    }
    isAnswered_ = true;
    answered_.cancel();
  }
  /// Sessions over HTTPS belong to no connection: a client may use one for each message.
  std::uint32_t channelId() const override { return 0; }
  asio::awaitable<std::string> answer() {
    while (!isAnswered_) co_await answered_.async_wait(kQuietly);
    co_return std::move(answer_);
  }

 private:
  asio::steady_timer answered_;
  bool isJson_ = false, isAnswered_ = false;
  std::string answer_;
};

WebEndpoint::WebEndpoint(asio::io_context& loop, Server& server, Callbacks callbacks)
    : loop_(loop), server_(server), callbacks_(std::move(callbacks)) {}

void WebEndpoint::accept(net::Tcp::socket socket) {
  if (const auto now = server_.settings().identities.main(); identity_ != now) {
    identity_ = now;
    tls_ = net::tlsServer(*identity_);
  }
  ++*connections_;
  asio::co_spawn(loop_, converse(std::move(socket)),
                 [connections = connections_](const std::exception_ptr&) { --*connections; });
}

asio::awaitable<void> WebEndpoint::converse(net::Tcp::socket socket) {
  const auto context = tls_;
  const std::string address = net::addressOf(socket);
  const std::size_t mostOctets = server_.settings().maxMessageSize;
  net::TlsStream stream(std::move(socket), *context);
  boost::beast::flat_buffer buffer;
  auto deadline = std::make_unique<Deadline>(loop_, stream);
  deadline->set(kTimeToAsk);
  if (auto [error] = co_await stream.async_handshake(net::TlsStream::server, kQuietly); error) co_return;
  while (true) {
    http::request_parser<http::string_body> parser;
    parser.body_limit(mostOctets);
    deadline->set(kTimeToAsk);
    if (auto [error, size] = co_await http::async_read(stream, buffer, parser, kQuietly); error) co_return;
    deadline->lift();
    auto request = parser.release();

    if (websocket::is_upgrade(request)) {
      const bool isChannel = offers(request, kChannelProtocol);
      const std::string_view protocol = isChannel ? kChannelProtocol : kJsonProtocol;
      deadline.reset();
      net::WebSocket webSocket(std::move(stream));
      webSocket.set_option(websocket::stream_base::timeout::suggested(boost::beast::role_type::server));
      if (isChannel || offers(request, kJsonProtocol))
        webSocket.set_option(websocket::stream_base::decorator([protocol](websocket::response_type& response) {
          response.set(http::field::sec_websocket_protocol, std::string(protocol));
        }));
      if (auto [error] = co_await webSocket.async_accept(request, kQuietly); error) co_return;
      auto link = std::make_shared<net::WebLink>(
          std::move(webSocket), context, isChannel ? net::WebLink::Kind::Octets : net::WebLink::Kind::Text, mostOctets);
      if (isChannel)
        callbacks_.channel(std::move(link));
      else
        std::make_shared<JsonCaller>(server_, link, callbacks_.nextChannelId())->start(*link, callbacks_.served);
      co_return;
    }

    http::response<http::string_body> response;
    response.version(request.version());
    response.keep_alive(request.keep_alive());
    const auto type = request[http::field::content_type];
    const bool isJson = type.starts_with("application/opcua+uajson") || type.starts_with("application/json");
    if (request.method() != http::verb::post) {
      response.result(http::status::method_not_allowed);
      response.set(http::field::allow, "POST");
      response.body() = "post a message of OPC UA here\n";
    } else if (!isJson && !type.starts_with(kBinaryContent.data())) {
      response.result(http::status::unsupported_media_type);
      response.body() = fmt::format("write messages as {} or {}\n", kBinaryContent, kJsonContent);
    } else {
      auto caller = std::make_shared<HttpCaller>(server_, address, loop_);
      caller->serve(isJson, request.body());
      callbacks_.served();
      response.set(http::field::content_type, std::string(isJson ? kJsonContent : kBinaryContent));
      response.body() = co_await caller->answer();
    }
    response.prepare_payload();
    deadline->set(kTimeToAsk);
    if (auto [error, size] = co_await http::async_write(stream, response, kQuietly); error) co_return;
    if (!response.keep_alive()) {
      co_await stream.async_shutdown(kQuietly);
      co_return;
    }
  }
}

}  // namespace zunth::endpoint
