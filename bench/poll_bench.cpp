// What a poll of a Modbus device takes, beside the same requests by libmodbus alone; and how long a change at a device
// is on its way to a client, beyond the publishing interval that it has to wait for.
#include "service/device/modbus_station.hpp"

#include <algorithm>
#include <random>

#include "bench/hand.hpp"
#include "bench/loopback.hpp"
#include <benchmark/benchmark.h>
#include <fmt/format.h>
#include <modbus/modbus.h>
#include <spdlog/spdlog.h>
#include <sys/socket.h>

using namespace zunth;
using namespace zunth::ua;
using namespace zunth::device;
using namespace zunth::bench;

namespace {

constexpr int kRegisters = 1'000, kAtOnce = 125;

/// A unit that libmodbus plays, on a thread of its own.
class Unit {
 public:
  Unit() : context_(modbus_new_tcp("127.0.0.1", 0)), mapping_(modbus_mapping_new(0, 0, kRegisters, 0)) {
    listener_ = modbus_tcp_listen(context_, 1);
    sockaddr_in address{};
    socklen_t size = sizeof address;
    ::getsockname(listener_, reinterpret_cast<sockaddr*>(&address), &size);
    port = ntohs(address.sin_port);
    thread_ = std::thread([this] {
      while (modbus_tcp_accept(context_, &listener_) >= 0) {
        std::uint8_t query[MODBUS_TCP_MAX_ADU_LENGTH];
        for (int length = 0; (length = modbus_receive(context_, query)) >= 0;)
          modbus_reply(context_, query, length, mapping_);
        modbus_close(context_);
      }
    });
  }
  ~Unit() {
    ::shutdown(listener_, SHUT_RDWR);
    thread_.join();
    ::close(listener_);
    modbus_mapping_free(mapping_);
    modbus_free(context_);
  }
  std::uint16_t port = 0;

 private:
  modbus_t* context_;
  modbus_mapping_t* mapping_;
  int listener_ = -1;
  std::thread thread_;
};

void pollUnit(benchmark::State& state) {
  const Unit unit;
  modbus::Settings settings;
  settings.at.port = unit.port;
  std::vector<modbus::ModbusPoint> points;
  std::vector<PointIndex> all;
  for (int i = 0; i < kRegisters; ++i) {
    model::Findings findings;
    Conversion conversion;
    points.push_back(*modbus::parsePoint({fmt::format("p{}", i), {}}, {fmt::format("holding {}", i), {"d", 1, 1, 1}},
                                         conversion, findings));
    all.push_back(all.size());
  }
  {
    modbus::ModbusStation station(settings, points);
    if (!station.connect()) return state.SkipWithError("the unit is not there");
    for (auto _ : state)
      if (const auto values = station.read(all); !values || values->back().status.isBad())
        return state.SkipWithError("it was not read");
  }
  state.SetItemsProcessed(state.iterations() * kRegisters);
}
BENCHMARK(pollUnit)->Name("devices/1000 registers of a Modbus unit read over loopback")->UseRealTime();

void pollUnitFloor(benchmark::State& state) {
  const Unit unit;
  modbus_t* client = modbus_new_tcp("127.0.0.1", unit.port);
  if (modbus_connect(client) != 0) return state.SkipWithError("the unit is not there");
  std::vector<std::uint16_t> registers(kRegisters);
  for (auto _ : state)
    for (int at = 0; at < kRegisters; at += kAtOnce)
      if (modbus_read_registers(client, at, kAtOnce, registers.data() + at) != kAtOnce)
        state.SkipWithError("it was not read");
  modbus_close(client);
  modbus_free(client);
  state.SetItemsProcessed(state.iterations() * kRegisters);
}
BENCHMARK(pollUnitFloor)->Name("devices/floor: the same requests by libmodbus alone")->UseRealTime();

/// Changes at random moments, each measured from the driver's thread to the client's decoded notification.
void changeToClient(benchmark::State& state) {
  constexpr double kInterval = 50;  // ms of publishing
  spdlog::set_level(spdlog::level::off);
  LoopbackServer server(1);
  space::Owners owners;
  std::shared_ptr<BoundDevices> devices;
  Hand* driver = nullptr;
  server.thread().run([&] {
    devices = std::make_shared<BoundDevices>(
        *server.space, owners,
        BoundDevices::Loop{[&](std::function<void()> work) { asio::post(server.thread().loop, std::move(work)); },
                           [&] { server.served(); }});
    DeviceFile file;
    file.name = "line";
    const std::vector<Point> points{{"level", BuiltInType::Double, false, "hand"}};
    file.points.push_back({points.front(), {}});
    file.makeDriver = [&driver, points] {
      auto made = std::make_unique<Hand>(points);
      driver = made.get();
      return made;
    };
    std::vector<DeviceFile> files;
    files.push_back(std::move(file));
    Bindings bindings;
    bindings.variables.push_back({server.space->find(NodeId(1, 1000)), 0, 0});
    devices->rebind(std::move(files), bindings);
    devices->start();
  });
  BlockingClient client(server.url);
  CreateSubscriptionRequest create;
  create.requestedPublishingInterval = kInterval;
  create.requestedMaxKeepAliveCount = 10'000;
  create.requestedLifetimeCount = 100'000;
  create.publishingEnabled = true;
  CreateMonitoredItemsRequest items;
  items.subscriptionId = client.call(create).subscriptionId;
  MonitoredItemCreateRequest item;
  item.itemToMonitor = {NodeId(1, 1000), 13, {}, {}};
  item.monitoringMode = MonitoringMode::Reporting;
  item.requestedParameters.queueSize = 10;
  items.itemsToCreate.push_back(item);
  client.call(items);
  client.send(PublishRequest{});
  client.await();  // the first value
  std::mt19937 dice(7);
  std::vector<double> beyond;  // ms
  double number = 100;
  for (auto _ : state) {
    client.send(PublishRequest{});
    std::this_thread::sleep_for(std::chrono::microseconds(dice() % 60'000));
    const auto begun = std::chrono::steady_clock::now();
    driver->sink->samples({{0, DataValue(Variant(++number), DateTime{static_cast<std::int64_t>(number)})}});
    client.await();
    const std::chrono::duration<double> took = std::chrono::steady_clock::now() - begun;
    state.SetIterationTime(took.count());
    beyond.push_back(took.count() * 1e3 - kInterval);
  }
  server.thread().run([&] {
    devices->stop();
    devices.reset();
  });
  std::ranges::sort(beyond);
  state.counters["ms beyond the interval, 99th percentile"] = beyond[beyond.size() * 99 / 100];
  state.counters["worst"] = beyond.back();
}
BENCHMARK(changeToClient)
    ->Name("devices/a change, from the driver to a client that publishes each 50 ms")
    ->UseManualTime()
    ->Unit(benchmark::kMillisecond)
    ->Iterations(400);

}  // namespace
