#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/instant.hpp"
#include "core/ua/result.hpp"
#include "service/device/serial_port.hpp"
#include "service/device/wire_log.hpp"

#include <memory>
#include <mutex>
#include <string>

struct _modbus;

namespace zunth::device::modbus {

/// Where units are reached: a host and a port, or a serial port where one is named.
struct LineAddress {
  std::string host = "127.0.0.1";
  std::uint16_t port = 502;
  SerialSettings serial;

  bool isSerial() const { return !serial.path.empty(); }
  /// "127.0.0.1:502", "/dev/ttyS0 19200 8E1".
  std::string text() const;
};

/// A connection by Modbus TCP, or a serial line by Modbus RTU, that all units behind it share: many gateways take one
/// only. One request at a time, from any thread; it may block for about the patience. After an answer that didn't come
/// in time the connection is given up, for nobody could tell whose answer comes next; a serial line is emptied.
class Line {
 public:
  /// The one line to an address, made when nobody has it.
  static std::shared_ptr<Line> to(const LineAddress& address);
  ~Line();
  Line(const Line&) = delete;
  Line& operator=(const Line&) = delete;

  /// BadNoCommunication.
  ua::Result<void> connect(ua::Duration patience);
  /// What a unit answers: function code and data. BadNoCommunication; BadDecodingError for an answer in another unit's
  /// name, which is not believed.
  ua::Result<ua::Bytes> exchange(std::uint8_t unit, ua::BytesView request, ua::Duration patience);

 private:
  explicit Line(LineAddress address) : address_(std::move(address)), log_(WireLog::of(address_.text())) {}
  ua::Result<void> connectLocked(ua::Duration patience);
  void disconnect();
  int readOn(std::uint8_t* answer, int size, ua::Duration patience) const;
  void giveUp(int why);
  ua::Error lost(const char* doing) const;

  const LineAddress address_;
  const std::shared_ptr<WireLog> log_;
  std::mutex mutex_;
  _modbus* context_ = nullptr;
};

}  // namespace zunth::device::modbus
