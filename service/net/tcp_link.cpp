#include "service/net/tcp_link.hpp"

#include <boost/asio/write.hpp>
#include <netinet/tcp.h>

namespace zunth::net {

namespace {

constexpr std::size_t kInputSize = 128 * 1024;

}  // namespace

std::string addressOf(const Tcp::socket& socket) {
  boost::system::error_code error;
  const auto remote = socket.remote_endpoint(error);
  return error ? std::string() : remote.address().to_string() + ":" + std::to_string(remote.port());
}

void keepAlive(Tcp::socket& socket) {
  boost::system::error_code ignored;
  socket.set_option(asio::socket_base::keep_alive(true), ignored);
  const auto set = [&](int option, int value) {
    setsockopt(socket.native_handle(), IPPROTO_TCP, option, &value, sizeof value);
  };
  set(TCP_KEEPIDLE, 30);   // s
  set(TCP_KEEPINTVL, 10);  // s
  set(TCP_KEEPCNT, 4);
  set(TCP_USER_TIMEOUT, 90'000);  // ms that what was sent may stay unacknowledged
}

void TcpLink::start(Callbacks callbacks) {
  callbacks_ = std::move(callbacks);
  boost::system::error_code ignored;
  socket_.set_option(Tcp::no_delay(true), ignored);
  keepAlive(socket_);
  input_.resize(kInputSize);
  read();
}

void TcpLink::setReading(bool on) {
  wantsMore_ = on;
  read();
}

void TcpLink::read() {
  if (isReading_ || !wantsMore_ || !socket_.is_open()) return;
  isReading_ = true;
  socket_.async_read_some(asio::buffer(input_.data(), input_.size()),
                          [self = self()](const boost::system::error_code& error, std::size_t size) {
                            if (error == asio::error::eof) return self->end({});
                            if (error) return self->end(error.message());
                            if (self->callbacks_.received) self->callbacks_.received({self->input_.data(), size});
                            // What it was given is its callback's until then.
                            self->isReading_ = false;
                            self->read();
                          });
}

void TcpLink::send(std::vector<ua::Bytes> buffers) {
  if (!socket_.is_open() || finishing_) return;
  for (auto& buffer : buffers) {
    unsent_ += buffer.size();
    queue_.push_back(std::move(buffer));
  }
  isHigh_ |= unsent_ > kHigh;
  if (writing_.empty()) write();
}

void TcpLink::write() {
  if (queue_.empty()) {
    if (finishing_) {
      boost::system::error_code ignored;
      socket_.shutdown(Tcp::socket::shutdown_both, ignored);
      end({});
    }
    return;
  }
  writing_.assign(std::make_move_iterator(queue_.begin()), std::make_move_iterator(queue_.end()));
  queue_.clear();
  std::vector<asio::const_buffer> buffers;
  for (const auto& buffer : writing_) buffers.emplace_back(buffer.data(), buffer.size());
  asio::async_write(socket_, buffers, [self = self()](const boost::system::error_code& error, std::size_t size) {
    self->unsent_ -= size;
    self->writing_.clear();
    if (error) return self->end(error.message());
    self->write();
    if (self->unsent_ < kLow && std::exchange(self->isHigh_, false) && self->callbacks_.drained)
      self->callbacks_.drained();
  });
}

void TcpLink::finish() {
  if (std::exchange(finishing_, true)) return;
  if (writing_.empty()) write();
}

void TcpLink::abandon() {
  callbacks_ = {};
  boost::system::error_code ignored;
  socket_.close(ignored);
}

void TcpLink::end(const std::string& why) {
  boost::system::error_code ignored;
  socket_.close(ignored);
  if (auto callbacks = std::exchange(callbacks_, {}); callbacks.closed) callbacks.closed(why);
}

}  // namespace zunth::net
