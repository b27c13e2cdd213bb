#include "service/console/browser_stream.hpp"

#include "service/net/tcp_link.hpp"

#include <optional>

namespace zunth::console {

struct BrowserStream::Sides {
  std::shared_ptr<net::TlsContext> context;
  std::optional<net::Tcp::socket> plain;
  std::optional<net::TlsStream> secure;
  net::Tcp::socket& socket() { return plain ? *plain : secure->next_layer(); }
};

BrowserStream::BrowserStream(net::Tcp::socket socket) : sides_(std::make_unique<Sides>()) {
  sides_->plain.emplace(std::move(socket));
}
BrowserStream::BrowserStream(net::Tcp::socket socket, std::shared_ptr<net::TlsContext> context)
    : sides_(std::make_unique<Sides>()) {
  sides_->context = std::move(context);
  sides_->secure.emplace(std::move(socket), *sides_->context);
}
BrowserStream::BrowserStream(BrowserStream&&) noexcept = default;
BrowserStream& BrowserStream::operator=(BrowserStream&&) noexcept = default;
BrowserStream::~BrowserStream() = default;

BrowserStream::executor_type BrowserStream::get_executor() const { return sides_->socket().get_executor(); }
bool BrowserStream::isSecure() const { return sides_->secure.has_value(); }

boost::asio::awaitable<bool> BrowserStream::shakeHands() {
  if (!sides_->secure) co_return true;
  auto [error] = co_await sides_->secure->async_handshake(net::TlsStream::server, net::kQuietly);
  co_return !error;
}

boost::asio::awaitable<void> BrowserStream::finish() {
  boost::system::error_code ignored;
  if (sides_->secure)
    (void)co_await sides_->secure->async_shutdown(net::kQuietly);
  else
    sides_->plain->shutdown(net::Tcp::socket::shutdown_send, ignored);
}

void BrowserStream::close() {
  boost::system::error_code ignored;
  if (sides_) sides_->socket().close(ignored);
}

void BrowserStream::read(boost::asio::mutable_buffer buffer, Handler handler) {
  if (sides_->secure)
    sides_->secure->async_read_some(buffer, std::move(handler));
  else
    sides_->plain->async_read_some(buffer, std::move(handler));
}

void BrowserStream::write(boost::asio::const_buffer buffer, Handler handler) {
  if (sides_->secure)
    sides_->secure->async_write_some(buffer, std::move(handler));
  else
    sides_->plain->async_write_some(buffer, std::move(handler));
}

}  // namespace zunth::console
