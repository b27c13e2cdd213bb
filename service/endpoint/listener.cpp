#include "service/endpoint/listener.hpp"

#include "service/endpoint/web_endpoint.hpp"
#include "service/server/random.hpp"

#include <boost/asio/as_tuple.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/connect.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::endpoint {

using namespace ua;
using server::Peer;
using server::randomOctets;
namespace asio = net::asio;

/// A port that is listened on: for secure channels themselves, or for what comes over TLS.
struct Listener::Door {
  net::Tcp::acceptor acceptor;
  std::unique_ptr<WebEndpoint> web;
};

/// One client's connection and its channel.
class Connection final : public Peer,
                         public channel::ServerChannel::Handler,
                         public std::enable_shared_from_this<Connection> {
 public:
  Connection(Listener& listener, std::shared_ptr<net::Link> link, bool isEncrypted,
             const channel::ServerChannel::Options& options)
      : listener_(listener),
        link_(std::move(link)),
        isEncrypted_(isEncrypted),
        channel_(options, *this),
        waitsPatiently_(options.reverseHello.has_value()),
        opened_(now()) {}

  void start() {
    // The listener holds this; the link holds itself by its pending work.
    link_->start({[weak = weak_from_this()](BytesView octets) {
                    if (auto self = weak.lock()) self->received(octets);
                  },
                  [weak = weak_from_this()](const std::string&) {
                    if (auto self = weak.lock()) self->drop();
                  }});
    flush();
  }
  /// Ends a channel whose certificate is trusted no longer.
  void checkTrust() {
    const auto& certificate = channel_.security().peerCertificate;
    if (!channel_.isOpen() || certificate.empty()) return;
    if (auto trusted = trust(certificate); !trusted) end(trusted.error());
  }
  /// Ends what is idle: no channel opened in time, or a token that ran out.
  void tick() {
    channel_.tick(now());
    if (!waitsPatiently_ && !channel_.isOpen() && !channel_.isOver() && now() - opened_ > kTimeToOpen)
      channel_.refuse({status::BadTimeout, "no secure channel was opened in time", {}});
    flush();
  }
  void end(const Error& why) {
    channel_.refuse(why);
    flush();
  }
  bool isInUse() const { return channel_.isOpen() || channel_.isOver(); }
  Instant openedAt() const { return opened_; }

  // Peer
  void respond(std::uint32_t requestId, Bytes message) override {
    channel_.respond(requestId, std::move(message));
    if (!inFeed_) flush();
  }
  std::uint32_t channelId() const override { return channel_.id(); }
  const channel::ChannelSecurity& security() const override { return channel_.security(); }
  bool isEncryptedBelow() const override { return isEncrypted_; }
  const String& endpointUrl() const override { return channel_.endpointUrl(); }
  std::string address() const override { return link_->peer(); }

  // ServerChannel::Handler
  void opened(const OpenSecureChannelRequest& request) override { listener_.server_.channelOpened(*this, request); }
  Result<void> offload(std::function<void()> work, std::function<void()> done) override {
    return listener_.offload(std::move(work), channel_.isOpen(), [weak = weak_from_this(), done = std::move(done)] {
      const auto self = weak.lock();
      if (!self) return;
      self->inFeed_ = true;
      done();
      self->inFeed_ = false;
      self->flush();
      self->listener_.served();
    });
  }
  void request(std::uint32_t requestId, BytesView body) override {
    listener_.server_.handle(shared_from_this(), requestId, body);
  }
  Result<void> trust(const ByteString& chain) override {
    const auto& trust = listener_.server_.settings().trust;
    return trust ? trust(chain) : channel::ServerChannel::Handler::trust(chain);
  }
  void closed(const Error& why) override {
    if (why.code.isBad()) spdlog::info("connection of {} refused: {}", link_->peer(), why.text());
    listener_.server_.channelClosed(*this, why);
  }

 private:
  static constexpr auto kTimeToOpen = std::chrono::seconds(10);
  static constexpr std::size_t kMostUnsent = 64u << 20;  // octets that a client may leave unread
  static Instant now() { return std::chrono::steady_clock::now(); }

  void received(BytesView octets) {
    inFeed_ = true;
    channel_.feed(octets, now(), DateTime::from(std::chrono::system_clock::now()));
    inFeed_ = false;
    flush();
    listener_.served();
  }
  void flush() {
    if (channel_.hasOutput()) link_->send(channel_.takeOutput());
    if (channel_.isOver()) {
      link_->finish();
    } else if (link_->unsent() > kMostUnsent) {
      spdlog::warn("connection of {} dropped: it reads too slowly", link_->peer());
      link_->abandon();
      drop();
    }
  }
  void drop() { listener_.connections_.erase(shared_from_this()); }

  Listener& listener_;
  std::shared_ptr<net::Link> link_;
  bool isEncrypted_;  // by TLS
  channel::ServerChannel channel_;
  bool waitsPatiently_;  // a client that the server came to says hello when it likes
  Instant opened_;
  bool inFeed_ = false;  // answers made meanwhile leave together
};

Listener::Listener(asio::io_context& loop, server::Server& server) : loop_(loop), server_(server), timer_(loop) {
  schedule();
}

Listener::~Listener() {
  stop();
  *alive_ = false;
}

Result<std::string> Listener::listen(const std::string& url) {
  auto parsed = net::Url::parse(url);
  if (!parsed) return parsed.error();
  boost::system::error_code error;
  net::Tcp::resolver resolver(loop_);
  const auto found = resolver.resolve(parsed->host, std::to_string(parsed->port), net::Tcp::resolver::passive, error);
  if (error || found.empty())
    return Error{status::BadTcpEndpointUrlInvalid, fmt::format("the host name {} does not resolve", parsed->host),
                 "write an address of this machine in site.yaml"};
  const net::Tcp::endpoint endpoint = found.begin()->endpoint();
  // opc.wss and opc.https come in by the same door.
  const auto isOpen = [&](const auto& door) {
    return door->web && parsed->isOverTls() && parsed->port && door->acceptor.local_endpoint(error) == endpoint;
  };
  if (std::ranges::any_of(doors_, isOpen)) return parsed->text();
  if (parsed->isOverTls() && !server_.settings().identities)
    return Error{status::BadConfigurationError, "TLS needs a certificate, and this server has none", {}};
  auto door = std::make_unique<Door>(Door{net::Tcp::acceptor(loop_), {}});
  door->acceptor.open(endpoint.protocol(), error);
  if (!error) door->acceptor.set_option(net::Tcp::acceptor::reuse_address(true), error);
  if (!error) door->acceptor.bind(endpoint, error);
  if (!error) door->acceptor.listen(asio::socket_base::max_listen_connections, error);
  if (error)
    return Error{status::BadCommunicationError, fmt::format("can't listen on {}: {}", url, error.message()),
                 "stop the other program on this port, or change 'endpoint' in site.yaml"};
  parsed->port = door->acceptor.local_endpoint().port();
  if (parsed->isOverTls())
    door->web = std::make_unique<WebEndpoint>(
        loop_, server_,
        WebEndpoint::Callbacks{[this](std::shared_ptr<net::Link> link) { connected(std::move(link), true); },
                               [this] { served(); }, [this] { return ++lastChannelId_; }});
  accept(*door);
  doors_.push_back(std::move(door));
  return parsed->text();
}

void Listener::accept(Door& door) {
  door.acceptor.async_accept(
      [this, alive = alive_, &door](const boost::system::error_code& error, net::Tcp::socket socket) {
        if (!*alive || error == asio::error::operation_aborted) return;
        if (!error && door.web && door.web->connectionCount() < kMostConnections)
          door.web->accept(std::move(socket));
        else if (!error && !door.web)
          connected(std::make_shared<net::TcpLink>(std::move(socket)), false);
        accept(door);
      });
}

void Listener::connected(std::shared_ptr<net::Link> link, bool isEncrypted, std::optional<channel::ReverseHello> said) {
  channel::ServerChannel::Options options;
  options.limits.maxMessageSize = server_.settings().maxMessageSize;
  options.channelId = ++lastChannelId_;
  options.identities = server_.settings().identities;
  options.random = [](std::size_t size) { return randomOctets(size); };
  options.reverseHello = std::move(said);
  auto connection = std::make_shared<Connection>(*this, std::move(link), isEncrypted, options);
  connections_.insert(connection);
  connection->start();
  if (connections_.size() > kMostConnections) makeRoom(connection);
}

/// Who hasn't opened a channel yet gives way, the oldest first: a flood of half-open connections shuts nobody out.
void Listener::makeRoom(const std::shared_ptr<Connection>& newest) {
  std::shared_ptr<Connection> oldest;
  for (const auto& connection : connections_)
    if (connection != newest && !connection->isInUse() && (!oldest || connection->openedAt() < oldest->openedAt()))
      oldest = connection;
  (oldest ? oldest : newest)
      ->end({status::BadTcpNotEnoughResources, "the server has as many connections as it may", {}});
}

Result<void> Listener::reach(const std::string& clientUrl) {
  auto client = net::Url::parse(clientUrl);
  if (!client) return client.error();
  if (client->isOverTls())
    return Error{status::BadTcpEndpointUrlInvalid, "a server connects to its clients by opc.tcp only",
                 "write opc.tcp://HOST:PORT"};
  asio::co_spawn(loop_, keepReaching(*client), asio::detached);
  return {};
}

/// One connection at a time; the next when the client has gone, with growing pauses while nobody is there.
asio::awaitable<void> Listener::keepReaching(net::Url client) {
  constexpr auto kQuietly = asio::as_tuple(asio::use_awaitable);
  constexpr std::chrono::milliseconds kFirstPause(500), kLongestPause(30'000);
  const auto alive = alive_;
  asio::steady_timer timer(loop_);
  auto pause = kFirstPause;
  std::weak_ptr<net::Link> last;
  while (true) {
    if (last.expired()) {
      net::Tcp::resolver resolver(loop_);
      auto [unresolved, endpoints] =
          co_await resolver.async_resolve(client.host, std::to_string(client.port), kQuietly);
      if (!*alive) co_return;
      net::Tcp::socket socket(loop_);
      boost::system::error_code failure = unresolved;
      if (!failure) {
        auto [refused, endpoint] = co_await asio::async_connect(socket, endpoints, kQuietly);
        failure = refused;
      }
      if (!*alive) co_return;
      if (failure) {
        spdlog::debug("no client waits at {}: {}", client.text(), failure.message());
        pause = std::min(pause * 2, kLongestPause);
      } else {
        pause = kFirstPause;
        const auto& settings = server_.settings();
        auto link = std::make_shared<net::TcpLink>(std::move(socket));
        last = link;
        connected(
            std::move(link), false,
            channel::ReverseHello{String(settings.applicationUri),
                                  settings.endpointUrls.empty() ? String() : String(settings.endpointUrls.front())});
      }
    }
    timer.expires_after(pause);
    co_await timer.async_wait(kQuietly);
    if (!*alive) co_return;
  }
}

void Listener::trustChanged() {
  for (const auto& connection : std::vector(connections_.begin(), connections_.end())) connection->checkTrust();
}

void Listener::served() {
  if (server_.nextDue() < timerDue_) schedule();
}

Result<void> Listener::offload(std::function<void()> work, bool isOpen, std::function<void()> done) {
  if (!isOpen && handshakesWaiting_ >= kMostHandshakes)
    return Error{status::BadTcpServerTooBusy, "too many channels are being opened at once: try again in a second", {}};
  ++handshakesWaiting_;
  asio::post(handshakes_, [this, work = std::move(work), done = std::move(done)]() mutable {
    work();
    work = {};  // before `done`: what they share is then the loop's alone
    --handshakesWaiting_;
    asio::post(loop_, [alive = alive_, done = std::move(done)] {
      if (*alive) done();
    });
  });
  return {};
}

void Listener::schedule() {
  // At least each second, for the connections' own time-outs.
  timerDue_ = std::min(server_.nextDue(), std::chrono::steady_clock::now() + std::chrono::seconds(1));
  timer_.expires_at(timerDue_);
  timer_.async_wait([this, alive = alive_](const boost::system::error_code& error) {
    if (!*alive || error) return;
    timerDue_ = Instant::max();
    server_.tick();
    for (const auto& connection : std::vector(connections_.begin(), connections_.end())) connection->tick();
    schedule();
  });
}

void Listener::stop() {
  timer_.cancel();
  for (auto& door : doors_) {
    boost::system::error_code ignored;
    door->acceptor.close(ignored);
  }
  for (const auto& connection : std::vector(connections_.begin(), connections_.end()))
    connection->end({status::BadServerHalted, "the server is shutting down", {}});
}

}  // namespace zunth::endpoint
