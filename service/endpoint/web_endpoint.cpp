#include "service/endpoint/web_endpoint.hpp"

#include "core/channel/json_message.hpp"
#include "service/logs/logs.hpp"
#include "service/net/handed_link.hpp"

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/beast/http.hpp>
#include <fmt/format.h>

namespace zunth::endpoint {

using namespace ua;
using server::Entrance;
using server::Peer;
using server::Reply;
using server::Services;
namespace asio = net::asio;
namespace http = boost::beast::http;
namespace websocket = boost::beast::websocket;

namespace {

constexpr auto kTimeToSpeak = std::chrono::seconds(10);  // until the handshake is through, and the first request there
constexpr auto kTimeToAsk = std::chrono::seconds(60);    // from one request to the next
constexpr std::size_t kMostPosted = 1u << 20;            // octets of a message over HTTPS
constexpr std::size_t kQuickly = 32 * 1024;              // octets that are read or written as JSON within a turn
constexpr std::size_t kMostChunk = 128 * 1024;           // octets of a WebSocket's message that is a chunk
constexpr std::string_view kBinaryContent = "application/octet-stream", kJsonContent = "application/opcua+uajson";
constexpr std::string_view kChannelProtocol = "opcua+uacp", kJsonProtocol = "opcua+uajson";

/// Closes a connection that takes too long, as long as it is not put off.
class Deadline {
 public:
  explicit Deadline(net::TlsStream& stream) : timer_(stream.get_executor()), stream_(stream) {}
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

/// Pages of other servers have no business here; programs send no Origin (RFC 6454).
bool isSameOrigin(const http::request<http::string_body>& request) {
  const auto origin = request[http::field::origin];
  if (origin.empty()) return true;
  const auto host = request[http::field::host];
  const auto scheme = origin.find("://");
  return scheme != boost::beast::string_view::npos && origin.substr(scheme + 3) == host;
}

bool offers(const http::request<http::string_body>& request, std::string_view protocol) {
  const auto offered = request[http::field::sec_websocket_protocol];
  for (const auto token : http::token_list(offered))
    if (token == boost::beast::string_view(protocol.data(), protocol.size())) return true;
  return false;
}

}  // namespace

/// A connection over TLS until it turns into something else; what it is as a guest is the services'.
class WebEndpoint::Visit final : public Guest {
 public:
  Visit(net::TlsStream& stream, const net::Executor& services)
      : turn(services, Instant::max()), executor_(stream.get_executor()), stream_(&stream) {}
  /// The stream is somebody else's now; on its executor.
  void leave() { stream_ = nullptr; }

  Standing standing() const override { return isServed ? Standing::Channel : Standing::Knocking; }
  Instant since() const override { return since_; }
  void end(const Error&) override { giveWay(); }
  void giveWay() override {
    asio::post(executor_, [self = std::static_pointer_cast<Visit>(shared_from_this())] {
      boost::system::error_code ignored;
      if (self->stream_) self->stream_->next_layer().close(ignored);
    });
  }
  void tick() override {}
  void resume() override {
    isQueued = false;
    turn.cancel();
  }

  static Instant now() { return std::chrono::steady_clock::now(); }
  bool isServed = false;  // it has asked something
  bool isQueued = false;
  Instant shakesSince{};
  Spending spending;
  asio::steady_timer turn;  // wakes who queues

 private:
  net::Executor executor_;
  net::TlsStream* stream_;
  Instant since_ = now();
};

/// A client without a secure channel: TLS alone protects what it says.
class WebEndpoint::Caller : public Peer {
 public:
  Caller(WebEndpoint& endpoint, std::string address, Entrance entrance)
      : endpoint_(endpoint), address_(std::move(address)), entrance_(std::move(entrance)) {
    security_.policyUri = String(channel::kPolicyNone);
    security_.mode = MessageSecurityMode::None;
  }
  const channel::ChannelSecurity& security() const override { return security_; }
  bool isEncryptedBelow() const override { return true; }
  const Entrance& entrance() const override { return entrance_; }
  std::string address() const override { return address_; }
  bool isGone() const override { return isGone_; }

 protected:
  /// Serves a message of either encoding; what is unreadable is answered as a service's failure.
  void serve(const std::shared_ptr<Peer>& self, const Result<Bytes>& message) {
    if (message) return endpoint_.services_.handle(self, 0, *message);
    Reply(self, 0, RequestHeader{}).fault(message.error(), DateTime::from(std::chrono::system_clock::now()));
  }
  static BytesView bodyOf(const Bytes& message) { return BytesView(message).subspan(channel::kHeadroom); }

  WebEndpoint& endpoint_;
  bool isGone_ = false;

 private:
  std::string address_;
  Entrance entrance_;
  channel::ChannelSecurity security_;
};

/// A WebSocket with JSON messages. One message is looked at after the other: while one is worked on, and while answers
/// stay unread, no other is read.
class WebEndpoint::JsonCaller final : public Caller, public Guest {
 public:
  JsonCaller(WebEndpoint& endpoint, const std::shared_ptr<net::WebLink>& link, Entrance entrance,
             std::uint32_t channelId)
      : Caller(endpoint, link->peer(), std::move(entrance)),
        socket_(link),
        link_(std::make_shared<net::HandedLink>(link, endpoint.loops_.services())),
        channelId_(channelId) {}
  void start() {
    const std::weak_ptr<JsonCaller> weak = self();
    link_->start({[weak](BytesView octets) {
                    if (auto self = weak.lock()) self->received(octets);
                  },
                  [weak](const std::string&) {
                    if (auto self = weak.lock()) self->drop();
                  },
                  [weak] {
                    if (auto self = weak.lock()) self->resume();
                  }});
  }

  // Peer
  void respond(std::uint32_t, Bytes message) override {
    if (isGone_) return;
    if (message.size() <= kQuickly) return send(channel::messageToJson(bodyOf(message), form_));
    hold();
    auto text = std::make_shared<Result<std::string>>(std::string());
    endpoint_.convert(
        [text, form = form_, message = std::move(message)] { *text = channel::messageToJson(bodyOf(message), form); },
        [self = self(), text] {
          self->send(std::move(*text));
          self->release();
        });
  }
  std::uint32_t channelId() const override { return channelId_; }
  void activated() override {
    asio::post(socket_->executor(), [socket = socket_, most = endpoint_.services_.settings().maxMessageSize] {
      socket->setMostMessage(most);
    });
  }
  void hold() override { ++holds_; }
  /// What was sent meanwhile is looked at in a turn of its own; see Connection::release().
  void release() override {
    if (--holds_ > 0 || isGone_ || isQueued_) return;
    isQueued_ = true;
    endpoint_.guests_.queue(self());
    endpoint_.callbacks_.queued();
  }

  // Guest
  bool cameBy(std::string_view url) const override { return entrance().url.view() == url; }
  Standing standing() const override {
    return endpoint_.services_.hasSession(channelId_) ? Standing::Session : Standing::Channel;
  }
  Instant since() const override { return since_; }
  void end(const Error&) override { link_->finish(); }
  void giveWay() override {
    link_->abandon();
    drop();
  }
  void tick() override {}
  void resume() override {
    isQueued_ = false;
    if (!isGone_ && !isBusy()) take();
  }

 private:
  std::shared_ptr<JsonCaller> self() { return std::static_pointer_cast<JsonCaller>(Guest::shared_from_this()); }
  bool isBusy() const { return holds_ > 0 || isQueued_ || link_->unsent() > net::Link::kHigh; }
  void received(BytesView octets) {
    waiting_.emplace(reinterpret_cast<const char*>(octets.data()), octets.size());
    link_->setReading(false);
    if (spending_.isMuch(Visit::now()) && !isQueued_) {
      isQueued_ = true;
      endpoint_.guests_.queue(self());
      endpoint_.callbacks_.queued();
    }
    if (!isBusy()) take();
  }
  /// Looks at the message that waits, and has the next one read.
  void take() {
    if (!waiting_) return link_->setReading(true);
    const std::string text = std::move(*waiting_);
    waiting_.reset();
    if (text.size() <= kQuickly) {
      work(channel::messageFromJson(text));
    } else {
      hold();
      auto message = std::make_shared<Result<channel::FromJson>>(channel::FromJson());
      endpoint_.convert([message, text] { *message = channel::messageFromJson(text); },
                        [self = self(), message] {
                          self->work(*message);
                          self->release();
                        });
    }
    if (!isBusy()) link_->setReading(true);
  }
  void work(const Result<channel::FromJson>& read) {
    if (isGone_) return;
    const Instant begun = Visit::now();
    if (read) form_ = read->form;
    serve(self(), read ? Result<Bytes>(read->message) : Result<Bytes>(read.error()));
    spending_.spent(Visit::now() - begun, Visit::now());
    endpoint_.callbacks_.served();
  }
  void send(Result<std::string> text) {
    if (!text) return logs::clients().error("an answer can't be written as JSON: {}", text.error().text());
    const auto octets = std::as_bytes(std::span(*text));
    std::vector<Bytes> buffers;
    buffers.emplace_back(octets.begin(), octets.end());
    link_->send(std::move(buffers));
  }
  void drop() {
    isGone_ = true;
    endpoint_.guests_.leave(self());
  }

  std::shared_ptr<net::WebLink> socket_;
  std::shared_ptr<net::HandedLink> link_;  // the same, among the services
  std::uint32_t channelId_;
  Instant since_ = Visit::now();
  std::optional<std::string> waiting_;    // a message that has come
  JsonForm form_ = JsonForm::Reversible;  // as the caller wrote last
  Spending spending_;
  int holds_ = 0;
  bool isQueued_ = false;
};

/// One message posted over HTTPS; wakes who waits for its answer.
class WebEndpoint::HttpCaller final : public Caller, public std::enable_shared_from_this<HttpCaller> {
 public:
  HttpCaller(WebEndpoint& endpoint, std::string address, Entrance entrance)
      : Caller(endpoint, std::move(address), std::move(entrance)),
        answered_(endpoint.loops_.services(), Instant::max()) {}

  void serve(const Result<Bytes>& message) { Caller::serve(shared_from_this(), message); }
  void respond(std::uint32_t, Bytes message) override {
    answer_ = std::move(message);
    answered_.cancel();
  }
  /// Sessions over HTTPS belong to no connection: a client may use one for each message.
  std::uint32_t channelId() const override { return 0; }
  std::size_t mostRequest() const override { return kMostPosted; }
  /// Wakes who waits for the answer.
  asio::steady_timer& answered() { return answered_; }
  bool isAnswered() const { return answer_.has_value(); }
  /// The message, without what stands before it; nobody waits any more.
  Bytes takeAnswer() {
    isGone_ = true;
    answer_->erase(answer_->begin(), answer_->begin() + channel::kHeadroom);
    return std::move(*answer_);
  }

 private:
  asio::steady_timer answered_;
  std::optional<Bytes> answer_;
};

WebEndpoint::WebEndpoint(net::Loops loops, Services& services, Guests& guests, Callbacks callbacks)
    : loops_(std::move(loops)), services_(services), guests_(guests), callbacks_(std::move(callbacks)) {}

void WebEndpoint::convert(std::function<void()> work, std::function<void()> done) {
  asio::post(conversions_, [this, alive = alive_, work = std::move(work), done = std::move(done)]() mutable {
    work();
    work = {};
    asio::post(loops_.services(), [alive, done = std::move(done)] {
      if (*alive) done();
    });
  });
}

Entrance WebEndpoint::entrance(std::string_view transport, bool isWebSocket) const {
  const std::string_view scheme = isWebSocket ? "opc.wss://" : "opc.https://";
  for (const auto& url : services_.settings().endpointUrls)
    if (url.starts_with(scheme))
      return {String(url), String("http://opcfoundation.org/UA-Profile/Transport/" + std::string(transport))};
  return {{}, String("http://opcfoundation.org/UA-Profile/Transport/" + std::string(transport))};
}

void WebEndpoint::accept(net::Tcp::socket socket) {
  if (const auto now = services_.settings().identities.main(); identity_ != now) {
    identity_ = now;
    tls_ = net::tlsServer(*identity_);
  }
  net::keepAlive(socket);
  const auto executor = socket.get_executor();
  asio::co_spawn(executor, converse(std::move(socket), tls_), asio::detached);
}

/// Waits for its turn to shake hands, which is work with keys: few do at once, and who dawdles makes room.
asio::awaitable<bool> WebEndpoint::shakeHands(net::TlsStream& stream, const std::shared_ptr<Visit>& visit) {
  const auto executor = stream.get_executor();
  if (auto [error] = co_await stream.next_layer().async_wait(net::Tcp::socket::wait_read, net::kQuietly); error)
    co_return false;
  asio::steady_timer pause(loops_.services());
  while (true) {
    co_await net::goOn(loops_.services());
    if (shaking_.size() < services_.settings().limits.maxTlsHandshakes) break;
    const auto oldest = *std::ranges::min_element(shaking_, {}, [](const auto& each) { return each->shakesSince; });
    if (Visit::now() - oldest->shakesSince > std::chrono::seconds(1)) oldest->giveWay();
    pause.expires_after(std::chrono::milliseconds(20));
    co_await pause.async_wait(net::kQuietly);
  }
  visit->shakesSince = Visit::now();
  shaking_.insert(visit);
  co_await net::comeBack(executor);
  auto [error] = co_await stream.async_handshake(net::TlsStream::server, net::kQuietly);
  asio::post(loops_.services(), [this, alive = alive_, visit] {
    if (*alive) shaking_.erase(visit);
  });
  co_return !error;
}

asio::awaitable<void> WebEndpoint::converse(net::Tcp::socket socket, std::shared_ptr<net::TlsContext> context) {
  const std::string address = net::addressOf(socket);
  net::TlsStream stream(std::move(socket), *context);
  const auto executor = stream.get_executor();
  const auto visit = std::make_shared<Visit>(stream, loops_.services());
  co_await net::goOn(loops_.services());
  const bool isLetIn = guests_.enter(visit);
  co_await net::comeBack(executor);
  // However it ends, it is no guest any more.
  struct Leaving {
    WebEndpoint& endpoint;
    std::shared_ptr<Visit> visit;
    std::shared_ptr<bool> alive;
    net::Executor services;
    ~Leaving() {
      visit->leave();
      asio::post(services, [&endpoint = endpoint, visit = visit, alive = alive] {
        if (*alive) endpoint.guests_.leave(visit);
      });
    }
  };
  auto leaving = std::make_unique<Leaving>(Leaving{*this, visit, alive_, loops_.services()});
  if (!isLetIn) co_return;
  boost::beast::flat_buffer buffer;
  auto deadline = std::make_unique<Deadline>(stream);
  deadline->set(kTimeToSpeak);
  if (!co_await shakeHands(stream, visit)) co_return;
  bool isFirst = true;
  while (true) {
    http::request_parser<http::string_body> parser;
    parser.body_limit(kMostPosted);
    deadline->set(isFirst ? kTimeToSpeak : kTimeToAsk);
    isFirst = false;
    if (auto [error, size] = co_await http::async_read(stream, buffer, parser, net::kQuietly); error) co_return;
    deadline->lift();
    auto request = parser.release();
    http::response<http::string_body> response;
    response.version(request.version());
    response.keep_alive(request.keep_alive());
    const auto refuse = [&](http::status status, std::string words) {
      response.result(status);
      response.body() = std::move(words);
    };

    const bool isUpgrade = websocket::is_upgrade(request);
    const bool isChannel = isUpgrade && offers(request, kChannelProtocol);
    const auto type = request[http::field::content_type];
    const bool isJson = type.starts_with("application/opcua+uajson") || type.starts_with("application/json");
    if (!isSameOrigin(request)) {
      refuse(http::status::forbidden, "pages of other servers may not speak here\n");
    } else if (isUpgrade && !isChannel && !offers(request, kJsonProtocol)) {
      refuse(http::status::bad_request, fmt::format("offer {} or {}\n", kChannelProtocol, kJsonProtocol));
    } else if (isUpgrade) {
      deadline.reset();
      leaving.reset();
      co_await upgrade(std::move(stream), context, request, isChannel);
      co_return;
    } else if (request.method() != http::verb::post) {
      refuse(http::status::method_not_allowed, "post a message of OPC UA here\n");
      response.set(http::field::allow, "POST");
    } else if (!isJson && !type.starts_with(kBinaryContent.data())) {
      refuse(http::status::unsupported_media_type,
             fmt::format("write messages as {} or {}\n", kBinaryContent, kJsonContent));
    } else {
      Result<channel::FromJson> message = channel::FromJson();
      if (!isJson) {
        const auto octets = std::as_bytes(std::span(request.body()));
        message->message.assign(octets.begin(), octets.end());
      } else if (request.body().size() <= kQuickly) {
        message = channel::messageFromJson(request.body());
      } else {
        co_await away([&] { message = channel::messageFromJson(request.body()); });
      }
      const JsonForm form = message ? message->form : JsonForm::Reversible;
      Result<Bytes> octets = message ? Result<Bytes>(std::move(message->message)) : Result<Bytes>(message.error());
      response.set(http::field::content_type, std::string(isJson ? kJsonContent : kBinaryContent));
      const Bytes answer = co_await serve(std::move(octets), address, isJson, visit, executor);
      if (answer.empty()) {
        refuse(http::status::forbidden, "messages of OPC UA are not posted here\n");
      } else if (!isJson) {
        response.body().assign(reinterpret_cast<const char*>(answer.data()), answer.size());
      } else {
        Result<std::string> text = std::string();
        if (answer.size() <= kQuickly)
          text = channel::messageToJson(answer, form);
        else
          co_await away([&] { text = channel::messageToJson(answer, form); });
        if (text) response.body() = std::move(*text);
      }
    }
    response.prepare_payload();
    deadline->set(kTimeToAsk);
    if (auto [error, size] = co_await http::async_write(stream, response, net::kQuietly); error) co_return;
    if (!response.keep_alive()) {
      co_await stream.async_shutdown(net::kQuietly);
      co_return;
    }
  }
}

/// What the services answer, or nothing where that is no endpoint; comes back to where the stream is.
asio::awaitable<Bytes> WebEndpoint::serve(Result<Bytes> message, std::string address, bool isJson,
                                          std::shared_ptr<Visit> visit, net::Executor executor) {
  co_await net::goOn(loops_.services());
  auto at = entrance(isJson ? "https-uajson" : "https-uabinary", false);
  if (at.url.empty()) {
    co_await net::comeBack(executor);
    co_return Bytes();
  }
  visit->isServed = true;
  if (visit->spending.isMuch(Visit::now())) {
    visit->isQueued = true;
    guests_.queue(visit);
    callbacks_.queued();
    while (visit->isQueued) {
      co_await visit->turn.async_wait(net::kQuietly);
      co_await net::goOn(loops_.services());
    }
  }
  const auto caller = std::make_shared<HttpCaller>(*this, address, std::move(at));
  const Instant begun = Visit::now();
  caller->serve(message);
  visit->spending.spent(Visit::now() - begun, Visit::now());
  callbacks_.served();
  while (!caller->isAnswered()) {
    co_await caller->answered().async_wait(net::kQuietly);
    co_await net::goOn(loops_.services());
  }
  Bytes answer = caller->takeAnswer();
  co_await net::comeBack(executor);
  co_return std::move(answer);
}

asio::awaitable<void> WebEndpoint::away(std::function<void()> work) {
  co_await asio::co_spawn(
      conversions_, [&work]() -> asio::awaitable<void> { co_return work(); }, asio::use_awaitable);
}

asio::awaitable<void> WebEndpoint::upgrade(net::TlsStream stream, std::shared_ptr<net::TlsContext> context,
                                           const http::request<http::string_body>& request, bool isChannel) {
  const std::string_view protocol = isChannel ? kChannelProtocol : kJsonProtocol;
  net::WebSocket webSocket(std::move(stream));
  webSocket.set_option(websocket::stream_base::timeout::suggested(boost::beast::role_type::server));
  webSocket.set_option(websocket::stream_base::decorator([protocol](websocket::response_type& response) {
    response.set(http::field::sec_websocket_protocol, std::string(protocol));
  }));
  if (auto [error] = co_await webSocket.async_accept(request, net::kQuietly); error) co_return;
  const auto executor = webSocket.get_executor();
  co_await net::goOn(loops_.services());
  auto at = entrance(isChannel ? "wss-uasc-uabinary" : "wss-uajson", true);
  const auto link = std::make_shared<net::WebLink>(
      std::move(webSocket), context, isChannel ? net::WebLink::Kind::Octets : net::WebLink::Kind::Text,
      isChannel ? kMostChunk : services_.settings().limits.maxRequestBeforeActivation);
  if (at.url.empty()) {
    link->abandon();
  } else if (isChannel) {
    callbacks_.channel(link, at);
  } else {
    const auto caller = std::make_shared<JsonCaller>(*this, link, std::move(at), callbacks_.nextChannelId());
    if (guests_.enter(caller)) caller->start();
  }
  co_await net::comeBack(executor);
}

}  // namespace zunth::endpoint
