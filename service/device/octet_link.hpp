#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/instant.hpp"
#include "service/device/serial_port.hpp"
#include "service/device/wire_log.hpp"

#include <string>

namespace zunth::device {

/// Where octets go: a host and a port, or a serial port where one is named.
struct LinkAddress {
  std::string host = "127.0.0.1";
  std::uint16_t port = 0;
  SerialSettings serial;

  bool isSerial() const { return !serial.path.empty(); }
  /// "127.0.0.1:4001", "/dev/ttyS0 9600 8N1".
  std::string text() const;
};

/// A TCP connection or an open serial port, used from one thread. What lasts longer than it may ends in time; failures
/// are BadNoCommunication.
class OctetLink {
 public:
  explicit OctetLink(LinkAddress address) : address_(std::move(address)), log_(WireLog::of(address_.text())) {}
  ~OctetLink() { close(); }
  OctetLink(const OctetLink&) = delete;

  ua::Result<void> open(ua::Instant deadline);
  void close();
  bool isOpen() const { return descriptor_ >= 0; }
  ua::Result<void> send(ua::BytesView octets, ua::Instant deadline);
  /// What has come, as soon as there is something; nothing when it is too late.
  ua::Result<ua::Bytes> receive(ua::Instant deadline);
  /// Drops what has come.
  void empty();
  const LinkAddress& address() const { return address_; }

 private:
  ua::Result<int> connect(ua::Instant deadline) const;
  bool isReady(short what, ua::Instant deadline) const;
  ua::Error lost(const char* doing) const;

  const LinkAddress address_;
  const std::shared_ptr<WireLog> log_;
  int descriptor_ = -1;
};

}  // namespace zunth::device
