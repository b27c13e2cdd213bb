#include "service/device/modbus_line.hpp"

#include <cerrno>
#include <map>
#include <vector>

#include <fmt/format.h>
#include <modbus.h>

namespace zunth::device::modbus {

using namespace ua;

namespace {

constexpr std::size_t kUnitAt = 6, kHeader = 7;  // of the octets of Modbus TCP before the function code

std::uint32_t microseconds(Duration time) {
  return static_cast<std::uint32_t>(std::chrono::duration_cast<std::chrono::microseconds>(time).count());
}

}  // namespace

std::shared_ptr<Line> Line::to(const std::string& host, std::uint16_t port) {
  static std::mutex guard;
  static std::map<std::pair<std::string, std::uint16_t>, std::weak_ptr<Line>> lines;
  const std::lock_guard lock(guard);
  std::erase_if(lines, [](const auto& line) { return line.second.expired(); });
  auto& known = lines[{host, port}];
  auto line = known.lock();
  if (!line) known = line = std::shared_ptr<Line>(new Line(host, port));
  return line;
}

Line::~Line() { disconnect(); }

Error Line::lost(const char* doing) const {
  return {status::BadNoCommunication, fmt::format("{} {}:{} failed: {}", doing, host_, port_, modbus_strerror(errno)),
          "look whether the device is on and its address is right"};
}

void Line::disconnect() {
  if (!context_) return;
  modbus_close(context_);
  modbus_free(context_);
  context_ = nullptr;
}

Result<void> Line::connect(Duration patience) {
  const std::lock_guard lock(mutex_);
  return connectLocked(patience);
}

Result<void> Line::connectLocked(Duration patience) {
  if (context_) return {};
  context_ = modbus_new_tcp_pi(host_.c_str(), std::to_string(port_).c_str());
  if (!context_) return lost("the address");
  const std::uint32_t us = microseconds(patience);
  modbus_set_response_timeout(context_, us / 1'000'000, us % 1'000'000);
  if (modbus_connect(context_) == 0) return {};
  const Error error = lost("connecting to");
  disconnect();
  return error;
}

Result<Bytes> Line::exchange(std::uint8_t unit, BytesView request, Duration patience) {
  const std::lock_guard lock(mutex_);
  if (auto connected = connectLocked(patience); !connected) return connected.error();
  const std::uint32_t us = microseconds(patience);
  modbus_set_response_timeout(context_, us / 1'000'000, us % 1'000'000);
  std::vector<std::uint8_t> frame{unit};
  for (const auto octet : request) frame.push_back(std::to_integer<std::uint8_t>(octet));
  std::uint8_t answer[MODBUS_TCP_MAX_ADU_LENGTH];
  const int sent = modbus_send_raw_request(context_, frame.data(), static_cast<int>(frame.size()));
  const int size = sent < 0 ? -1 : modbus_receive_confirmation(context_, answer);
  if (size < static_cast<int>(kHeader) + 1) {
    const Error error = lost(sent < 0 ? "writing to" : "reading from");
    disconnect();
    return error;
  }
  if (answer[kUnitAt] != unit) {
    disconnect();
    return Error{status::BadDecodingError,
                 fmt::format("{}:{} answered in the name of unit {}, and unit {} was asked", host_, port_,
                             answer[kUnitAt], unit),
                 fmt::format("unit: {}", answer[kUnitAt])};
  }
  const auto* begin = reinterpret_cast<const std::byte*>(answer) + kHeader;
  return Bytes(begin, begin + size - kHeader);
}

}  // namespace zunth::device::modbus
