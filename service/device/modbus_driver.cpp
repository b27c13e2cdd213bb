#include "service/device/modbus_driver.hpp"

#include <algorithm>
#include <cerrno>

#include <fmt/format.h>
#include <modbus.h>

namespace zunth::device::modbus {

using namespace ua;

namespace {

/// What a device's exception means for the one who asked (Modbus application protocol, section 7); Good when `number`
/// is no exception of the protocol.
StatusCode refusalOf(int number) {
  switch (number) {
    case EMBXILADD: return status::BadNodeIdUnknown;
    case EMBXILVAL: return status::BadOutOfRange;
    case EMBXILFUN: return status::BadNotSupported;
    case EMBXSBUSY:
    case EMBXACK: return status::BadResourceUnavailable;
    case EMBXSFAIL:
    case EMBXNACK:
    case EMBXMEMPAR: return status::BadDeviceFailure;
    case EMBXGPATH:
    case EMBXGTAR: return status::BadNoCommunication;
    default: return status::Good;
  }
}

std::uint32_t microseconds(double ms) { return static_cast<std::uint32_t>(ms * 1000); }

}  // namespace

ModbusDriver::ModbusDriver(Settings settings, std::vector<ModbusPoint> points)
    : settings_(std::move(settings)), points_(std::move(points)) {
  for (const auto& p : points_) names_.push_back(p.point);
}

ModbusDriver::~ModbusDriver() { disconnect(); }

Error ModbusDriver::lost(const char* doing) const {
  return {status::BadNoCommunication,
          fmt::format("{} {}:{} failed: {}", doing, settings_.host, settings_.port, modbus_strerror(errno)),
          "look whether the device is on and its address is right"};
}

Result<void> ModbusDriver::connect() {
  disconnect();
  context_ = modbus_new_tcp_pi(settings_.host.c_str(), std::to_string(settings_.port).c_str());
  if (!context_) return lost("the address");
  const std::uint32_t us = microseconds(settings_.timeout);
  modbus_set_response_timeout(context_, us / 1'000'000, us % 1'000'000);
  modbus_set_slave(context_, settings_.unit);
  if (modbus_connect(context_) != 0) {
    const Error error = lost("connecting to");
    disconnect();
    return error;
  }
  return {};
}

void ModbusDriver::disconnect() {
  if (!context_) return;
  modbus_close(context_);
  modbus_free(context_);
  context_ = nullptr;
}

Result<ModbusDriver::Answer> ModbusDriver::request(const ReadRequest& request, std::vector<std::uint16_t>& registers) {
  registers.assign(request.count, 0);
  int read = -1;
  if (isBits(request.table)) {
    std::vector<std::uint8_t> bits(request.count);
    read = request.table == Table::Coil ? modbus_read_bits(context_, request.first, request.count, bits.data())
                                        : modbus_read_input_bits(context_, request.first, request.count, bits.data());
    std::ranges::copy(bits, registers.begin());
  } else {
    read = request.table == Table::InputRegister
               ? modbus_read_input_registers(context_, request.first, request.count, registers.data())
               : modbus_read_registers(context_, request.first, request.count, registers.data());
  }
  if (read == request.count) return Answer{status::Good};
  const StatusCode refusal = refusalOf(errno);
  if (refusal.isBad()) return Answer{refusal};
  return lost("reading from");
}

Result<std::vector<DataValue>> ModbusDriver::read(std::span<const PointIndex> wanted) {
  if (!context_) return Error{status::BadNoCommunication, "the device is not connected", {}};
  const bool isPlanned = std::ranges::equal(wanted, planned_);
  std::vector<ReadRequest> requests = isPlanned ? std::move(requests_) : plan(points_, wanted, settings_.gap);
  std::vector<DataValue> byPoint(points_.size());
  std::vector<std::uint16_t> registers;
  std::vector<ReadRequest> done;
  for (std::size_t i = 0; i < requests.size(); ++i) {
    const ReadRequest next = requests[i];
    auto answer = request(next, registers);
    if (!answer) {
      planned_.clear();  // the plan was taken out and is not whole any more
      return answer.error();
    }
    // A device may refuse a whole run for one address in it: then each point goes alone, from now on.
    if (answer->refusal.isBad() && next.points.size() > 1) {
      for (PointIndex point : next.points)
        requests.push_back({next.table, points_[point].place.address, points_[point].place.count, {point}});
      continue;
    }
    const DateTime now = DateTime::from(std::chrono::system_clock::now());
    for (PointIndex point : next.points) {
      const Place& place = points_[point].place;
      byPoint[point] =
          answer->refusal.isBad()
              ? DataValue(Variant(), now, answer->refusal)
              : DataValue(decode(place, std::span(registers).subspan(place.address - next.first, place.count)), now);
    }
    done.push_back(next);
  }
  if (wanted.size() > 1) {
    planned_.assign(wanted.begin(), wanted.end());
    requests_ = std::move(done);
  } else if (isPlanned) {
    requests_ = std::move(done);
  }
  std::vector<DataValue> values;
  for (PointIndex point : wanted) values.push_back(std::move(byPoint[point]));
  return values;
}

Result<Driver::Outcome> ModbusDriver::write(PointIndex index, const Variant& value) {
  if (!context_) return Error{status::BadNoCommunication, "the device is not connected", {}};
  const Place& place = points_[index].place;
  Outcome outcome;
  if (!points_[index].point.isWritable) {
    outcome.error = {
        status::BadNotWritable, fmt::format("the point {} can't be written", points_[index].point.name), {}};
    return outcome;
  }
  auto registers = encode(place, value);
  if (!registers) {
    outcome.error = registers.error();
    return outcome;
  }
  int written = -1;
  if (place.table == Table::Coil)
    written = modbus_write_bit(context_, place.address, registers->front() != 0);
  else if (registers->size() == 1)
    written = modbus_write_register(context_, place.address, registers->front());
  else
    written = modbus_write_registers(context_, place.address, static_cast<int>(registers->size()), registers->data());
  if (written >= 1) return outcome;
  const StatusCode refusal = refusalOf(errno);
  if (!refusal.isBad()) return lost("writing to");
  outcome.error = {refusal,
                   fmt::format("the device refuses {} for {}: {}", registers->front(), points_[index].point.name,
                               modbus_strerror(errno)),
                   {}};
  return outcome;
}

}  // namespace zunth::device::modbus
