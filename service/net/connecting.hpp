#pragma once

#include "core/channel/url.hpp"
#include "service/net/deadline.hpp"
#include "service/net/tls.hpp"

namespace zunth::net {

/// The steps of reaching another machine, each within its time: `asio::error::timed_out` when that was not enough.

/// The addresses of a name. A name service that hangs holds nobody up: its answer then goes nowhere.
struct Addresses {
  boost::system::error_code error;
  Tcp::resolver::results_type endpoints;
};
asio::awaitable<Addresses> resolve(std::string host, std::uint16_t port, ua::Instant deadline);
/// To the first of the addresses that answers.
asio::awaitable<boost::system::error_code> connect(Tcp::socket& socket, Tcp::resolver::results_type endpoints,
                                                   ua::Instant deadline);
/// TLS and the WebSocket in it, over a socket that is connected (Part 6, 7.5). What `trust` says of the server's
/// certificate decides; `late` is the answer when the time runs out.
class Link;
asio::awaitable<ua::Result<std::shared_ptr<Link>>> openWebSocket(
    Tcp::socket socket, channel::Url url, std::function<ua::Result<void>(const ua::ByteString& chain)> trust,
    ua::Instant deadline, ua::Error late);

}  // namespace zunth::net
