#include "apps/sim/listening.hpp"

#include <cerrno>
#include <cstring>
#include <stdexcept>

#include <arpa/inet.h>
#include <fmt/format.h>
#include <sys/socket.h>
#include <unistd.h>

namespace zunth::sim {

int listenAt(const std::string& host, int& port) {
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(static_cast<std::uint16_t>(port));
  const int on = 1;
  socklen_t size = sizeof address;
  const int listening = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  ::setsockopt(listening, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
  if (::inet_pton(AF_INET, host.c_str(), &address.sin_addr) != 1 ||
      ::bind(listening, reinterpret_cast<sockaddr*>(&address), size) != 0 || ::listen(listening, 16) != 0) {
    const int why = errno;
    ::close(listening);
    throw std::runtime_error(fmt::format("can't listen on {}:{}: {}", host, port, std::strerror(why)));
  }
  ::getsockname(listening, reinterpret_cast<sockaddr*>(&address), &size);
  port = ntohs(address.sin_port);
  return listening;
}

}  // namespace zunth::sim
