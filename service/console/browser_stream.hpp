#pragma once

#include "service/net/tls.hpp"

#include <boost/asio/any_completion_handler.hpp>
#include <boost/asio/awaitable.hpp>
#include <boost/beast/core/role.hpp>

namespace zunth::console {

/// A browser's connection, with TLS or without: one type for both, so that what speaks HTTP and WebSockets over it is
/// compiled once.
class BrowserStream {
 public:
  using executor_type = net::Executor;
  using Done = void(boost::system::error_code, std::size_t);
  using Handler = boost::asio::any_completion_handler<Done>;

  explicit BrowserStream(net::Tcp::socket socket);
  BrowserStream(net::Tcp::socket socket, std::shared_ptr<net::TlsContext> context);
  BrowserStream(BrowserStream&&) noexcept;
  BrowserStream& operator=(BrowserStream&&) noexcept;
  ~BrowserStream();

  executor_type get_executor() const;
  bool isSecure() const;
  /// Of TLS, where there is any; false when it failed.
  boost::asio::awaitable<bool> shakeHands();
  /// Says that nothing more comes.
  boost::asio::awaitable<void> finish();
  void close();

  template <class Buffers, class Token>
  auto async_read_some(const Buffers& buffers, Token&& token) {
    return boost::asio::async_initiate<Token, Done>(
        [this](auto handler, boost::asio::mutable_buffer buffer) { read(buffer, Handler(std::move(handler))); }, token,
        firstOf<boost::asio::mutable_buffer>(buffers));
  }
  template <class Buffers, class Token>
  auto async_write_some(const Buffers& buffers, Token&& token) {
    return boost::asio::async_initiate<Token, Done>(
        [this](auto handler, boost::asio::const_buffer buffer) { write(buffer, Handler(std::move(handler))); }, token,
        firstOf<boost::asio::const_buffer>(buffers));
  }

 private:
  struct Sides;
  /// The first that isn't empty: reading and writing some need take no more.
  template <class Buffer, class Buffers>
  static Buffer firstOf(const Buffers& buffers) {
    for (auto at = boost::asio::buffer_sequence_begin(buffers); at != boost::asio::buffer_sequence_end(buffers); ++at)
      if (const Buffer buffer(*at); buffer.size() > 0) return buffer;
    return Buffer();
  }
  void read(boost::asio::mutable_buffer buffer, Handler handler);
  void write(boost::asio::const_buffer buffer, Handler handler);

  std::unique_ptr<Sides> sides_;
};

// What Beast's WebSockets ask of a stream.
inline void beast_close_socket(BrowserStream& stream) { stream.close(); }
inline void teardown(boost::beast::role_type, BrowserStream& stream, boost::system::error_code&) { stream.close(); }
template <class TeardownHandler>
void async_teardown(boost::beast::role_type, BrowserStream& stream, TeardownHandler&& handler) {
  stream.close();
  boost::asio::post(stream.get_executor(), [handler = std::forward<TeardownHandler>(handler)]() mutable {
    handler(boost::system::error_code());
  });
}

}  // namespace zunth::console
