#pragma once

#include "core/ua/json_type.hpp"

#include <map>

#include "tests/keys.hpp"
#include "tests/service/broker.hpp"
#include <catch2/catch.hpp>

namespace zunth::test {

using ua::Json;

/// The demo's plant with all of its devices, on ports of its own.
class Hatchery {
 public:
  /// With the devices of the demo, or with those that its files alone describe.
  explicit Hatchery(bool areTheirOwn = true) {
    std::filesystem::copy(std::string(ZUNTH_SOURCE_DIR) + "/demo/hatchery", site(),
                          std::filesystem::copy_options::recursive);
    placeKey(site() / "state/trust", "site");
    for (const char* port : {"5502", "5503", "4001", "4002", "20000", "5510"}) ports[port] = std::to_string(freePort());
    // All in one go, as a free port may have the number of another in it.
    auto changes = ports;
    changes["18830"] = std::to_string(broker.port);
    changes["opc.tcp://127.0.0.1:4840"] = "opc.tcp://127.0.0.1:0";
    changes["http://127.0.0.1:8046"] = "http://127.0.0.1:0";
    replace(changes);
    if (areTheirOwn)
      startDevices();
    else
      start("all", {"site", site().string()});
    startService();
  }
  void startService() {
    service = std::make_unique<Process>(std::vector<std::string>{program("zunthd"), site().string(), "--log", "off"});
    const std::string line = service->line();
    url = line.substr(line.find("opc.tcp"));
    const std::string page = service->line();
    console = page.substr(page.find("http"));
    const std::string first = service->line();
    code = first.substr(first.rfind(' ') + 1);
  }
  void startDevices() {
    start("filter-DF1", {"drum-filter", "--port", ports["5502"], "--speedup", "4"});
    start("filter-DF2", {"drum-filter", "--port", ports["5503"]});
    start("feeder-line", {"feeder", "--line", (site() / "feeder-line").string(), "--unit", "3"});
    start("scale", {"scale", "--port", ports["4001"]});
    start("ph-meter", {"ph-meter", "--port", ports["4002"]});
    start("intake-station", {"outstation", "--port", ports["20000"]});
    startProbes();
  }
  std::filesystem::path site() const { return folder.path / "site"; }
  void start(const std::string& device, std::vector<std::string> command) {
    command.insert(command.begin(), program("zunth-sim"));
    auto& process = devices[device] = std::make_unique<Process>(command);
    REQUIRE(!process->line().empty());
  }
  void startProbes() {
    start("probes", {"probes", "--broker", broker.address(), "--tanks", "A1,A2,A3,A4,B1,B2,B3,B4"});
  }
  Outcome zunth(const std::string& arguments) const {
    return run(program("zunth") + " " + arguments + " --at " + url, folder.path);
  }
  Outcome zunthAlone(const std::string& arguments) const {
    return run(program("zunth") + " " + arguments, folder.path);
  }
  Json read(const std::string& node) const { return Json::parse(zunth("read '" + node + "' --output json").out)[0]; }
  /// Writes to a device, again where a machine that is busy with others let it time out.
  bool write(const std::string& node, const std::string& value) const {
    for (int tries = 0; tries < 10; ++tries)
      if (zunth("write '" + node + "=" + value + "'").code == 0) return true;
    return false;
  }
  /// Waits until a value is as wanted.
  bool becomes(const std::string& node, const std::function<bool(const Json&)>& wanted) const {
    Process watch(
        {program("zunth"), "watch", node, "--interval", "50", "--output", "json", "--for", "30", "--at", url});
    for (std::string line = watch.line(30'000); !line.empty(); line = watch.line(30'000))
      if (wanted(Json::parse(line))) return true;
    return false;
  }

  Broker broker;
  TemporaryFolder folder;
  std::map<std::string, std::string> ports;
  std::map<std::string, std::unique_ptr<Process>> devices;
  std::unique_ptr<Process> service;
  std::string url, console, code;  // the last makes the first administrator at the console

 private:
  void replace(const std::map<std::string, std::string>& changes) const {
    for (const auto& entry : std::filesystem::recursive_directory_iterator(site())) {
      if (entry.path().extension() != ".yaml") continue;
      std::ifstream in(entry.path());
      std::string text{std::istreambuf_iterator<char>(in), {}};
      for (std::size_t at = 0; at < text.size(); ++at)
        for (const auto& [what, with] : changes)
          if (text.compare(at, what.size(), what) == 0) {
            text.replace(at, what.size(), with);
            at += with.size() - 1;
            break;
          }
      std::ofstream(entry.path()) << text;
    }
  }
};

}  // namespace zunth::test
