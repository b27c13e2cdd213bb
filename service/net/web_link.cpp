#include "service/net/web_link.hpp"

#include "service/net/tcp_link.hpp"

namespace zunth::net {

namespace beast = boost::beast;

WebLink::WebLink(WebSocket socket, std::shared_ptr<TlsContext> context, Kind kind, std::size_t mostOctets)
    : context_(std::move(context)), socket_(std::move(socket)), executor_(socket_.get_executor()) {
  socket_.binary(kind == Kind::Octets);
  socket_.read_message_max(mostOctets);
  socket_.auto_fragment(false);
  peer_ = addressOf(beast::get_lowest_layer(socket_));
}

void WebLink::start(Callbacks callbacks) {
  callbacks_ = std::move(callbacks);
  boost::system::error_code ignored;
  beast::get_lowest_layer(socket_).set_option(Tcp::no_delay(true), ignored);
  keepAlive(beast::get_lowest_layer(socket_));
  read();
}

void WebLink::setReading(bool on) {
  wantsMore_ = on;
  read();
}

void WebLink::read() {
  if (isReading_ || !wantsMore_ || !open_) return;
  isReading_ = true;
  socket_.async_read(input_, [self = self()](const boost::system::error_code& error, std::size_t) {
    if (error == beast::websocket::error::closed || error == asio::error::eof) return self->end({});
    if (error) return self->end(error.message());
    const auto data = self->input_.data();
    if (self->callbacks_.received) self->callbacks_.received({static_cast<const std::byte*>(data.data()), data.size()});
    // A large message's memory is not kept for small ones.
    constexpr std::size_t kMostKept = 256 * 1024;
    self->input_.consume(self->input_.size());
    if (self->input_.capacity() > kMostKept) self->input_ = beast::flat_buffer();
    self->isReading_ = false;
    self->read();
  });
}

void WebLink::send(std::vector<ua::Bytes> buffers) {
  if (!open_ || finishing_) return;
  const bool isIdle = queue_.empty();
  for (auto& buffer : buffers) {
    unsent_ += buffer.size();
    queue_.push_back(std::move(buffer));
  }
  isHigh_ |= unsent_ > kHigh;
  if (isIdle) write();
}

void WebLink::write() {
  if (queue_.empty()) {
    if (finishing_)
      socket_.async_close(beast::websocket::close_code::normal,
                          [self = self()](const boost::system::error_code&) { self->end({}); });
    return;
  }
  socket_.async_write(asio::buffer(queue_.front().data(), queue_.front().size()),
                      [self = self()](const boost::system::error_code& error, std::size_t) {
                        if (error) return self->end(error.message());
                        self->unsent_ -= self->queue_.front().size();
                        self->queue_.pop_front();
                        self->write();
                        if (self->unsent_ < kLow && std::exchange(self->isHigh_, false) && self->callbacks_.drained)
                          self->callbacks_.drained();
                      });
}

void WebLink::finish() {
  if (std::exchange(finishing_, true)) return;
  if (queue_.empty()) write();
}

void WebLink::abandon() {
  callbacks_ = {};
  end({});
}

void WebLink::end(const std::string& why) {
  open_ = false;
  boost::system::error_code ignored;
  beast::get_lowest_layer(socket_).close(ignored);
  if (auto callbacks = std::exchange(callbacks_, {}); callbacks.closed) callbacks.closed(why);
}

}  // namespace zunth::net
