#pragma once

#include "service/device/modbus_points.hpp"

struct _modbus;

namespace zunth::device::modbus {

struct Settings {
  std::string host = "127.0.0.1";
  std::uint16_t port = 502;
  std::uint8_t unit = 1;  // the station behind a gateway; 1 where there is none
  double timeout = 1000;  // ms, of connecting and of each answer
  std::uint16_t gap = 8;  // registers or bits between points that are read along
};

/// Modbus TCP through libmodbus.
class ModbusDriver final : public Driver {
 public:
  ModbusDriver(Settings settings, std::vector<ModbusPoint> points);
  ~ModbusDriver() override;

  const std::vector<Point>& points() const override { return names_; }
  ua::Result<void> connect() override;
  void disconnect() override;
  ua::Result<std::vector<ua::DataValue>> read(std::span<const PointIndex> points) override;
  ua::Result<Outcome> write(PointIndex point, const ua::Variant& value) override;

 private:
  struct Answer {
    ua::StatusCode refusal;  // Good, or what the device has against it (an exception of the protocol)
  };
  /// Fails when the connection is lost.
  ua::Result<Answer> request(const ReadRequest& request, std::vector<std::uint16_t>& registers);
  ua::Error lost(const char* doing) const;

  Settings settings_;
  std::vector<ModbusPoint> points_;
  std::vector<Point> names_;
  _modbus* context_ = nullptr;
  std::vector<PointIndex> planned_;  // what requests_ reads
  std::vector<ReadRequest> requests_;
};

}  // namespace zunth::device::modbus
