#include "apps/sim/publisher.hpp"

#include <chrono>
#include <thread>

#include <mosquitto.h>

namespace zunth::sim {

Publisher::Publisher(Settings settings, Says says) : settings_(std::move(settings)), says_(std::move(says)) {
  mosquitto_lib_init();
  client_ = mosquitto_new(nullptr, true, this);
  if (!settings_.aliveTopic.empty()) mosquitto_will_set(client_, settings_.aliveTopic.c_str(), 7, "offline", 1, true);
}

Publisher::~Publisher() { mosquitto_destroy(client_); }

void Publisher::publish(const std::string& topic, const std::string& payload, bool isKept) {
  mosquitto_publish(client_, nullptr, topic.c_str(), static_cast<int>(payload.size()), payload.data(), 1, isKept);
}

void Publisher::run() {
  using Clock = std::chrono::steady_clock;
  constexpr auto kBeat = std::chrono::seconds(1);
  bool isThere = false;
  auto said = Clock::now() - kBeat;
  while (!stopping_) {
    if (!isThere) {
      isThere = mosquitto_connect(client_, settings_.host.c_str(), settings_.port, 5) == MOSQ_ERR_SUCCESS;
      if (!isThere)
        std::this_thread::sleep_for(std::chrono::milliseconds(200));
      else if (!settings_.aliveTopic.empty())
        publish(settings_.aliveTopic, settings_.alivePayload, true);
      continue;
    }
    isThere = mosquitto_loop(client_, 50, 1) == MOSQ_ERR_SUCCESS;
    if (!isThere || Clock::now() - said < kBeat) continue;
    said = Clock::now();
    for (const auto& [topic, payload] : says_()) publish(topic, payload, false);
  }
  if (isThere) mosquitto_disconnect(client_);
}

}  // namespace zunth::sim
