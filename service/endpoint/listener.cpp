#include "service/endpoint/listener.hpp"

#include "service/endpoint/web_endpoint.hpp"
#include "service/logs/logs.hpp"
#include "service/server/random.hpp"

#include <set>

#include <boost/asio/as_tuple.hpp>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/connect.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/use_awaitable.hpp>
#include <fmt/format.h>

namespace zunth::endpoint {

using namespace ua;
using server::randomOctets;
namespace asio = net::asio;

/// A port that is listened on: for secure channels themselves, or for what comes over TLS.
struct Listener::Door {
  net::Tcp::acceptor acceptor;
  asio::steady_timer pause;
  server::Entrance entrance;  // of secure channels
  std::unique_ptr<WebEndpoint> web;
  std::set<std::string> urls;  // by which it is known
};

namespace {

constexpr const char* kTcpProfile = "http://opcfoundation.org/UA-Profile/Transport/uatcp-uasc-uabinary";

}  // namespace

Listener::Listener(const net::Loops& loops, server::Services& services)
    : loops_(loops), services_(services), guests_(services.settings().limits.maxConnections), timer_(loops.services()) {
  schedule();
}

Listener::~Listener() {
  stop();
  *alive_ = false;
}

Result<std::string> Listener::listen(const std::string& url) {
  auto parsed = channel::Url::parse(url);
  if (!parsed) return parsed.error();
  boost::system::error_code error;
  net::Tcp::resolver resolver(loops_.services());
  const auto found = resolver.resolve(parsed->host, std::to_string(parsed->port), net::Tcp::resolver::passive, error);
  if (error || found.empty())
    return Error{status::BadTcpEndpointUrlInvalid, fmt::format("the host name {} does not resolve", parsed->host),
                 "write an address of this machine in site.yaml"};
  const net::Tcp::endpoint endpoint = found.begin()->endpoint();
  // opc.wss and opc.https come in by the same door.
  const auto isOpen = [&](const auto& door) {
    return door->web && parsed->isOverTls() && parsed->port && door->acceptor.local_endpoint(error) == endpoint;
  };
  if (const auto open = std::ranges::find_if(doors_, isOpen); open != doors_.end()) {
    (*open)->urls.insert(parsed->text());
    return parsed->text();
  }
  if (parsed->isOverTls() && !services_.settings().identities)
    return Error{status::BadConfigurationError, "TLS needs a certificate, and this server has none", {}};
  auto door = std::make_unique<Door>(
      Door{net::Tcp::acceptor(loops_.services()), asio::steady_timer(loops_.services()), {}, {}, {}});
  door->acceptor.open(endpoint.protocol(), error);
  if (!error) door->acceptor.set_option(net::Tcp::acceptor::reuse_address(true), error);
  if (!error) door->acceptor.bind(endpoint, error);
  if (!error) door->acceptor.listen(asio::socket_base::max_listen_connections, error);
  if (error)
    return Error{status::BadCommunicationError, fmt::format("can't listen on {}: {}", url, error.message()),
                 "stop the other program on this port, or change 'endpoint' in site.yaml"};
  parsed->port = door->acceptor.local_endpoint().port();
  door->entrance = {String(parsed->text()), kTcpProfile};
  door->urls.insert(parsed->text());
  if (parsed->isOverTls())
    door->web = std::make_unique<WebEndpoint>(
        loops_, services_, guests_,
        WebEndpoint::Callbacks{[this](std::shared_ptr<net::Link> link, const server::Entrance& entrance) {
                                 connected(std::move(link), entrance);
                               },
                               [this] { served(); }, [this] { return nextChannelId(); }, [this] { queued(); }});
  accept(*door);
  doors_.push_back(std::move(door));
  return parsed->text();
}

void Listener::leave(const std::string& url) {
  // A door that is closed is kept: connections over TLS that came by it still belong to it.
  for (auto& door : doors_) {
    if (door->urls.erase(url) == 0 || !door->urls.empty()) continue;
    boost::system::error_code ignored;
    door->acceptor.close(ignored);
    door->pause.cancel();
  }
}

void Listener::turnOut(const std::string& url, const Error& why) {
  for (const auto& guest : guests_.all())
    if (guest->cameBy(url)) guest->end(why);
}

void Listener::accept(Door& door) {
  door.acceptor.async_accept(
      loops_.ofOne(), [this, alive = alive_, &door](const boost::system::error_code& error, net::Tcp::socket socket) {
        if (!*alive || error == asio::error::operation_aborted) return;
        if (error) {
          // No descriptors, or no memory: somebody makes room, and nothing is tried for a moment.
          logs::clients().warn("a connection can't be accepted: {}", error.message());
          guests_.makeRoom();
          door.pause.expires_after(std::chrono::milliseconds(100));
          door.pause.async_wait([this, alive, &door](const boost::system::error_code& cancelled) {
            if (*alive && !cancelled) accept(door);
          });
          return;
        }
        if (door.web)
          door.web->accept(std::move(socket));
        else
          connected(std::make_shared<net::TcpLink>(std::move(socket)), door.entrance);
        accept(door);
      });
}

void Listener::connected(std::shared_ptr<net::Link> link, const server::Entrance& entrance,
                         std::optional<channel::ReverseHello> said) {
  channel::ServerChannel::Options options;
  options.limits.maxMessageSize = services_.settings().maxMessageSize;
  options.channelId = nextChannelId();
  options.identities = services_.settings().identities;
  options.offer = services_.settings().offer;
  options.random = [](std::size_t size) { return randomOctets(size); };
  options.reverseHello = std::move(said);
  const bool isEncrypted = entrance.transportProfileUri.view() != kTcpProfile;
  const std::string address = link->peer();
  auto connection = std::make_shared<Connection>(
      Connection::Parts{hall_, std::move(link), loops_.services(), services_.settings().trust,
                        services_.settings().limits.maxRequestBeforeActivation},
      options);
  House& house = *this;
  auto visitor = std::make_shared<Visitor>(house, connection, address, options.channelId, isEncrypted, entrance);
  const bool isLetIn = guests_.enter(visitor);
  connection->start(visitor);
  if (!isLetIn) connection->end({status::BadTcpNotEnoughResources, "the server has as many connections as it may", {}});
}

Result<void> Listener::reach(const std::string& clientUrl) {
  auto client = channel::Url::parse(clientUrl);
  if (!client) return client.error();
  if (client->isOverTls())
    return Error{status::BadTcpEndpointUrlInvalid, "a server connects to its clients by opc.tcp only",
                 "write opc.tcp://HOST:PORT"};
  auto& wanted = reached_[clientUrl] = std::make_shared<bool>(true);
  asio::co_spawn(loops_.services(), keepReaching(*client, wanted), asio::detached);
  return {};
}

/// One connection at a time; the next when the client has gone, with growing pauses while nobody is there.
asio::awaitable<void> Listener::keepReaching(channel::Url client, std::weak_ptr<bool> isWanted) {
  using net::kQuietly;
  constexpr std::chrono::milliseconds kFirstPause(500), kLongestPause(30'000);
  const auto alive = alive_;
  asio::steady_timer timer(loops_.services());
  auto pause = kFirstPause;
  std::weak_ptr<net::Link> last;
  while (true) {
    if (last.expired()) {
      net::Tcp::resolver resolver(loops_.services());
      auto [unresolved, endpoints] =
          co_await resolver.async_resolve(client.host, std::to_string(client.port), kQuietly);
      if (!*alive) co_return;
      net::Tcp::socket socket(loops_.ofOne());
      boost::system::error_code failure = unresolved;
      if (!failure) {
        auto [refused, endpoint] = co_await asio::async_connect(socket, endpoints, kQuietly);
        failure = refused;
      }
      if (!*alive || isWanted.expired()) co_return;
      if (failure) {
        logs::clients().debug("no client waits at {}: {}", client.text(), failure.message());
        pause = std::min(pause * 2, kLongestPause);
      } else {
        pause = kFirstPause;
        const auto& settings = services_.settings();
        auto link = std::make_shared<net::TcpLink>(std::move(socket));
        last = link;
        connected(
            std::move(link),
            server::Entrance{settings.endpointUrls.empty() ? String() : String(settings.endpointUrls.front()),
                             kTcpProfile},
            channel::ReverseHello{String(settings.applicationUri),
                                  settings.endpointUrls.empty() ? String() : String(settings.endpointUrls.front())});
      }
    }
    timer.expires_after(pause);
    co_await timer.async_wait(kQuietly);
    if (!*alive || isWanted.expired()) co_return;
  }
}

void Listener::trustChanged() {
  for (const auto& guest : guests_.all()) guest->checkTrust();
}

void Listener::served() {
  if (services_.nextDue() < timerDue_) schedule();
}

/// Those who queue have their turns between everybody else's: a slice, then whatever else is there, then the next.
void Listener::queued() {
  if (std::exchange(isQueuePosted_, true)) return;
  asio::post(loops_.services(), [this, alive = alive_] {
    if (!*alive) return;
    isQueuePosted_ = false;
    guests_.serveQueue(Slice([] { return std::chrono::steady_clock::now(); }, std::chrono::milliseconds(2)));
    if (guests_.hasQueue()) queued();
  });
}

void Listener::schedule() {
  // At least each second, for the connections' own time-outs.
  timerDue_ = std::min(services_.nextDue(), std::chrono::steady_clock::now() + std::chrono::seconds(1));
  timer_.expires_at(timerDue_);
  timer_.async_wait([this, alive = alive_](const boost::system::error_code& error) {
    if (!*alive || error) return;
    timerDue_ = Instant::max();
    services_.tick();
    const auto now = std::chrono::steady_clock::now();
    if (now - guestsSeen_ > std::chrono::milliseconds(900)) {
      guestsSeen_ = now;
      guests_.tick();
    }
    schedule();
  });
}

void Listener::stop() {
  timer_.cancel();
  for (auto& door : doors_) {
    boost::system::error_code ignored;
    door->acceptor.close(ignored);
  }
  for (const auto& guest : guests_.all()) guest->end({status::BadServerHalted, "the server is shutting down", {}});
}

}  // namespace zunth::endpoint
