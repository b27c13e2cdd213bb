#include "service/client/connection.hpp"

#include "service/net/connecting.hpp"

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/this_coro.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <fmt/format.h>

namespace zunth::client {

using namespace ua;

namespace {

Instant now() { return std::chrono::steady_clock::now(); }
DateTime wallClock() { return DateTime::from(std::chrono::system_clock::now()); }
double seconds(Duration d) { return std::chrono::duration<double>(d).count(); }

}  // namespace

Connection::Connection(std::string url, ChannelSecurityChoice security, asio::any_io_executor executor)
    : security_(std::move(security)),
      url_(std::move(url)),
      executor_(executor),
      opening_(executor),
      renewal_(std::make_shared<asio::steady_timer>(executor)) {}

Connection::~Connection() {
  renewal_->cancel();
  if (link_) link_->abandon();
}

Awaitable<Result<std::shared_ptr<Connection>>> Connection::open(std::string url, Duration timeout,
                                                                ChannelSecurityChoice security) {
  auto parsed = channel::Url::parse(url);
  if (!parsed) co_return parsed.error();
  const auto executor = co_await asio::this_coro::executor;
  std::shared_ptr<Connection> self(new Connection(url, std::move(security), executor));
  const Instant deadline = now() + timeout;
  const Error late{status::BadTimeout,
                   parsed->isAwaited ? fmt::format("no server connected to {}:{} within {:.3g} s", parsed->host,
                                                   parsed->port, seconds(timeout))
                                     : fmt::format("{} did not answer within {:.3g} s", url, seconds(timeout)),
                   parsed->isAwaited ? "name this address under 'clients' in the server's site.yaml"
                                     : "look whether the server runs and a firewall lets the port through"};

  LinkResult link = Error{};
  if (parsed->isAwaited)
    link = co_await self->beReached(*parsed, deadline, late);
  else
    link = co_await self->reach(*parsed, deadline, late);
  if (!link) co_return link.error();

  channel::ClientChannel::Options options;
  options.endpointUrl = String(url);
  options.policy = self->security_.policy;
  options.mode = self->security_.mode;
  options.identity = self->security_.identity;
  options.server = self->security_.server;
  options.random = randomOctets;
  options.awaitsReverseHello = parsed->isAwaited;
  self->channel_ = std::make_unique<channel::ClientChannel>(options, *self);
  self->link_ = *link;
  std::weak_ptr<Connection> weak = self;
  self->link_->start({[weak](BytesView octets) {
                        if (auto s = weak.lock()) s->received(octets);
                      },
                      [weak](const std::string& why) {
                        if (auto s = weak.lock())
                          s->closed({status::BadConnectionClosed,
                                     "the connection to the server was lost" + (why.empty() ? "" : " (" + why + ")"),
                                     {}});
                      }});
  self->opening_.expires_at(deadline);
  self->flush();
  co_await self->opening_.async_wait(net::kQuietly);
  if (self->channel_->isOpen()) {
    asio::co_spawn(executor, self->keepRenewing(), asio::detached);
    co_return self;
  }
  if (self->ended_.code.isBad()) co_return self->ended_;
  co_return late;
}

Awaitable<Connection::LinkResult> Connection::reach(channel::Url url, Instant deadline, Error late) {
  auto [unresolved, endpoints] = co_await net::resolve(url.host, url.port, deadline);
  if (unresolved == asio::error::timed_out) co_return late;
  if (unresolved)
    co_return Error{status::BadTcpEndpointUrlInvalid, fmt::format("the host name {} does not resolve", url.host),
                    "write the server's address instead of its name"};
  net::Tcp::socket socket(executor_);
  const auto error = co_await net::connect(socket, std::move(endpoints), deadline);
  if (error == asio::error::timed_out) co_return late;
  if (error)
    co_return Error{status::BadConnectionRejected,
                    fmt::format("nothing listens at {}:{} ({})", url.host, url.port, error.message()),
                    "start the server, or name another with --at opc.tcp://HOST:PORT"};
  if (url.scheme == channel::Url::Scheme::Https)
    co_return Error{status::BadTcpEndpointUrlInvalid, "this client does not speak opc.https",
                    "take the server's opc.wss or opc.tcp endpoint"};
  if (url.scheme == channel::Url::Scheme::Tcp)
    co_return std::static_pointer_cast<net::Link>(std::make_shared<net::TcpLink>(std::move(socket)));
  if (!security_.trustTls)
    co_return Error{status::BadCertificateUntrusted, "this client has no list of the servers that it trusts", {}};
  co_return co_await net::openWebSocket(std::move(socket), url, security_.trustTls, deadline, late);
}

/// Listens until a server connects (Part 6, 7.1.3).
Awaitable<Connection::LinkResult> Connection::beReached(channel::Url url, Instant deadline, Error late) {
  boost::system::error_code error;
  const auto address = asio::ip::make_address(url.host == "localhost" ? "127.0.0.1" : url.host, error);
  net::Tcp::acceptor acceptor(executor_);
  const net::Tcp::endpoint endpoint(address, url.port);
  if (!error) acceptor.open(endpoint.protocol(), error);
  if (!error) acceptor.set_option(net::Tcp::acceptor::reuse_address(true), error);
  if (!error) acceptor.bind(endpoint, error);
  if (!error) acceptor.listen(1, error);
  if (error)
    co_return Error{status::BadCommunicationError,
                    fmt::format("can't listen at {}:{}: {}", url.host, url.port, error.message()),
                    "write an address of this machine and a free port"};
  const net::Deadline end(executor_, deadline, [&] {
    boost::system::error_code ignored;
    acceptor.close(ignored);
  });
  auto [failure, socket] = co_await acceptor.async_accept(net::kQuietly);
  if (failure && end.hasPassed()) co_return late;
  if (failure) co_return Error{status::BadCommunicationError, failure.message(), {}};
  co_return std::static_pointer_cast<net::Link>(std::make_shared<net::TcpLink>(std::move(socket)));
}

bool Connection::isOnThisMachine() const {
  const auto parsed = channel::Url::parse(url_);
  if (!link_ || !parsed || parsed->isAwaited) return false;
  const std::string& peer = link_->peer();
  boost::system::error_code error;
  const auto address = asio::ip::make_address(peer.substr(0, peer.rfind(':')), error);
  return !error && address.is_loopback();
}

void Connection::prepare(RequestHeader& header, Duration timeout) {
  header.timestamp = wallClock();
  header.requestHandle = ++lastHandle_;
  header.timeoutHint =
      static_cast<std::uint32_t>(std::chrono::duration_cast<std::chrono::milliseconds>(timeout).count());
  header.returnDiagnostics = 0x04 | 0x80;  // causes in words, of the service and of each operation
}

Awaitable<Result<void>> Connection::perform(Exchange& exchange, Duration timeout) {
  prepare(exchange.header(), timeout);
  Bytes message = channel::newMessage();
  BinaryWriter writer(message);
  exchange.encode(writer);
  auto body = co_await answerTo(std::move(message), timeout);
  if (!body) co_return body.error();
  co_return exchange.take(*body);
}

Awaitable<Result<Bytes>> Connection::answerTo(Bytes message, Duration timeout) {
  if (!channel_ || !channel_->isOpen())
    co_return ended_.code.isBad() ? ended_
                                  : Error{status::BadConnectionClosed, "the connection to the server is closed", {}};
  const auto self = shared_from_this();
  auto id = channel_->request(std::move(message));
  if (!id) co_return id.error();
  auto waiting = std::make_shared<Waiting>(executor_);
  waiting->wake.expires_after(timeout);
  waiting_[*id] = waiting;
  flush();
  co_await waiting->wake.async_wait(net::kQuietly);
  waiting_.erase(*id);
  if (waiting->answered) co_return std::move(waiting->body);
  if (waiting->error.cause.empty())
    waiting->error.cause = fmt::format("the server did not answer within {:.3g} s", seconds(timeout));
  co_return waiting->error;
}

void Connection::received(BytesView octets) {
  channel_->feed(octets, now(), wallClock());
  flush();
}

void Connection::flush() {
  auto output = channel_->takeOutput();
  if (!output.empty()) link_->send(std::move(output));
}

Awaitable<void> Connection::keepRenewing() {
  std::weak_ptr<Connection> weak = shared_from_this();
  const auto timer = renewal_;
  while (true) {
    if (auto self = weak.lock(); self && self->isOpen())
      timer->expires_at(std::min(self->channel_->renewsAt(), now() + std::chrono::seconds(60)));
    else
      co_return;
    auto [cancelled] = co_await timer->async_wait(net::kQuietly);
    if (cancelled) co_return;
    if (auto self = weak.lock(); self && self->isOpen()) {
      self->channel_->tick(now(), wallClock());
      self->flush();
    }
  }
}

void Connection::opened() { opening_.cancel(); }

void Connection::response(std::uint32_t requestId, BytesView body) {
  const auto found = waiting_.find(requestId);
  if (found == waiting_.end()) return;  // gave up on already
  found->second->answered = true;
  found->second->body.assign(body.begin(), body.end());
  found->second->wake.cancel();
}

void Connection::aborted(std::uint32_t requestId, const Error& why) {
  const auto found = waiting_.find(requestId);
  if (found == waiting_.end()) return;
  found->second->error = why;
  found->second->wake.cancel();
}

void Connection::closed(const Error& why) {
  if (ended_.code.isBad()) return;
  const bool wanted = why.code.isGood();
  if (channel_) channel_->abandon();
  ended_ = wanted ? Error{status::BadConnectionClosed, "the connection was closed", {}} : why;
  opening_.cancel();
  renewal_->cancel();
  for (auto& [id, waiting] : waiting_) {
    waiting->error = ended_;
    waiting->wake.cancel();
  }
  if (!wanted && lost_) lost_(why);
}

void Connection::abandon(const Error& why) {
  if (link_) link_->abandon();
  const auto self = shared_from_this();
  closed(why);
}

void Connection::close() {
  lost_ = {};
  if (!channel_ || !link_) return;
  channel_->close(wallClock());
  flush();
  link_->finish();
}

}  // namespace zunth::client
