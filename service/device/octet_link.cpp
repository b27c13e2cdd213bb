#include "service/device/octet_link.hpp"

#include "service/device/text_pattern.hpp"

#include <algorithm>
#include <cerrno>
#include <cstring>

#include <fmt/format.h>
#include <netdb.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

namespace zunth::device {

using namespace ua;

namespace {

bool waitFor(int descriptor, short what, Instant deadline) {
  while (true) {
    const auto left =
        std::chrono::duration_cast<std::chrono::milliseconds>(deadline - std::chrono::steady_clock::now());
    pollfd waiting{descriptor, what, 0};
    const int found = ::poll(&waiting, 1, static_cast<int>(std::max<std::int64_t>(left.count(), 0)));
    if (found > 0) return true;
    if (found == 0 || errno != EINTR) return false;
  }
}

}  // namespace

std::string LinkAddress::text() const { return isSerial() ? serial.text() : fmt::format("{}:{}", host, port); }

Error OctetLink::lost(const char* doing) const {
  return {status::BadNoCommunication,
          fmt::format("{} {} failed: {}", doing, address_.text(), errno ? std::strerror(errno) : "it hung up"),
          "look whether the device is on"};
}

bool OctetLink::isReady(short what, Instant deadline) const { return waitFor(descriptor_, what, deadline); }

Result<int> OctetLink::connect(Instant deadline) const {
  const auto because = [&](std::string why) {
    return Error{status::BadNoCommunication, fmt::format("connecting to {} failed: {}", address_.text(), why),
                 "look whether the device is on and its address is right"};
  };
  addrinfo hints{};
  hints.ai_socktype = SOCK_STREAM;
  addrinfo* found = nullptr;
  if (const int code = ::getaddrinfo(address_.host.c_str(), std::to_string(address_.port).c_str(), &hints, &found))
    return because(::gai_strerror(code));
  std::string why = "no address";
  int link = -1;
  for (const addrinfo* at = found; at && link < 0; at = at->ai_next) {
    link = ::socket(at->ai_family, at->ai_socktype | SOCK_NONBLOCK | SOCK_CLOEXEC, at->ai_protocol);
    if (link < 0) continue;
    int error = ::connect(link, at->ai_addr, at->ai_addrlen) == 0 ? 0 : errno;
    if (error == EINPROGRESS) {
      socklen_t size = sizeof error;
      if (!waitFor(link, POLLOUT, deadline))
        error = ETIMEDOUT;
      else
        ::getsockopt(link, SOL_SOCKET, SO_ERROR, &error, &size);
    }
    if (error == 0) break;
    why = std::strerror(error);
    ::close(std::exchange(link, -1));
  }
  ::freeaddrinfo(found);
  if (link < 0) return because(why);
  const int on = 1;
  ::setsockopt(link, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
  return link;
}

Result<void> OctetLink::open(Instant deadline) {
  close();
  auto opened = address_.isSerial() ? openSerial(address_.serial) : connect(deadline);
  if (!opened) return opened.error();
  descriptor_ = *opened;
  return {};
}

void OctetLink::close() {
  if (descriptor_ >= 0) ::close(std::exchange(descriptor_, -1));
}

Result<void> OctetLink::send(BytesView octets, Instant deadline) {
  if (log_->isOn()) log_->note(true, octets, escaped({reinterpret_cast<const char*>(octets.data()), octets.size()}));
  while (!octets.empty()) {
    errno = 0;
    // A link that the other end has closed is an error, and no signal.
    const auto sent = address_.isSerial() ? ::write(descriptor_, octets.data(), octets.size())
                                          : ::send(descriptor_, octets.data(), octets.size(), MSG_NOSIGNAL);
    if (sent > 0)
      octets = octets.subspan(static_cast<std::size_t>(sent));
    else if (errno != EAGAIN || !isReady(POLLOUT, deadline))
      return lost("writing to");
  }
  return {};
}

Result<Bytes> OctetLink::receive(Instant deadline) {
  std::byte piece[2048];
  while (isReady(POLLIN, deadline)) {
    errno = 0;
    const auto size = ::read(descriptor_, piece, sizeof piece);
    if (size > 0) {
      Bytes out(piece, piece + size);
      if (log_->isOn()) log_->note(false, out, escaped({reinterpret_cast<const char*>(out.data()), out.size()}));
      return out;
    }
    if (errno != EAGAIN) return lost("reading from");
  }
  return Bytes();
}

void OctetLink::empty() {
  std::byte piece[2048];
  // One that never stops is not waited for.
  for (int i = 0; i < 32 && ::read(descriptor_, piece, sizeof piece) > 0; ++i) {
  }
}

}  // namespace zunth::device
