#pragma once

#include "tests/service/process.hpp"
#include <netinet/in.h>
#include <sys/socket.h>

namespace zunth::test {

/// A port of this machine that nobody listens on.
inline int freePort() {
  const int socket = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof address;
  ::bind(socket, reinterpret_cast<sockaddr*>(&address), size);
  ::getsockname(socket, reinterpret_cast<sockaddr*>(&address), &size);
  ::close(socket);
  return ntohs(address.sin_port);
}

/// A real MQTT broker on loopback, with a folder of its own.
class Broker {
 public:
  explicit Broker(const std::string& more = "allow_anonymous true\n") : port(freePort()) {
    folder.write("broker.conf",
                 "listener " + std::to_string(port) + " 127.0.0.1\npersistence false\nlog_dest none\n" + more);
    start();
  }
  void start() {
    process = std::make_unique<Process>(
        std::vector<std::string>{"/usr/sbin/mosquitto", "-c", (folder.path / "broker.conf").string()});
    // It is there when it takes a connection.
    for (int i = 0; i < 2'000 && !isThere(); ++i) ::usleep(5'000);
  }
  void stop() { process->stop(); }
  std::string address() const { return "127.0.0.1:" + std::to_string(port); }

  TemporaryFolder folder;
  int port;
  std::unique_ptr<Process> process;

 private:
  bool isThere() const {
    const int socket = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    sockaddr_in to{};
    to.sin_family = AF_INET;
    to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    to.sin_port = htons(static_cast<std::uint16_t>(port));
    const bool found = ::connect(socket, reinterpret_cast<sockaddr*>(&to), sizeof to) == 0;
    ::close(socket);
    return found;
  }
};

}  // namespace zunth::test
