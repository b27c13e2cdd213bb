#pragma once

#include <atomic>
#include <functional>
#include <map>
#include <string>

struct mosquitto;

namespace zunth::sim {

/// Sends what a device says through a broker each second, and comes back when the broker does.
class Publisher {
 public:
  struct Settings {
    std::string host;
    int port;
    std::string aliveTopic, alivePayload;  // kept by the broker; empty for none
  };
  using Says = std::function<std::map<std::string, std::string>()>;  // payloads by topic
  Publisher(Settings settings, Says says);
  ~Publisher();
  Publisher(const Publisher&) = delete;

  void run();
  void stop() { stopping_ = true; }

 private:
  void publish(const std::string& topic, const std::string& payload, bool isKept);
  Settings settings_;
  Says says_;
  mosquitto* client_;
  std::atomic<bool> stopping_{false};
};

}  // namespace zunth::sim
