#pragma once

#include "service/device/driver_kinds.hpp"
#include "service/device/modbus_frames.hpp"
#include "service/device/modbus_line.hpp"
#include "service/device/station.hpp"

#include <map>

namespace zunth::device::modbus {

struct Settings {
  LineAddress at;
  std::uint8_t unit = 1;  // the station behind a gateway; 1 where there is none
  double timeout = 1000;  // ms, of connecting and of each answer
  std::uint16_t gap = 8;  // registers or bits between points that are read along
};

/// What the file of a device says, of either kind (docs/devices.md).
Settings readSettings(const DeviceText& text, bool isSerial, model::Findings& findings);
DriverSetup readTcpDevice(const DeviceText& text, model::Findings& findings);
DriverSetup readSerialDevice(const DeviceText& text, model::Findings& findings);

/// A unit that speaks Modbus, over TCP or a serial line.
class ModbusStation final : public Station {
 public:
  ModbusStation(Settings settings, std::vector<ModbusPoint> points);

  const std::vector<Point>& points() const override { return names_; }
  /// Connected is who answers: the unit, not only the gateway before it.
  ua::Result<void> connect() override;
  void disconnect() override { isConnected_ = false; }
  ua::Result<std::vector<ua::DataValue>> read(std::span<const PointIndex> points) override;
  ua::Result<Outcome> write(const PointWrite& write) override;
  ua::Result<Explained> explain(PointIndex point) override;

 private:
  ua::Result<Answer> exchange(ua::BytesView request);
  ua::Result<Answer> writeRegisters(const Place& place, std::span<const std::uint16_t> registers);
  ua::Result<Answer> writeBit(const Place& place, int bit, bool on);
  std::vector<ReadRequest> halves(const ReadRequest& request) const;

  Settings settings_;
  std::shared_ptr<Line> line_;
  std::vector<ModbusPoint> points_;
  std::vector<Point> names_;
  bool isConnected_ = false;
  // What the unit taught since it was connected to.
  bool lacksWriteOne_ = false, lacksWriteSeveral_ = false, lacksMask_ = false;
  /// How sets of points that were asked for are read.
  std::map<std::vector<PointIndex>, std::vector<ReadRequest>> plans_;
};

}  // namespace zunth::device::modbus
