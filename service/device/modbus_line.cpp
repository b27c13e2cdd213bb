#include "service/device/modbus_line.hpp"

#include "service/device/modbus_frames.hpp"
#include "service/device/shared_by_name.hpp"

#include <cerrno>
#include <map>
#include <vector>

#include <fmt/format.h>
#include <modbus.h>
#include <poll.h>
#include <unistd.h>

namespace zunth::device::modbus {

using namespace ua;

namespace {

/// What is around function code and data: of TCP a header that ends with the unit, of a serial line the unit and a
/// checksum.
struct Envelope {
  std::size_t unitAt, header, trailer;
};
constexpr Envelope kTcp{6, 7, 0}, kSerial{0, 1, 2};

constexpr std::byte kIdentify{43};

/// Of a serial line (its specification, 2.5.1.2): 0 over a frame that ends with its own.
std::uint16_t checksum(const std::uint8_t* octets, int size) {
  unsigned sum = 0xFFFF;
  for (int i = 0; i < size; ++i) {
    sum ^= octets[i];
    for (int bit = 0; bit < 8; ++bit) sum = sum & 1 ? sum >> 1 ^ 0xA001 : sum >> 1;
  }
  return static_cast<std::uint16_t>(sum);
}

std::uint32_t microseconds(Duration time) {
  return static_cast<std::uint32_t>(std::chrono::duration_cast<std::chrono::microseconds>(time).count());
}

}  // namespace

std::string LineAddress::text() const { return isSerial() ? serial.text() : fmt::format("{}:{}", host, port); }

std::shared_ptr<Line> Line::to(const LineAddress& address) {
  static SharedByName<std::string, Line> lines;
  return lines.get(address.text(), [&] { return std::shared_ptr<Line>(new Line(address)); });
}

Line::~Line() { disconnect(); }

Error Line::lost(const char* doing) const {
  return {status::BadNoCommunication, fmt::format("{} {} failed: {}", doing, address_.text(), modbus_strerror(errno)),
          address_.isSerial() ? "look whether the device is on, and that its speed and unit are these"
                              : "look whether the device is on and its address is right"};
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
  const SerialSettings& serial = address_.serial;
  context_ = address_.isSerial()
                 ? modbus_new_rtu(serial.path.c_str(), serial.baud, serial.parity, serial.dataBits, serial.stopBits)
                 : modbus_new_tcp_pi(address_.host.c_str(), std::to_string(address_.port).c_str());
  if (!context_) return lost("taking");
  const std::uint32_t us = microseconds(patience);
  modbus_set_response_timeout(context_, us / 1'000'000, us % 1'000'000);
  if (modbus_connect(context_) == 0) return {};
  const Error error = lost(address_.isSerial() ? "opening" : "connecting to");
  disconnect();
  return error;
}

Result<Bytes> Line::exchange(std::uint8_t unit, BytesView request, Duration patience) {
  const std::lock_guard lock(mutex_);
  if (auto connected = connectLocked(patience); !connected) return connected.error();
  const std::uint32_t us = microseconds(patience);
  modbus_set_response_timeout(context_, us / 1'000'000, us % 1'000'000);
  if (address_.isSerial()) modbus_set_slave(context_, unit);
  std::vector<std::uint8_t> frame{unit};
  for (const auto octet : request) frame.push_back(std::to_integer<std::uint8_t>(octet));
  std::uint8_t answer[MODBUS_TCP_MAX_ADU_LENGTH];
  const Envelope& envelope = address_.isSerial() ? kSerial : kTcp;
  const bool isLogged = log_->isOn();
  if (isLogged) log_->note(true, request, fmt::format("unit {}: {}", unit, describe(request)));
  const int sent = modbus_send_raw_request(context_, frame.data(), static_cast<int>(frame.size()));
  int size = sent < 0 ? -1 : modbus_receive_confirmation(context_, answer);
  if (sent >= 0 && !request.empty() && request.front() == kIdentify) size = readOn(answer, size, patience);
  if (size < static_cast<int>(envelope.header + envelope.trailer) + 1) {
    // The library passes over what is for others, and says nothing of it.
    if (size >= 0) errno = ETIMEDOUT;
    const int why = errno;
    const Error error = lost(sent < 0 ? "writing to" : "reading from");
    if (isLogged) log_->note(false, {}, error.cause);
    giveUp(why);
    return error;
  }
  if (answer[envelope.unitAt] != unit) {
    giveUp(0);
    return Error{status::BadDecodingError,
                 fmt::format("{} answered in the name of unit {}, and unit {} was asked", address_.text(),
                             answer[envelope.unitAt], unit),
                 fmt::format("unit: {}", answer[envelope.unitAt])};
  }
  const auto* begin = reinterpret_cast<const std::byte*>(answer) + envelope.header;
  Bytes out(begin, begin + size - envelope.header - envelope.trailer);
  if (isLogged) log_->note(false, out, fmt::format("unit {}: {}", unit, describeAnswer(out)));
  return out;
}

/// The library takes of an answer that it doesn't know the function alone: the rest is read as far as the header of TCP
/// says, or until a serial line is silent.
int Line::readOn(std::uint8_t* answer, int size, Duration patience) const {
  constexpr int kLengthEndsAt = 6, kSilence = 50;  // ms
  const bool isSerial = address_.isSerial();
  if (isSerial ? size < 0 && errno != EMBBADCRC : size < kLengthEndsAt) return size;
  if (isSerial && size >= 0) return size;  // an exception is whole, and nothing is what is for others
  int have = isSerial ? static_cast<int>(kSerial.header + 2 + kSerial.trailer) : size;  // function and one octet
  const int end = isSerial ? MODBUS_RTU_MAX_ADU_LENGTH
                           : std::min(kLengthEndsAt + (answer[4] << 8 | answer[5]), int{MODBUS_TCP_MAX_ADU_LENGTH});
  const int wait = isSerial ? kSilence : static_cast<int>(microseconds(patience) / 1000);
  pollfd came{modbus_get_socket(context_), POLLIN, 0};
  while (have < end) {
    if (::poll(&came, 1, wait) <= 0) break;
    const auto octets = ::read(came.fd, answer + have, static_cast<std::size_t>(end - have));
    if (octets <= 0) break;
    have += static_cast<int>(octets);
  }
  if (isSerial ? checksum(answer, have) == 0 : have == end) return have;
  errno = isSerial ? EMBBADCRC : ETIMEDOUT;
  return -1;
}

/// Nobody can tell whose answer comes next.
void Line::giveUp(int why) {
  // A port that has gone is opened again; others go on with one that hasn't.
  if (address_.isSerial() && why != EIO && why != EBADF && why != ENODEV && why != ENXIO)
    modbus_flush(context_);
  else
    disconnect();
}

}  // namespace zunth::device::modbus
