#pragma once

#include "apps/sim/pseudo_terminal.hpp"

#include <atomic>
#include <chrono>
#include <cstdint>
#include <deque>
#include <memory>
#include <string>
#include <vector>

namespace zunth::sim {

/// The intake station by the brook, an outstation of DNP3 (IEEE 1815): events with their times in classes 1 and 2,
/// unsolicited where they are enabled. One master at a time.
///
///     binary 0         the pump runs                  analog 0         level of the brook, m
///     binary 1         the screen is blocked          analog 1         flow, L/s
///     double-bit 0     the gate: 1 shut, 2 open       counter 0        m³ pumped
///     binary-output 0  the pump, on or off            analog-output 0  how far the gate is to open, %
///     binary-output 1  moves the gate: a pulse on opens, a pulse off shuts; select before operate
class Outstation {
 public:
  struct Settings {
    std::string host = "127.0.0.1";
    int port = 20000;
    std::string line;  // a path for a pseudo-terminal, instead of host and port
    int address = 10, master = 1;
    double speedup = 1;
  };
  explicit Outstation(Settings settings) : settings_(std::move(settings)) {}
  ~Outstation();
  /// As ModbusServer::open().
  std::string open();
  void run();
  void stop() { stopping_ = true; }

 private:
  using Octets = std::vector<std::uint8_t>;
  struct Event {
    int group, variation, index, eventClass;
    Octets object;  // as it is sent, without its index
    bool isSent = false;
  };
  void step(double seconds);
  void note(int group, int variation, int index, int eventClass, Octets object);
  void read(const Octets& octets, int client);
  void handle(const Octets& fragment, int client);
  void respond(int client, int sequence, const Octets& objects, bool hasEvents);
  void sayUnsolicited(int client);
  Octets takeEvents(unsigned classes, std::size_t most);
  Octets statics() const;
  std::uint8_t operate(const Octets& control, bool isBinary, int index, bool isReally);
  void sendFragment(int client, const Octets& fragment);
  std::uint64_t now() const;

  Settings settings_;
  std::unique_ptr<PseudoTerminal> terminal_;
  int listening_ = -1;
  std::atomic<bool> stopping_{false};

  // The station
  double age_ = 0, level_ = 1.2, flow_ = 80, pumped_ = 0, goal_ = 60;
  bool pump_ = true, blocked_ = false;
  int gate_ = 2;
  double shownLevel_ = 0, shownFlow_ = 0, shownPumped_ = 0;

  // Its protocol
  bool hasRestarted_ = true, needsTime_ = true, hasOverflown_ = false;
  unsigned unsolicited_ = 0;  // classes, by bit
  int unsolicitedSequence_ = 0, transportSequence_ = 0;
  bool awaitsConfirm_ = false;
  std::chrono::steady_clock::time_point saidAt_{};
  std::int64_t clockOffset_ = 0;  // ms
  std::deque<Event> events_;
  Octets came_, fragment_, selected_;
};

}  // namespace zunth::sim
