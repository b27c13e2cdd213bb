#include "apps/sim/probes.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <stdexcept>
#include <thread>

#include <fmt/chrono.h>
#include <fmt/format.h>
#include <mosquitto.h>

namespace zunth::sim {

namespace {

std::string timeNow() {
  const auto now = std::chrono::system_clock::now();
  const auto seconds = std::chrono::floor<std::chrono::seconds>(now);
  const auto left = std::chrono::duration_cast<std::chrono::milliseconds>(now - seconds).count();
  return fmt::format("{:%Y-%m-%dT%H:%M:%S}.{:03}Z", fmt::gmtime(std::chrono::system_clock::to_time_t(seconds)), left);
}

}  // namespace

Probes::Probes(Settings settings) : settings_(std::move(settings)) {
  for (const auto& name : settings_.tanks) tanks_.push_back({name, 9, 7.0 * static_cast<double>(tanks_.size()), false});
  mosquitto_lib_init();
  client_ = mosquitto_new(nullptr, true, this);
  mosquitto_will_set(client_, (settings_.base + "/state").c_str(), 7, "offline", 1, true);
  mosquitto_connect_callback_set(client_, connected);
  mosquitto_message_callback_set(client_, arrived);
}

Probes::~Probes() {
  mosquitto_destroy(client_);
  mosquitto_lib_cleanup();
}

/// %, of a probe: it lasts two months, and is changed then.
static double batteryOf(double age) { return 97 - std::fmod(age / 86'400 * 1.6, 97); }

void Probes::publish(const std::string& topic, const std::string& payload, bool isKept) {
  mosquitto_publish(client_, nullptr, (settings_.base + "/" + topic).c_str(), static_cast<int>(payload.size()),
                    payload.data(), 1, isKept);
}

/// What is to be known as soon as the broker takes it.
void Probes::greet() {
  mosquitto_subscribe(client_, nullptr, (settings_.base + "/+/air/set").c_str(), 1);
  publish("state", "online", true);
  for (const auto& tank : tanks_) publish(tank.name + "/air", tank.air ? "on" : "off", true);
}

void Probes::connected(mosquitto*, void* self, int code) {
  auto& probes = *static_cast<Probes*>(self);
  probes.isThere_ = code == 0;
  if (code == 0) probes.greet();
}

void Probes::arrived(mosquitto*, void* self, const mosquitto_message* message) {
  auto& probes = *static_cast<Probes*>(self);
  const std::string topic = message->topic;
  const std::string payload(static_cast<const char*>(message->payload), static_cast<std::size_t>(message->payloadlen));
  for (auto& tank : probes.tanks_)
    if (topic == probes.settings_.base + "/" + tank.name + "/air/set" && (payload == "on" || payload == "off")) {
      tank.air = payload == "on";
      probes.publish(tank.name + "/air", payload, true);
    }
}

void Probes::open() {
  const auto deadline = std::chrono::steady_clock::now() + std::chrono::seconds(10);
  while (!stopping_ && mosquitto_connect(client_, settings_.host.c_str(), settings_.port, 5) != MOSQ_ERR_SUCCESS) {
    if (std::chrono::steady_clock::now() > deadline)
      throw std::runtime_error(fmt::format("there is no broker at {}:{}", settings_.host, settings_.port));
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  while (!stopping_ && !isThere_ && std::chrono::steady_clock::now() < deadline) mosquitto_loop(client_, 50, 1);
  if (!isThere_) throw std::runtime_error("the broker refuses the probes");
}

void Probes::run() {
  using Clock = std::chrono::steady_clock;
  auto last = Clock::now(), told = last - std::chrono::seconds(1);
  while (!stopping_) {
    if (mosquitto_loop(client_, 50, 1) != MOSQ_ERR_SUCCESS) {
      isThere_ = false;
      std::this_thread::sleep_for(std::chrono::milliseconds(200));
      mosquitto_reconnect(client_);
    }
    const auto now = Clock::now();
    const double seconds = std::chrono::duration<double>(now - last).count() * settings_.speedup;
    last = now;
    for (auto& tank : tanks_) {
      tank.age += seconds;
      // Fish breathe, the water brings some, and air brings more.
      const double towards = tank.air ? 11.2 : 8.2 + 0.8 * std::sin(tank.age / 50);
      tank.oxygen += (towards - tank.oxygen) * (1 - std::exp(-seconds / 15));
    }
    if (now - told < std::chrono::seconds(1)) continue;
    told = now;
    for (const auto& tank : tanks_)
      publish(tank.name + "/reading",
              fmt::format(R"({{"oxygen": {:.2f}, "temperature": {:.1f}, "battery": {:.1f}, "at": "{}"}})", tank.oxygen,
                          11.4 + 0.2 * std::sin(tank.age / 90), batteryOf(tank.age), timeNow()),
              false);
  }
  publish("state", "offline", true);
  mosquitto_loop(client_, 50, 1);
  mosquitto_disconnect(client_);
}

}  // namespace zunth::sim
