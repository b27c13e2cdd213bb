#pragma once

#include "core/ua/json_type.hpp"

#include "tests/keys.hpp"
#include "tests/service/process.hpp"

namespace zunth::test {

using ua::Json;

/// A site with one drum filter, its simulator and its service, all on free ports.
class Plant {
 public:
  /// After ten seconds there is an alarm that the dead device doesn't answer.
  explicit Plant(bool hasDeadDevice = true) {
    startSimulator("0");
    placeKey(folder.path / "site/state/trust", "site");
    folder.write("site/site.yaml",
                 "name: Test\nuri: urn:fernhollow.example:test\nendpoint: opc.tcp://127.0.0.1:0\nsecurity:\n  "
                 "unsecured: on\n  anonymous: on\nnode-management: on\n");
    folder.write("site/model/plant.yaml", R"(namespace: http://fernhollow.example/test
objects:
  DF1:
    pressure: Float kPa 0..50
    speed: Float Hz 0..60
    speedGoal: Float Hz 0..60 writable
    serial: String property
    mode: Mode = Auto writable
    list: Int32[4] = [1, 2, 3, 4] writable
    feed: {is: Feed writable, starts: {grams: 400, mode: Auto}}
    wash(seconds UInt16) -> started Boolean: Clean it
  Gate:
    mode: Mode = Auto writable
    alarms: {idle: discrete mode when Off severity 600}
types:
  Mode: enum Off | Auto
  Feed: "struct { grams UInt32, why? String, mode Mode, times Double[] }"
)");
    folder.write("site/devices/filter.yaml", "driver: modbus-tcp\nport: " + simulatorPort + R"(
every: 100 ms
timeout: 500 ms
points:
  pressure: input 0 Float
  speed: input 2 Float
  washing: discrete 1
  speedGoal: holding 0 Float
  washSeconds: holding 2
  serial: holding 10 String 8
  startWash: coil 0
actions:
  wash:
    - washSeconds = input seconds
    - startWash = true
    - output started = washing
)");
    // The second device never answers; the first must not wait for it.
    if (hasDeadDevice)
      folder.write("site/devices/dead.yaml",
                   "driver: modbus-tcp\nhost: 127.0.0.1\nport: 1\ntimeout: 5 s\npoints:\n  x: input 0\n");
    folder.write("site/bindings/all.yaml", R"(bindings:
  DF1/pressure: filter/pressure
  DF1/speed: filter/speed
  DF1/speedGoal: filter/speedGoal
  DF1/serial: filter/serial
  DF1/wash(): filter/wash
)");
    service = std::make_unique<Process>(
        std::vector<std::string>{program("zunthd"), (folder.path / "site").string(), "--log", "off"});
    const std::string line = service->line();
    url = line.substr(line.find("opc.tcp"));
  }
  void startSimulator(const std::string& port) {
    simulator = std::make_unique<Process>(
        std::vector<std::string>{program("zunth-sim"), "drum-filter", "--port", port, "--speedup", "4"});
    const std::string line = simulator->line();
    simulatorPort = line.substr(line.rfind(':') + 1);
  }
  /// Without a server to go to.
  Outcome zunthAlone(const std::string& arguments) const {
    return run(program("zunth") + " " + arguments, folder.path);
  }
  Outcome zunth(const std::string& arguments) const {
    return run(program("zunth") + " " + arguments + " --at " + url, folder.path);
  }
  /// Waits until watch tells of a value of this kind.
  bool watchUntil(const std::string& node, const std::function<bool(const Json&)>& wanted) const {
    Process watch(
        {program("zunth"), "watch", node, "--interval", "50", "--output", "json", "--for", "30", "--at", url});
    for (std::string line = watch.line(); !line.empty(); line = watch.line())
      if (wanted(Json::parse(line))) return true;
    return false;
  }

  TemporaryFolder folder;
  std::unique_ptr<Process> simulator, service;
  std::string simulatorPort, url;
};

}  // namespace zunth::test
