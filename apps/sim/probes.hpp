#pragma once

#include <atomic>
#include <string>
#include <vector>

struct mosquitto;
struct mosquitto_message;

namespace zunth::sim {

/// Oxygen probes that speak MQTT, one over each tank, behind a gateway that says whether it is there:
///
///     BASE/state            online, or offline as its last will; kept by the broker
///     BASE/TANK/reading     {"oxygen": 9.12, "temperature": 11.4, "battery": 96.5, "at": "2026-05-04T07:30:00Z"}
///     BASE/TANK/air         on or off: whether air is blown in; kept by the broker
///     BASE/TANK/air/set     on or off, to switch it
class Probes {
 public:
  struct Settings {
    std::string host = "127.0.0.1";
    int port = 1883;
    std::string base = "probes";
    std::vector<std::string> tanks{"a1", "a2", "a3", "a4"};
    double speedup = 1;
  };
  explicit Probes(Settings settings);
  ~Probes();
  Probes(const Probes&) = delete;

  /// Throws std::runtime_error when the broker doesn't take it within ten seconds.
  void open();
  void run();
  void stop() { stopping_ = true; }

 private:
  struct Tank {
    std::string name;
    double oxygen = 9, age = 0;  // mg/L, s
    bool air = false;
  };
  void publish(const std::string& topic, const std::string& payload, bool isKept);
  void greet();
  static void connected(mosquitto*, void* self, int code);
  static void arrived(mosquitto*, void* self, const mosquitto_message* message);

  Settings settings_;
  std::vector<Tank> tanks_;
  mosquitto* client_;
  std::atomic<bool> stopping_{false}, isThere_{false};
};

}  // namespace zunth::sim
