#include "service/net/connecting.hpp"

#include "service/net/web_link.hpp"

#include <boost/asio/connect.hpp>
#include <boost/asio/this_coro.hpp>
#include <fmt/format.h>

namespace zunth::net {

using namespace ua;

asio::awaitable<Addresses> resolve(std::string host, std::uint16_t port, Instant deadline) {
  const auto executor = co_await asio::this_coro::executor;
  struct Question {
    explicit Question(const Executor& where) : resolver(where), answered(where) {}
    Tcp::resolver resolver;
    asio::steady_timer answered;
    Addresses addresses{asio::error::timed_out, {}};
  };
  const auto question = std::make_shared<Question>(executor);
  question->answered.expires_at(deadline);
  question->resolver.async_resolve(host, std::to_string(port), [question](auto error, auto endpoints) {
    question->addresses = {error, std::move(endpoints)};
    question->answered.cancel();
  });
  co_await question->answered.async_wait(kQuietly);
  question->resolver.cancel();
  co_return std::move(question->addresses);
}

asio::awaitable<boost::system::error_code> connect(Tcp::socket& socket, Tcp::resolver::results_type endpoints,
                                                   Instant deadline) {
  const auto executor = co_await asio::this_coro::executor;
  const Deadline late(executor, deadline, [&] {
    boost::system::error_code ignored;
    socket.close(ignored);
  });
  auto [error, reached] = co_await asio::async_connect(socket, endpoints, kQuietly);
  co_return error&& late.hasPassed() ? make_error_code(asio::error::timed_out) : error;
}

asio::awaitable<Result<std::shared_ptr<Link>>> openWebSocket(Tcp::socket socket, channel::Url url,
                                                             std::function<Result<void>(const ByteString& chain)> trust,
                                                             Instant deadline, Error late) {
  namespace beast = boost::beast;
  const auto executor = co_await asio::this_coro::executor;
  const auto refused = std::make_shared<Error>(Error{status::Good, {}, {}});
  const auto context = tlsClient(std::move(trust), refused);
  WebSocket webSocket(std::move(socket), *context);
  SSL_set_tlsext_host_name(webSocket.next_layer().native_handle(), url.host.c_str());
  const Deadline end(executor, deadline, [&] {
    boost::system::error_code ignored;
    beast::get_lowest_layer(webSocket).close(ignored);
  });
  auto [insecure] = co_await webSocket.next_layer().async_handshake(TlsStream::client, kQuietly);
  if (insecure) {
    if (end.hasPassed()) co_return late;
    if (refused->code.isBad()) co_return *refused;
    co_return Error{status::BadConnectionRejected,
                    fmt::format("no TLS at {}:{} ({})", url.host, url.port, insecure.message()), "zunth endpoints"};
  }
  namespace websocket = beast::websocket;
  webSocket.set_option(websocket::stream_base::timeout::suggested(beast::role_type::client));
  webSocket.set_option(websocket::stream_base::decorator(
      [](websocket::request_type& request) { request.set(beast::http::field::sec_websocket_protocol, "opcua+uacp"); }));
  const std::string host = fmt::format("{}:{}", url.host, url.port);
  const std::string path = url.path.empty() ? "/" : url.path;
  auto [refusal] = co_await webSocket.async_handshake(host, path, kQuietly);
  if (refusal) {
    if (end.hasPassed()) co_return late;
    co_return Error{status::BadConnectionRejected,
                    fmt::format("no WebSocket at {}:{} ({})", url.host, url.port, refusal.message()),
                    "zunth endpoints"};
  }
  constexpr std::size_t kMostOctets = 16u << 20;
  co_return std::static_pointer_cast<Link>(
      std::make_shared<WebLink>(std::move(webSocket), context, WebLink::Kind::Octets, kMostOctets));
}

}  // namespace zunth::net
