#include "service/console/door.hpp"

#include "service/console/browser_stream.hpp"
#include "service/console/console.hpp"
#include "service/logs/logs.hpp"
#include "service/net/deadline.hpp"

#include <array>
#include <atomic>
#include <deque>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/beast/core.hpp>
#include <boost/beast/http.hpp>
#include <boost/beast/websocket.hpp>
#include <fmt/format.h>

namespace zunth::console {

using namespace ua;
namespace asio = boost::asio;
namespace http = boost::beast::http;
namespace websocket = boost::beast::websocket;
using HttpRequest = http::request<http::string_body>;

/// What connections have in common; it outlives the door that let them in.
struct Door::Shared {
  Shared(Console& owner, net::Executor services_) : console(&owner), services(std::move(services_)) {}
  // On the services' executor
  Console* console;  // null when the door is closed
  net::Executor services;
  std::map<std::string, std::size_t> ofHosts;  // connections
  std::size_t connections = 0;
  std::shared_ptr<const secure::Identity> identity;  // that tls was made with
  std::shared_ptr<net::TlsContext> tls;
  bool isOverTls = false;
  std::string host;  // that it listens at
};

namespace {

constexpr auto kTimeToSpeak = std::chrono::seconds(10);  // until the handshake is through, and the first request there
constexpr auto kTimeToAsk = std::chrono::seconds(75);    // from one request to the next, and to take an answer
constexpr std::size_t kMostBody = 1u << 20, kMostHeader = 16u << 10, kMostSaid = 1u << 20;
constexpr std::size_t kMostConnections = 400, kMostOfHost = 300;

// Of its messages none is compressed: they are small, and it would be most of the work.
using WebSocket = websocket::stream<BrowserStream, false>;

class BrowserSocket final : public LiveSocket, public std::enable_shared_from_this<BrowserSocket> {
 public:
  BrowserSocket(WebSocket socket, net::Executor services)
      : socket_(std::move(socket)), executor_(socket_.get_executor()), services_(std::move(services)) {
    socket_.read_message_max(kMostSaid);
    socket_.text(true);
  }

  void start(Callbacks callbacks) override {
    callbacks_ = std::move(callbacks);
    asio::co_spawn(executor_, listen(shared_from_this()), asio::detached);
  }
  void send(std::string text) override {
    unsent_ += text.size();
    asio::post(executor_, [self = shared_from_this(), text = std::move(text)]() mutable {
      self->queue_.push_back(std::move(text));
      if (self->queue_.size() == 1) asio::co_spawn(self->executor_, self->write(self), asio::detached);
    });
  }
  std::size_t unsent() const override { return unsent_; }
  void close() override {
    asio::post(executor_, [self = shared_from_this()] {
      self->isClosing_ = true;
      self->finish();
    });
  }

 private:
  Awaitable<void> listen([[maybe_unused]] std::shared_ptr<BrowserSocket> self) {
    boost::beast::flat_buffer buffer;
    while (true) {
      auto [error, size] = co_await socket_.async_read(buffer, net::kQuietly);
      if (error) break;
      tell([text = boost::beast::buffers_to_string(buffer.data())](Callbacks& callbacks) mutable {
        callbacks.said(std::move(text));
      });
      buffer.consume(buffer.size());
    }
    tell([](Callbacks& callbacks) { callbacks.ended(); });
  }
  Awaitable<void> write([[maybe_unused]] std::shared_ptr<BrowserSocket> self) {
    while (!queue_.empty()) {
      auto [error, size] = co_await socket_.async_write(asio::buffer(queue_.front()), net::kQuietly);
      unsent_ -= queue_.front().size();
      queue_.pop_front();
      if (error) {
        for (const auto& text : queue_) unsent_ -= text.size();
        queue_.clear();
      }
    }
    tell([](Callbacks& callbacks) { callbacks.drained(); });
    finish();
  }
  /// Once what was to be said has left.
  void finish() {
    if (!isClosing_ || !queue_.empty() || std::exchange(isClosed_, true)) return;
    socket_.async_close(websocket::close_code::normal,
                        [self = shared_from_this()](const boost::system::error_code&) {});
  }
  template <class Tell>
  void tell(Tell what) {
    asio::post(services_, [self = shared_from_this(), what = std::move(what)]() mutable {
      if (self->callbacks_.said) what(self->callbacks_);
    });
  }

  WebSocket socket_;
  net::Executor executor_, services_;
  Callbacks callbacks_;
  std::deque<std::string> queue_;  // the first is being written
  std::atomic<std::size_t> unsent_{0};
  bool isClosing_ = false, isClosed_ = false;
};

/// Server-Sent Events: what a feed tells, for scripts that only listen. What they want is in the address.
class EventStream final : public LiveSocket, public std::enable_shared_from_this<EventStream> {
 public:
  EventStream(BrowserStream stream, net::Executor services)
      : stream_(std::move(stream)), executor_(stream_.get_executor()), services_(std::move(services)) {}

  void start(Callbacks callbacks) override {
    callbacks_ = std::move(callbacks);
    asio::co_spawn(executor_, listen(shared_from_this()), asio::detached);
  }
  /// As if the script had said so over a WebSocket.
  void say(std::string text) {
    if (callbacks_.said) callbacks_.said(std::move(text));
  }
  void send(std::string text) override { write("data: " + text + "\n\n"); }
  std::size_t unsent() const override { return unsent_; }
  void close() override {
    asio::post(executor_, [self = shared_from_this()] { self->stream_.close(); });
  }
  void write(std::string text) {
    unsent_ += text.size();
    asio::post(executor_, [self = shared_from_this(), text = std::move(text)]() mutable {
      self->queue_.push_back(std::move(text));
      if (self->queue_.size() == 1) asio::co_spawn(self->executor_, self->flush(self), asio::detached);
    });
  }

 private:
  /// It says nothing more; that it has gone is all there is to hear.
  Awaitable<void> listen([[maybe_unused]] std::shared_ptr<EventStream> self) {
    std::array<char, 512> rest;
    while (true) {
      auto [error, size] = co_await stream_.async_read_some(asio::buffer(rest), net::kQuietly);
      if (error) break;
    }
    asio::post(services_, [self] { self->callbacks_.ended(); });
  }
  Awaitable<void> flush([[maybe_unused]] std::shared_ptr<EventStream> self) {
    while (!queue_.empty()) {
      const net::Deadline deadline(executor_, std::chrono::steady_clock::now() + kTimeToAsk,
                                   [this] { stream_.close(); });
      (void)co_await asio::async_write(stream_, asio::buffer(queue_.front()), net::kQuietly);
      unsent_ -= queue_.front().size();
      queue_.pop_front();
    }
    asio::post(services_, [self] {
      if (self->callbacks_.drained) self->callbacks_.drained();
    });
  }

  BrowserStream stream_;
  net::Executor executor_, services_;
  Callbacks callbacks_;
  std::deque<std::string> queue_;  // the first is being written
  std::atomic<std::size_t> unsent_{0};
};

/// What a stream is to watch, as a page would ask for it.
std::string watchOf(const Request& request) {
  Json wanted = Json::array();
  for (const auto& node : request.values("node")) wanted.push_back({{"key", wanted.size() + 1}, {"node", node}});
  Json asked{{"watch", std::move(wanted)}};
  if (request.value("alarms") == "true") asked["alarms"] = true;
  return asked.dump(-1, ' ', false, Json::error_handler_t::replace);
}

/// Pages of other servers have no business here; programs send no Origin (RFC 6454).
bool isSameOrigin(const HttpRequest& request) {
  const auto origin = request[http::field::origin];
  if (origin.empty()) return true;
  const auto scheme = origin.find("://");
  return scheme != boost::beast::string_view::npos && origin.substr(scheme + 3) == request[http::field::host];
}

/// Without TLS a name that somebody else's name service leads here is no name of this machine.
bool isOwnName(boost::beast::string_view host, bool isOverTls) {
  if (isOverTls) return true;
  const auto name = host.substr(0, host.rfind(':') == boost::beast::string_view::npos ? host.size() : host.rfind(':'));
  return name == "127.0.0.1" || name == "localhost" || name == "[::1]";
}

Result<Request> requestOf(const HttpRequest& from, const std::string& address, bool isSecure) {
  Request request;
  const auto text = [](boost::beast::string_view view) { return std::string(view.data(), view.size()); };
  request.method = text(from.method_string());
  request.body = from.body();
  request.cookie = cookieNamed(text(from[http::field::cookie]), "zunth");
  request.proof = text(from["X-Zunth-Proof"]);
  const std::string bearer = text(from[http::field::authorization]);
  if (bearer.starts_with("Bearer ")) request.bearer = bearer.substr(7);
  request.ifNoneMatch = text(from[http::field::if_none_match]);
  request.address = address;
  request.isSecure = isSecure;
  if (auto fine = readTarget(text(from.target()), request); !fine) return fine.error();
  return request;
}

http::response<http::string_body> responseOf(Answer answer, const HttpRequest& request, bool isSecure) {
  http::response<http::string_body> response(static_cast<http::status>(answer.status), request.version());
  response.keep_alive(request.keep_alive());
  response.set(http::field::content_type, answer.type);
  // What runs in the page comes from here, and nothing in it speaks to anybody else.
  response.set("Content-Security-Policy",
               "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; "
               "base-uri 'none'; form-action 'self'; frame-ancestors 'none'");
  response.set("X-Content-Type-Options", "nosniff");
  response.set("X-Frame-Options", "DENY");
  response.set("Referrer-Policy", "no-referrer");
  response.set("Cross-Origin-Opener-Policy", "same-origin");
  response.set("Cross-Origin-Resource-Policy", "same-origin");
  if (isSecure) response.set("Strict-Transport-Security", "max-age=31536000");
  for (const auto& [name, value] : answer.headers) response.insert(name, value);
  response.body() = std::move(answer.body);
  response.prepare_payload();
  if (request.method() == http::verb::head) response.body().clear();
  return response;
}

/// Whether somebody may listen to what happens, and by which token where it isn't by a login.
struct Listener {
  Result<void> may;
  std::optional<Token> token;
};

// Both on the services' executor.
template <class Shared>
Awaitable<Listener> mayJoin(Shared shared, Request request) {
  Listener out;
  if (!shared->console) {
    out.may = Error{status::BadShutdown, "the console is closed", {}};
  } else if (request.path != "/api/live" && request.path != "/api/stream") {
    out.may = Error{status::BadNotFound, "nothing lives there", "/api/live"};
  } else if (request.path == "/api/stream" && !request.value("token", request.bearer).empty()) {
    const auto token = co_await shared->console->tokenOf(request);
    if (token)
      out.token = *token;
    else
      out.may = token.error();
  } else if (const auto login = shared->console->mayJoin(request); !login) {
    out.may = login.error();
  }
  co_return out;
}
template <class Shared>
Awaitable<Answer> serve(Shared shared, Request request) {
  if (!shared->console) co_return Answer::of(Error{status::BadShutdown, "the console is closed", {}});
  co_return co_await shared->console->serve(std::move(request));
}

/// One browser's connection, until it ends or becomes a WebSocket.
template <class Shared>
Awaitable<void> converse(BrowserStream stream, std::string address, Shared shared) {
  const auto executor = stream.get_executor();
  const auto cut = [&stream] { stream.close(); };
  const bool isSecure = stream.isSecure();
  boost::beast::flat_buffer buffer;
  const auto now = [] { return std::chrono::steady_clock::now(); };
  {
    const net::Deadline deadline(executor, now() + kTimeToSpeak, cut);
    if (!co_await stream.shakeHands()) co_return;
  }
  for (bool isFirst = true;; isFirst = false) {
    http::request_parser<http::string_body> parser;
    parser.body_limit(kMostBody);
    parser.header_limit(kMostHeader);
    {
      const net::Deadline deadline(executor, now() + (isFirst ? kTimeToSpeak : kTimeToAsk), cut);
      auto [error, size] = co_await http::async_read(stream, buffer, parser, net::kQuietly);
      if (error) co_return;
    }
    const HttpRequest request = parser.release();
    auto wanted = requestOf(request, address, isSecure);
    Answer answer;
    if (!isOwnName(request[http::field::host], isSecure)) {
      answer = Answer::of(Error{status::BadUserAccessDenied, "the console is not known by this name",
                                "use the address that zunthd prints"});
    } else if (!isSameOrigin(request)) {
      answer = Answer::of(Error{status::BadUserAccessDenied, "pages of other servers may not speak here", {}});
    } else if (!wanted) {
      answer = Answer::of(wanted.error());
    } else if (websocket::is_upgrade(request) || wanted->path == "/api/stream") {
      const bool isStream = !websocket::is_upgrade(request);
      Request asked = *wanted;
      auto judged = mayJoin(shared, std::move(asked));
      const Listener listener = co_await asio::co_spawn(shared->services, std::move(judged), asio::use_awaitable);
      if (listener.may && isStream) {
        auto live = std::make_shared<EventStream>(std::move(stream), shared->services);
        live->write(
            "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nCache-Control: no-store\r\n"
            "X-Content-Type-Options: nosniff\r\nConnection: close\r\n\r\n");
        asio::post(shared->services, [shared, live, request = *wanted, token = listener.token] {
          if (!shared->console) return live->close();
          if (token) {
            if (!shared->console->join(*token, request, live)) live->close();
            return;
          }
          if (!shared->console->join(request, live)) return live->close();
          live->say(watchOf(request));
        });
        co_return;
      }
      // A page always says where it comes from.
      if (listener.may && !request[http::field::origin].empty()) {
        WebSocket socket(std::move(stream));
        socket.set_option(websocket::stream_base::timeout::suggested(boost::beast::role_type::server));
        auto [error] = co_await socket.async_accept(request, net::kQuietly);
        if (error) co_return;
        auto live = std::make_shared<BrowserSocket>(std::move(socket), shared->services);
        asio::post(shared->services, [shared, live, request = *wanted] {
          if (!shared->console || !shared->console->join(request, live)) live->close();
        });
        co_return;
      }
      answer =
          Answer::of(listener.may ? Error{status::BadUserAccessDenied, "a live connection says which page it is of", {}}
                                  : listener.may.error());
    } else {
      auto served = serve(shared, std::move(*wanted));
      answer = co_await asio::co_spawn(shared->services, std::move(served), asio::use_awaitable);
    }
    const auto response = responseOf(std::move(answer), request, isSecure);
    const net::Deadline deadline(executor, now() + kTimeToAsk, cut);
    auto [error, size] = co_await http::async_write(stream, response, net::kQuietly);
    if (error) co_return;
    if (response.keep_alive()) continue;
    co_await stream.finish();
    co_return;
  }
}

}  // namespace

Door::Door(Console& console)
    : console_(console),
      acceptor_(console.loops().services()),
      pause_(console.loops().services()),
      shared_(std::make_shared<Shared>(console, console.loops().services())) {}

Door::~Door() {
  boost::system::error_code ignored;
  acceptor_.close(ignored);
  shared_->console = nullptr;
}

Result<std::string> Door::listen(const std::string& url) {
  const auto parsed = admin::consoleUrl(url);
  if (!parsed) return parsed.error();
  shared_->isOverTls = parsed->isOverTls();
  boost::system::error_code error;
  net::Tcp::resolver resolver(console_.loops().services());
  const auto found = resolver.resolve(parsed->host, std::to_string(parsed->port), net::Tcp::resolver::passive, error);
  if (error || found.empty())
    return Error{status::BadTcpEndpointUrlInvalid, fmt::format("the host name {} does not resolve", parsed->host),
                 "write an address of this machine after 'console' in site.yaml"};
  const net::Tcp::endpoint endpoint = found.begin()->endpoint();
  acceptor_.open(endpoint.protocol(), error);
  if (!error) acceptor_.set_option(net::Tcp::acceptor::reuse_address(true), error);
  if (!error) acceptor_.bind(endpoint, error);
  if (!error) acceptor_.listen(asio::socket_base::max_listen_connections, error);
  if (error)
    return Error{status::BadCommunicationError, fmt::format("can't listen on {}: {}", url, error.message()),
                 "stop the other program on this port, or change 'console' in site.yaml"};
  accept();
  return fmt::format("{}://{}:{}", parsed->isOverTls() ? "https" : "http", parsed->host,
                     acceptor_.local_endpoint().port());
}

void Door::accept() {
  acceptor_.async_accept(console_.loops().ofOne(), [this, shared = shared_](const boost::system::error_code& error,
                                                                            net::Tcp::socket socket) {
    if (!shared->console || error == asio::error::operation_aborted) return;
    if (error) {
      logs::console().warn("a browser can't be let in: {}", error.message());
      pause_.expires_after(std::chrono::milliseconds(100));
      pause_.async_wait([this, shared](const boost::system::error_code& cancelled) {
        if (shared->console && !cancelled) accept();
      });
      return;
    }
    const std::string address = net::addressOf(socket), host = hostPart(address);
    auto& ofHost = shared->ofHosts[host];
    if (shared->connections < kMostConnections && ofHost < kMostOfHost) {
      ++shared->connections;
      ++ofHost;
      net::keepAlive(socket);
      const auto executor = socket.get_executor();
      const auto left = [shared, host](const std::exception_ptr&) {
        asio::post(shared->services, [shared, host] {
          --shared->connections;
          if (const auto count = shared->ofHosts.find(host); --count->second == 0) shared->ofHosts.erase(count);
        });
      };
      if (!shared->isOverTls) {
        asio::co_spawn(executor, converse(BrowserStream(std::move(socket)), address, shared), left);
      } else if (const auto identity = console_.server().settings().identities.main()) {
        if (shared->identity != identity) {
          shared->identity = identity;
          shared->tls = net::tlsServer(*identity);
        }
        asio::co_spawn(executor, converse(BrowserStream(std::move(socket), shared->tls), address, shared), left);
      } else {
        left({});
      }
    }
    accept();
  });
}

}  // namespace zunth::console
