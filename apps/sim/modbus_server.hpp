#pragma once

#include "apps/sim/equipment.hpp"
#include "apps/sim/pseudo_terminal.hpp"

#include <atomic>
#include <memory>
#include <string>
#include <vector>

struct _modbus;
struct _modbus_mapping_t;
struct pollfd;

namespace zunth::sim {

/// Equipment behind Modbus: TCP with any number of clients, or RTU on a pseudo-terminal. One thread.
class ModbusServer {
 public:
  struct Settings {
    std::string host = "127.0.0.1";
    int port = 5502;
    std::string line;    // a path for a pseudo-terminal, instead of host and port
    int unit = 1;        // on a line
    double speedup = 1;  // simulated seconds in one real second
  };
  ModbusServer(std::unique_ptr<Equipment> equipment, Settings settings);
  ~ModbusServer();

  /// Where it is reached: "127.0.0.1:5502" (a free port when 0 was asked for) or the line's path. Throws
  /// std::runtime_error when it can't listen.
  std::string open();
  /// Serves until stop().
  void run();
  void stop() { stopping_ = true; }

 private:
  Tables tables() const;
  bool accepts(const std::uint8_t* request, int size) const;
  void serve(int client);
  void identify(int client, const std::uint8_t* request, int size);

  std::unique_ptr<Equipment> equipment_;
  Settings settings_;
  std::unique_ptr<PseudoTerminal> terminal_;
  _modbus* context_ = nullptr;
  _modbus_mapping_t* mapping_ = nullptr;
  int listening_ = -1;
  std::atomic<bool> stopping_{false};
};

}  // namespace zunth::sim
