#include "apps/sim/modbus_server.hpp"

#include <bit>
#include <chrono>
#include <cmath>
#include <stdexcept>
#include <vector>

#include <fmt/format.h>
#include <modbus.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

namespace zunth::sim {
namespace {

constexpr int kSetpoint = 0, kWashSeconds = 2, kSerial = 10;
constexpr int kStepMs = 50;

void putFloat(std::uint16_t* at, double value) {
  const auto bits = std::bit_cast<std::uint32_t>(static_cast<float>(value));
  at[0] = static_cast<std::uint16_t>(bits >> 16);
  at[1] = static_cast<std::uint16_t>(bits);
}
float getFloat(const std::uint16_t* at) {
  return std::bit_cast<float>(static_cast<std::uint32_t>(at[0]) << 16 | at[1]);
}

}  // namespace

ModbusServer::ModbusServer(std::string host, int port, std::string serial, double speedup)
    : host_(std::move(host)), port_(port), serial_(std::move(serial)), speedup_(speedup) {
  mapping_ = modbus_mapping_new(16, 16, 32, 32);
  putFloat(mapping_->tab_registers + kSetpoint, filter_.setpoint());
  mapping_->tab_registers[kWashSeconds] = 3;
  mapping_->tab_bits[1] = 1;
  serial_.resize(16, ' ');
  for (std::size_t i = 0; i < 8; ++i)
    mapping_->tab_registers[kSerial + i] = static_cast<std::uint16_t>(static_cast<unsigned char>(serial_[2 * i]) << 8 |
                                                                      static_cast<unsigned char>(serial_[2 * i + 1]));
}

ModbusServer::~ModbusServer() {
  if (listening_ >= 0) ::close(listening_);
  if (context_) modbus_free(context_);
  modbus_mapping_free(mapping_);
}

int ModbusServer::listen() {
  context_ = modbus_new_tcp(host_.c_str(), port_);
  listening_ = context_ ? modbus_tcp_listen(context_, 16) : -1;
  if (listening_ < 0)
    throw std::runtime_error(fmt::format("can't listen on {}:{}: {}", host_, port_, modbus_strerror(errno)));
  sockaddr_in address{};
  socklen_t size = sizeof address;
  getsockname(listening_, reinterpret_cast<sockaddr*>(&address), &size);
  return port_ = ntohs(address.sin_port);
}

/// Puts the filter's state into the tables.
void ModbusServer::show() {
  auto* input = mapping_->tab_input_registers;
  putFloat(input + 0, filter_.pressure());
  putFloat(input + 2, filter_.speed());
  input[4] = static_cast<std::uint16_t>(std::lround(filter_.inflow() * 10));
  input[5] = static_cast<std::uint16_t>(std::lround(filter_.waterTemperature() * 100));
  input[6] = static_cast<std::uint16_t>(filter_.washCount() >> 16);
  input[7] = static_cast<std::uint16_t>(filter_.washCount());
  input[8] = filter_.isOverPressure() ? 1 : 0;
  mapping_->tab_input_bits[0] = filter_.isRunning();
  mapping_->tab_input_bits[1] = filter_.isWashing();
  mapping_->tab_bits[0] = filter_.isWashing();
}

/// Whether the drive takes what a write of several registers asks for; a refused one changes nothing.
bool ModbusServer::accepts(const std::uint8_t* request, int size) const {
  const int header = modbus_get_header_length(context_);
  const std::uint8_t* pdu = request + header;
  constexpr std::uint8_t kWriteRegisters = 0x10;
  if (size < header + 10 || pdu[0] != kWriteRegisters) return true;
  const int first = pdu[1] << 8 | pdu[2], count = pdu[3] << 8 | pdu[4];
  if (first != kSetpoint || count < 2) return true;
  const std::uint16_t registers[2] = {static_cast<std::uint16_t>(pdu[6] << 8 | pdu[7]),
                                      static_cast<std::uint16_t>(pdu[8] << 8 | pdu[9])};
  const float wanted = getFloat(registers);
  return wanted >= 0 && wanted <= static_cast<float>(DrumFilter::kMostSpeed);
}

/// Does what the tables now ask for.
void ModbusServer::obey() {
  filter_.setSpeed(getFloat(mapping_->tab_registers + kSetpoint));
  filter_.setRunning(mapping_->tab_bits[1] != 0);
  if (mapping_->tab_bits[0] && !filter_.isWashing()) filter_.startWash(mapping_->tab_registers[kWashSeconds]);
}

void ModbusServer::serve(int client) {
  std::uint8_t request[MODBUS_TCP_MAX_ADU_LENGTH];
  modbus_set_socket(context_, client);
  const int size = modbus_receive(context_, request);
  if (size < 0) throw std::runtime_error("the client left");
  if (size == 0) return;  // for another station
  show();
  if (!accepts(request, size))
    modbus_reply_exception(context_, request, MODBUS_EXCEPTION_ILLEGAL_DATA_VALUE);
  else
    modbus_reply(context_, request, size, mapping_);
  obey();
}

void ModbusServer::run() {
  using Clock = std::chrono::steady_clock;
  std::vector<pollfd> sockets{{listening_, POLLIN, 0}};
  auto last = Clock::now();
  while (!stopping_) {
    ::poll(sockets.data(), sockets.size(), kStepMs);
    const auto now = Clock::now();
    filter_.step(std::chrono::duration<double>(now - last).count() * speedup_);
    last = now;
    for (std::size_t i = sockets.size(); i-- > 1;) {
      if (!sockets[i].revents) continue;
      try {
        serve(sockets[i].fd);
      } catch (const std::runtime_error&) {
        ::close(sockets[i].fd);
        sockets.erase(sockets.begin() + static_cast<std::ptrdiff_t>(i));
      }
    }
    if (sockets[0].revents & POLLIN)
      if (const int client = ::accept(listening_, nullptr, nullptr); client >= 0)
        sockets.push_back({client, POLLIN, 0});
  }
  for (std::size_t i = 1; i < sockets.size(); ++i) ::close(sockets[i].fd);
}

}  // namespace zunth::sim
