#pragma once

#include "core/channel/url.hpp"
#include "service/console/live_socket.hpp"
#include "service/console/web.hpp"
#include "service/net/tls.hpp"

#include <map>

#include <boost/asio/steady_timer.hpp>

namespace zunth::console {

class Console;

/// Where browsers and scripts come in: HTTP on one port, over TLS where it can be reached from other machines. Within
/// bounds of its own, so that clients of the server never wait for browsers. On the services' executor; each connection
/// has one of its own.
class Door {
 public:
  explicit Door(Console& console);
  ~Door();

  /// Listens on "http://HOST:PORT" or "https://HOST:PORT". The same URL, or an error that names the cause.
  ua::Result<std::string> listen(const std::string& url);

 private:
  struct Shared;
  void accept();

  Console& console_;
  net::Tcp::acceptor acceptor_;
  boost::asio::steady_timer pause_;
  std::shared_ptr<Shared> shared_;
};

}  // namespace zunth::console
