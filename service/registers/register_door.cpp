#include "service/registers/register_door.hpp"

#include "service/logs/logs.hpp"
#include "service/net/deadline.hpp"

#include <array>
#include <list>

#include <boost/asio/co_spawn.hpp>
#include <boost/asio/detached.hpp>
#include <boost/asio/read.hpp>
#include <boost/asio/write.hpp>
#include <fmt/format.h>

namespace zunth::registers {

using namespace ua;
using client::Awaitable;
namespace asio = boost::asio;

namespace {

constexpr std::size_t kMostClients = 32, kHeader = 7, kLongestPdu = 253;
constexpr auto kTimeToAsk = std::chrono::minutes(10);
constexpr auto kTimeToTake = std::chrono::seconds(30);
constexpr std::uint8_t kAnyUnit = 0, kNoUnit = 255;  // both mean whoever answers at this address

Instant nowHere() { return std::chrono::steady_clock::now(); }

/// A client that is there, as the door sees it.
struct Guest {
  std::shared_ptr<net::Tcp::socket> socket;
  std::string host;
  Instant lastAsked;
  bool isGoing = false;  // it has given way, and its connection ends
};

using Guests = std::list<Guest>;
std::size_t countOf(const Guests& guests) {
  return static_cast<std::size_t>(std::ranges::count(guests, false, &Guest::isGoing));
}

}  // namespace

/// What connections have in common; it outlives the door that let them in. On the services' executor.
struct RegisterDoor::Shared {
  std::shared_ptr<RegisterServer> server;  // null when the door is closed
  net::Executor services;
  std::list<Guest> guests;
};

namespace {

/// Closes a socket where it lives.
void end(const std::shared_ptr<net::Tcp::socket>& socket) {
  asio::post(socket->get_executor(), [socket] {
    boost::system::error_code ignored;
    socket->close(ignored);
  });
}

template <class Shared>
Awaitable<Bytes> answerAt(Shared shared, std::list<Guest>::iterator guest, std::uint8_t unit, Bytes pdu) {
  if (!shared->server) co_return Bytes();
  guest->lastAsked = nowHere();
  const auto server = shared->server;
  const bool isOurs = unit == server->file().unit || unit == kAnyUnit || unit == kNoUnit;
  if (!isOurs) {
    const auto function = pdu.empty() ? std::uint8_t{0} : std::to_integer<std::uint8_t>(pdu.front());
    co_return answerException(function, Exception::GatewayTargetFailed);
  }
  co_return co_await server->answer(std::move(pdu), guest->host);
}

/// One client's connection, until it ends.
template <class Shared>
Awaitable<void> converse(std::shared_ptr<net::Tcp::socket> socket, std::list<Guest>::iterator guest, Shared shared) {
  const auto executor = socket->get_executor();
  const auto cut = [socket] {
    boost::system::error_code ignored;
    socket->close(ignored);
  };
  std::array<std::uint8_t, kHeader> header;
  while (true) {
    Bytes pdu;
    {
      const net::Deadline deadline(executor, nowHere() + kTimeToAsk, cut);
      auto [none, read] = co_await asio::async_read(*socket, asio::buffer(header), net::kQuietly);
      if (none) co_return;
    }
    const std::size_t length = static_cast<std::size_t>(header[4]) << 8 | header[5];
    // What is no Modbus can't be told apart from its end on.
    if (header[2] != 0 || header[3] != 0 || length < 2 || length > kLongestPdu + 1) co_return;
    pdu.resize(length - 1);
    {
      const net::Deadline deadline(executor, nowHere() + kTimeToTake, cut);
      auto [cutOff, read] = co_await asio::async_read(*socket, asio::buffer(pdu), net::kQuietly);
      if (cutOff) co_return;
    }
    auto asked = answerAt(shared, guest, header[6], std::move(pdu));
    const Bytes answer = co_await asio::co_spawn(shared->services, std::move(asked), asio::use_awaitable);
    if (answer.empty()) co_return;
    const std::size_t told = answer.size() + 1;
    Bytes frame;
    frame.reserve(kHeader + answer.size());
    for (std::size_t i = 0; i < kHeader; ++i) frame.push_back(static_cast<std::byte>(header[i]));
    frame[4] = static_cast<std::byte>(told >> 8);
    frame[5] = static_cast<std::byte>(told & 0xFF);
    frame.insert(frame.end(), answer.begin(), answer.end());
    const net::Deadline deadline(executor, nowHere() + kTimeToTake, cut);
    auto [lost, sent] = co_await asio::async_write(*socket, asio::buffer(frame), net::kQuietly);
    if (lost) co_return;
  }
}

}  // namespace

RegisterDoor::RegisterDoor(const net::Loops& loops, std::shared_ptr<RegisterServer> server)
    : loops_(loops),
      acceptor_(loops.services()),
      pause_(loops.services()),
      shared_(std::make_shared<Shared>(Shared{std::move(server), loops.services(), {}})) {}

RegisterDoor::~RegisterDoor() {
  boost::system::error_code ignored;
  acceptor_.close(ignored);
  for (const auto& guest : shared_->guests) end(guest.socket);
  shared_->server->close();
  shared_->server = nullptr;
}

std::size_t RegisterDoor::clients() const { return countOf(shared_->guests); }

Result<std::string> RegisterDoor::open() {
  const auto& file = shared_->server->file();
  boost::system::error_code error;
  const auto address = asio::ip::make_address(file.host, error);
  if (error)
    return Error{status::BadConfigurationError, fmt::format("registers/{}: {} is no address", file.name, file.host),
                 "write an address of this machine after 'host', as in 127.0.0.1"};
  const net::Tcp::endpoint endpoint(address, file.port);
  acceptor_.open(endpoint.protocol(), error);
  if (!error) acceptor_.set_option(net::Tcp::acceptor::reuse_address(true), error);
  if (!error) acceptor_.bind(endpoint, error);
  if (!error) acceptor_.listen(asio::socket_base::max_listen_connections, error);
  if (error)
    return Error{status::BadCommunicationError,
                 fmt::format("registers/{} can't listen on {}: {}", file.name, file.address(), error.message()),
                 "stop the other program on this port, or change 'port' in the file"};
  accept();
  return fmt::format("{}:{}", file.host, acceptor_.local_endpoint().port());
}

void RegisterDoor::accept() {
  acceptor_.async_accept(
      loops_.ofOne(), [this, shared = shared_](const boost::system::error_code& error, net::Tcp::socket socket) {
        if (!shared->server || error == asio::error::operation_aborted) return;
        if (error) {
          logs::clients().warn("a Modbus client can't be let in: {}", error.message());
          pause_.expires_after(std::chrono::milliseconds(100));
          pause_.async_wait([this, shared](const boost::system::error_code& cancelled) {
            if (shared->server && !cancelled) accept();
          });
          return;
        }
        const auto& file = shared->server->file();
        const std::string address = net::addressOf(socket), host = address.substr(0, address.rfind(':'));
        if (!file.clients.empty() && !isAmong(host, file.clients)) {
          logs::clients().debug("registers/{}: {} is not among its clients", file.name, host);
          return accept();
        }
        // Each newcomer has another one give way: connections take a moment to end.
        if (countOf(shared->guests) >= kMostClients) {
          const auto order = [](const Guest& one) { return std::pair(one.isGoing, one.lastAsked); };
          const auto silent = std::ranges::min_element(shared->guests, {}, order);
          silent->isGoing = true;
          end(silent->socket);
        }
        net::keepAlive(socket);
        const auto executor = socket.get_executor();
        const auto kept = std::make_shared<net::Tcp::socket>(std::move(socket));
        const auto guest = shared->guests.insert(shared->guests.end(), Guest{kept, host, nowHere()});
        asio::co_spawn(executor, converse(kept, guest, shared), [shared, guest](const std::exception_ptr&) {
          asio::post(shared->services, [shared, guest] { shared->guests.erase(guest); });
        });
        accept();
      });
}

}  // namespace zunth::registers
