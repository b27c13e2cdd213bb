#pragma once

#include "service/net/tcp_link.hpp"
#include "service/registers/register_server.hpp"

#include <boost/asio/steady_timer.hpp>

namespace zunth::registers {

/// Where Modbus clients come in (Modbus messaging on TCP/IP 1.0b): each asks one thing after the other. There are 32 of
/// them at most; then whoever has been silent for longest gives way. On the services' executor; each connection has one
/// of its own.
class RegisterDoor {
 public:
  RegisterDoor(const net::Loops& loops, std::shared_ptr<RegisterServer> server);
  ~RegisterDoor();

  /// Listens at the file's address: the same with its true port. BadCommunicationError when it is taken.
  ua::Result<std::string> open();
  std::size_t clients() const;

 private:
  struct Shared;
  void accept();

  net::Loops loops_;
  net::Tcp::acceptor acceptor_;
  boost::asio::steady_timer pause_;
  std::shared_ptr<Shared> shared_;
};

}  // namespace zunth::registers
