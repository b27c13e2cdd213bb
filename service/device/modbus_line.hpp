#pragma once

#include "core/ua/bytes.hpp"
#include "core/ua/instant.hpp"
#include "core/ua/result.hpp"

#include <memory>
#include <mutex>
#include <string>

struct _modbus;

namespace zunth::device::modbus {

/// A connection by Modbus TCP that all units behind it share: many gateways take one only. One request at a time, from
/// any thread; it may block for about the patience. After an answer that didn't come in time the connection is given
/// up, for nobody could tell whose answer comes next.
class Line {
 public:
  /// The one line to an address, made when nobody has it.
  static std::shared_ptr<Line> to(const std::string& host, std::uint16_t port);
  ~Line();
  Line(const Line&) = delete;
  Line& operator=(const Line&) = delete;

  /// BadNoCommunication.
  ua::Result<void> connect(ua::Duration patience);
  /// What a unit answers: function code and data. BadNoCommunication; BadDecodingError for an answer in another unit's
  /// name, which is not believed.
  ua::Result<ua::Bytes> exchange(std::uint8_t unit, ua::BytesView request, ua::Duration patience);

 private:
  Line(std::string host, std::uint16_t port) : host_(std::move(host)), port_(port) {}
  ua::Result<void> connectLocked(ua::Duration patience);
  void disconnect();
  ua::Error lost(const char* doing) const;

  const std::string host_;
  const std::uint16_t port_;
  std::mutex mutex_;
  _modbus* context_ = nullptr;
};

}  // namespace zunth::device::modbus
