#include "service/server/listener.hpp"

#include "service/net/url.hpp"
#include "service/server/random.hpp"

#include <charconv>

#include <boost/asio/post.hpp>
#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::server {

using namespace ua;
namespace asio = net::asio;

/// One client's socket and its channel.
class Connection final : public Peer,
                         public channel::ServerChannel::Handler,
                         public std::enable_shared_from_this<Connection> {
 public:
  Connection(Listener& listener, net::Tcp::socket socket, const channel::ServerChannel::Options& options)
      : listener_(listener),
        link_(std::make_shared<net::TcpLink>(std::move(socket))),
        channel_(options, *this),
        opened_(now()) {}

  void start() {
    // The listener holds this; the link holds itself by its pending work.
    link_->start({[weak = weak_from_this()](BytesView octets) {
                    if (auto self = weak.lock()) self->received(octets);
                  },
                  [weak = weak_from_this()](const std::string&) {
                    if (auto self = weak.lock()) self->drop();
                  }});
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
    if (!channel_.isOpen() && !channel_.isOver() && now() - opened_ > kTimeToOpen)
      channel_.refuse({status::BadTimeout, "no secure channel was opened in time", {}});
    flush();
  }
  void end(const Error& why) {
    channel_.refuse(why);
    flush();
  }

  // Peer
  void respond(std::uint32_t requestId, Bytes message) override {
    channel_.respond(requestId, std::move(message));
    if (!inFeed_) flush();
  }
  std::uint32_t channelId() const override { return channel_.id(); }
  const channel::ChannelSecurity& security() const override { return channel_.security(); }
  const String& endpointUrl() const override { return channel_.endpointUrl(); }
  std::string address() const override { return link_->peer(); }

  // ServerChannel::Handler
  void opened(const OpenSecureChannelRequest& request) override { listener_.server_.channelOpened(*this, request); }
  void request(std::uint32_t requestId, BytesView body) override {
    listener_.server_.handle(shared_from_this(), requestId, body);
  }
  Result<void> trust(const ByteString& chain) override {
    const auto& trust = listener_.server_.settings().trust;
    return trust ? trust(chain) : channel::ServerChannel::Handler::trust(chain);
  }
  void closed(const Error& why) override {
    if (why.code.isBad()) spdlog::info("connection of {} refused: {}", link_->peer(), why.text());
    listener_.server_.channelClosed(*this, why.code);
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
  std::shared_ptr<net::TcpLink> link_;
  channel::ServerChannel channel_;
  Instant opened_;
  bool inFeed_ = false;  // answers made meanwhile leave together
};

Listener::Listener(asio::io_context& loop, Server& server) : loop_(loop), server_(server), timer_(loop) { schedule(); }

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
  auto acceptor = std::make_unique<net::Tcp::acceptor>(loop_);
  const net::Tcp::endpoint endpoint = found.begin()->endpoint();
  acceptor->open(endpoint.protocol(), error);
  if (!error) acceptor->set_option(net::Tcp::acceptor::reuse_address(true), error);
  if (!error) acceptor->bind(endpoint, error);
  if (!error) acceptor->listen(asio::socket_base::max_listen_connections, error);
  if (error)
    return Error{status::BadCommunicationError, fmt::format("can't listen on {}: {}", url, error.message()),
                 "stop the other program on this port, or change 'endpoint' in site.yaml"};
  parsed->port = acceptor->local_endpoint().port();
  accept(*acceptor);
  acceptors_.push_back(std::move(acceptor));
  return parsed->text();
}

void Listener::accept(net::Tcp::acceptor& acceptor) {
  acceptor.async_accept(
      [this, alive = alive_, &acceptor](const boost::system::error_code& error, net::Tcp::socket socket) {
        if (!*alive || error == asio::error::operation_aborted) return;
        if (!error) {
          channel::ServerChannel::Options options;
          options.limits.maxMessageSize = server_.settings().maxMessageSize;
          options.channelId = ++lastChannelId_;
          options.identity = server_.settings().identity;
          options.random = [](std::size_t size) { return randomOctets(size); };
          auto connection = std::make_shared<Connection>(*this, std::move(socket), options);
          connections_.insert(connection);
          connection->start();
          if (connections_.size() > kMostConnections)
            connection->end({status::BadTcpNotEnoughResources, "the server has as many connections as it may", {}});
        }
        accept(acceptor);
      });
}

void Listener::trustChanged() {
  for (const auto& connection : std::vector(connections_.begin(), connections_.end())) connection->checkTrust();
}

void Listener::served() {
  if (server_.nextDue() < timerDue_) schedule();
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
  for (auto& acceptor : acceptors_) {
    boost::system::error_code ignored;
    acceptor->close(ignored);
  }
  for (const auto& connection : std::vector(connections_.begin(), connections_.end()))
    connection->end({status::BadServerHalted, "the server is shutting down", {}});
}

}  // namespace zunth::server
