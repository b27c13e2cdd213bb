#include "apps/sim/modbus_server.hpp"

#include <chrono>
#include <stdexcept>

#include <fmt/format.h>
#include <modbus.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

namespace zunth::sim {
namespace {

constexpr int kStepMs = 50;

/// Of a frame on a serial line (Modbus over serial line 1.02, 6.2.2).
std::uint16_t lineChecksum(const std::vector<std::uint8_t>& frame) {
  unsigned sum = 0xFFFF;
  for (const auto octet : frame) {
    sum ^= octet;
    for (int bit = 0; bit < 8; ++bit) sum = (sum >> 1) ^ (sum & 1 ? 0xA001 : 0);
  }
  return static_cast<std::uint16_t>(sum);
}

}  // namespace

ModbusServer::ModbusServer(std::unique_ptr<Equipment> equipment, Settings settings)
    : equipment_(std::move(equipment)),
      settings_(std::move(settings)),
      mapping_(modbus_mapping_new(static_cast<int>(equipment_->bits()), static_cast<int>(equipment_->bits()),
                                  static_cast<int>(equipment_->registers()),
                                  static_cast<int>(equipment_->registers()))) {
  equipment_->prepare(tables());
}

ModbusServer::~ModbusServer() {
  if (listening_ >= 0) ::close(listening_);
  if (context_) modbus_free(context_);
  modbus_mapping_free(mapping_);
}

Tables ModbusServer::tables() const {
  const std::size_t registers = equipment_->registers(), bits = equipment_->bits();
  return {{mapping_->tab_input_registers, registers},
          {mapping_->tab_registers, registers},
          {mapping_->tab_bits, bits},
          {mapping_->tab_input_bits, bits}};
}

std::string ModbusServer::open() {
  if (!settings_.line.empty()) {
    terminal_ = std::make_unique<PseudoTerminal>(settings_.line);
    context_ = modbus_new_rtu(settings_.line.c_str(), 19'200, 'E', 8, 1);
    modbus_set_slave(context_, settings_.unit);
    return settings_.line;
  }
  context_ = modbus_new_tcp(settings_.host.c_str(), settings_.port);
  listening_ = context_ ? modbus_tcp_listen(context_, 16) : -1;
  if (listening_ < 0)
    throw std::runtime_error(
        fmt::format("can't listen on {}:{}: {}", settings_.host, settings_.port, modbus_strerror(errno)));
  sockaddr_in address{};
  socklen_t size = sizeof address;
  getsockname(listening_, reinterpret_cast<sockaddr*>(&address), &size);
  return fmt::format("{}:{}", settings_.host, settings_.port = ntohs(address.sin_port));
}

/// Whether the equipment takes a write of several registers, or of one.
bool ModbusServer::accepts(const std::uint8_t* request, int size) const {
  const int header = modbus_get_header_length(context_);
  const std::uint8_t* pdu = request + header;
  constexpr std::uint8_t kWriteRegister = 0x06, kWriteRegisters = 0x10;
  const auto word = [&](int at) { return static_cast<std::uint16_t>(pdu[at] << 8 | pdu[at + 1]); };
  std::vector<std::uint16_t> values;
  if (size >= header + 5 && pdu[0] == kWriteRegister) values.push_back(word(3));
  if (size >= header + 6 && pdu[0] == kWriteRegisters)
    for (int i = 0; i < word(3) && size >= header + 8 + 2 * i; ++i) values.push_back(word(6 + 2 * i));
  return values.empty() || equipment_->accepts(word(1), values);
}

/// Function 43, which the library knows nothing of: it has read as far as the function (and on a line, two octets more,
/// which it takes for a checksum), and the rest of the request is here.
void ModbusServer::identify(int client, const std::uint8_t* request, int size) {
  const int header = modbus_get_header_length(context_), whole = header + 4 + (terminal_ ? 2 : 0);
  std::vector<std::uint8_t> asked(request, request + size);
  while (static_cast<int>(asked.size()) < whole) {
    std::uint8_t octet = 0;
    pollfd came{client, POLLIN, 0};
    if (::poll(&came, 1, kStepMs) <= 0 || ::read(client, &octet, 1) != 1) return;
    asked.push_back(octet);
  }
  std::vector<std::uint8_t> answer(asked.begin(), asked.begin() + header);
  const auto texts = equipment_->nameplate();
  constexpr std::uint8_t kBasic = 0x01;
  if (texts.empty()) {
    answer.insert(answer.end(), {0xAB, MODBUS_EXCEPTION_ILLEGAL_FUNCTION});
  } else {
    answer.insert(answer.end(), {0x2B, 0x0E, asked[static_cast<std::size_t>(header) + 2], kBasic, 0, 0,
                                 static_cast<std::uint8_t>(texts.size())});
    for (std::size_t i = 0; i < texts.size(); ++i) {
      answer.insert(answer.end(), {static_cast<std::uint8_t>(i), static_cast<std::uint8_t>(texts[i].size())});
      answer.insert(answer.end(), texts[i].begin(), texts[i].end());
    }
  }
  if (terminal_) {
    const std::uint16_t sum = lineChecksum(answer);
    answer.insert(answer.end(), {static_cast<std::uint8_t>(sum & 0xFF), static_cast<std::uint8_t>(sum >> 8)});
  } else {
    answer[5] = static_cast<std::uint8_t>(answer.size() - 6);
  }
  if (::write(client, answer.data(), answer.size()) < 0 && !terminal_) throw std::runtime_error("the client left");
}

void ModbusServer::serve(int client) {
  std::uint8_t request[MODBUS_TCP_MAX_ADU_LENGTH];
  modbus_set_socket(context_, client);
  const int size = modbus_receive(context_, request);
  const int header = modbus_get_header_length(context_);
  constexpr std::uint8_t kIdentify = 0x2B;
  if (size > 0 && request[header] == kIdentify) return identify(client, request, size);
  if (size < 0 && terminal_ && errno == EMBBADCRC && request[0] == settings_.unit && request[header] == kIdentify)
    return identify(client, request, header + 3);
  if (size < 0) {
    // Noise on a line is no reason to leave it.
    if (terminal_) return void(modbus_flush(context_));
    throw std::runtime_error("the client left");
  }
  if (size == 0) return;  // for another station
  equipment_->show(tables());
  if (!accepts(request, size))
    modbus_reply_exception(context_, request, MODBUS_EXCEPTION_ILLEGAL_DATA_VALUE);
  else
    modbus_reply(context_, request, size, mapping_);
  equipment_->obey(tables());
}

void ModbusServer::run() {
  using Clock = std::chrono::steady_clock;
  std::vector<pollfd> sockets{{listening_, POLLIN, 0}};
  if (terminal_) sockets.push_back({terminal_->descriptor(), POLLIN, 0});
  auto last = Clock::now();
  while (!stopping_) {
    ::poll(sockets.data(), sockets.size(), kStepMs);
    const auto now = Clock::now();
    equipment_->step(std::chrono::duration<double>(now - last).count() * settings_.speedup);
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
  if (terminal_) return;
  for (std::size_t i = 1; i < sockets.size(); ++i) ::close(sockets[i].fd);
}

}  // namespace zunth::sim
