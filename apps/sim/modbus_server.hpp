#pragma once

#include "apps/sim/drum_filter.hpp"

#include <atomic>
#include <string>

struct _modbus;
struct _modbus_mapping_t;

namespace zunth::sim {

/// A drum filter behind Modbus TCP. Any number of clients, one thread.
///
///     input    0 Float   pressure, kPa          discrete 0  running
///     input    2 Float   speed, Hz              discrete 1  washing
///     input    4 UInt16  inflow, 0.1 L/min      coil     0  start a wash
///     input    5 Int16   temperature, 0.01 °C   coil     1  run
///     input    6 UInt32  washes so far          holding  0 Float   speed setpoint, Hz (0 to 50, else refused)
///     input    8 UInt16  alarms, bit 0: over pressure
///     holding 10 String  serial, 8 registers    holding  2 UInt16  seconds of the next wash
class ModbusServer {
 public:
  /// `speedup`: simulated seconds in one real second.
  ModbusServer(std::string host, int port, std::string serial, double speedup);
  ~ModbusServer();

  /// The port it listens on (a free one when 0 was asked for); throws std::runtime_error when it can't.
  int listen();
  /// Serves until stop().
  void run();
  void stop() { stopping_ = true; }

 private:
  void show();
  bool accepts(const std::uint8_t* request, int size) const;
  void obey();
  void serve(int client);

  std::string host_;
  int port_;
  std::string serial_;
  double speedup_;
  DrumFilter filter_;
  _modbus* context_ = nullptr;
  _modbus_mapping_t* mapping_ = nullptr;
  int listening_ = -1;
  std::atomic<bool> stopping_{false};
};

}  // namespace zunth::sim
