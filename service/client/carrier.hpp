#pragma once

#include "core/ua/instant.hpp"
#include "service/client/exchange.hpp"

#include <functional>
#include <string>

#include <boost/asio/awaitable.hpp>

namespace zunth::client {

namespace asio = boost::asio;
template <class T>
using Awaitable = asio::awaitable<T>;

/// What brings a session's requests to a server and the answers back: a connection with its secure channel, or a way
/// that stays within the process. One loop's thread.
class Carrier {
 public:
  virtual ~Carrier() = default;

  /// Sends a request and awaits its response; the exchange stays where it is until then. An error when the server's
  /// answer is a fault or another structure, when the time runs out (BadTimeout), or when the connection ends
  /// (BadConnectionClosed).
  virtual Awaitable<ua::Result<void>> perform(Exchange& exchange, ua::Duration timeout) = 0;
  template <class Request>
  Awaitable<ua::Result<typename Request::Response>> request(Request request, ua::Duration timeout) {
    ExchangeOf<Request> exchange(std::move(request));
    if (auto fine = co_await perform(exchange, timeout); !fine) co_return fine.error();
    co_return std::move(exchange.response);
  }

  virtual bool isOpen() const = 0;
  /// By which URL the server was found.
  virtual std::string endpointUrl() const = 0;
  /// Says goodbye.
  virtual void close() = 0;
  /// Drops it without a word, as when the other side no longer answers.
  virtual void abandon(const ua::Error& why) = 0;
  /// Called once when it ends other than by close().
  virtual void onLost(std::function<void(const ua::Error&)> lost) = 0;
};

}  // namespace zunth::client
