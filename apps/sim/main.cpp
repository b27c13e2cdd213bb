// zunth-sim: simulated devices, for demos, tests and trying things out without hardware.
#include "apps/arguments/verb.hpp"
#include "apps/sim/machines.hpp"
#include "apps/sim/modbus_server.hpp"
#include "apps/sim/outstation.hpp"
#include "apps/sim/probes.hpp"
#include "apps/sim/site_plant.hpp"
#include "apps/sim/text_server.hpp"

#include <csignal>
#include <cstdio>
#include <functional>
#include <sstream>

namespace {

std::function<void()> stopRunning;

/// Runs one until it is told to stop. The first line of output says that it is ready, and where.
template <class Server>
void serve(Server& server, const std::string& name, const std::string& where) {
  stopRunning = [&server] { server.stop(); };
  for (const int signal : {SIGINT, SIGTERM}) std::signal(signal, [](int) { stopRunning(); });
  std::printf("%s at %s\n", name.c_str(), where.c_str());
  std::fflush(stdout);
  server.run();
}

/// What all devices that listen have.
struct Place {
  std::string host = "127.0.0.1", line;
  int port = 0;
  double speedup = 1;

  void offer(const zunth::cli::Verb& verb) {
    verb.option("--host", host, "Address to listen on").showsDefault();
    verb.option("--port", port, "Port to listen on; 0 takes a free one").showsDefault().range(0, 65535);
    verb.option("--line", line, "A serial line instead: a path at which a pseudo-terminal is made");
    verb.option("--speedup", speedup, "Simulated seconds in one real second").showsDefault().range(0.01, 1000);
  }
  template <class Settings>
  Settings settings() const {
    Settings out;
    out.host = host;
    out.port = port;
    out.line = line;
    out.speedup = speedup;
    return out;
  }
};

}  // namespace

int main(int argc, char** argv) {
  using namespace zunth::sim;
  const zunth::cli::CommandLine commandLine("Simulates a device.\nExample: zunth-sim drum-filter --port 5502",
                                            "zunth-sim", "Each says where it is when it is ready.");
  const auto app = commandLine.top();
  std::string serial = "FH-DF-0001", broker = "127.0.0.1:1883";
  int unit = 1;
  bool saysByItself = false;
  Place filterPlace, feederPlace, scalePlace, meterPlace, intakePlace;
  Probes::Settings probes;
  filterPlace.port = 5502;
  feederPlace.port = 5504;
  scalePlace.port = 4001;
  meterPlace.port = 4002;
  intakePlace.port = 20000;
  int address = 10, master = 1;

  const auto filter = app.verb("drum-filter", "A drum filter behind Modbus: its pressure climbs until it is washed.");
  filterPlace.offer(filter);
  filter.option("--serial", serial, "Serial number it reports, 16 characters at most").showsDefault();
  const auto feeder = app.verb("feeder", "A feeder behind Modbus: it spreads portions of pellets by the clock.");
  feederPlace.offer(feeder);
  for (const auto& machine : {filter, feeder})
    machine.option("--unit", unit, "Unit on a serial line").showsDefault().range(1, 247);
  const auto scale = app.verb("scale", "A scale that speaks in lines: W weighs, T tares, Z takes the tare away.");
  scalePlace.offer(scale);
  scale.flag("--unasked", saysByItself, "Says its weight ten times a second by itself");
  const auto meter = app.verb("ph-meter", "A pH meter that answers PH? with a line and its checksum.");
  meterPlace.offer(meter);
  const auto intake = app.verb("outstation", "The intake station by the brook, behind DNP3.");
  intakePlace.offer(intake);
  intake.option("--address", address, "Its address").showsDefault().range(0, 65519);
  intake.option("--master", master, "Its master's address").showsDefault().range(0, 65519);
  std::string folder;
  double siteSpeedup = 1;
  const auto plant =
      app.verb("site", "All devices of a site, as its own files describe them: a plant can be tried before it exists.");
  plant.option("SITE", folder, "Folder with site.yaml and devices/").required();
  plant.option("--speedup", siteSpeedup, "Simulated seconds in one real second").range(0.01, 1000.0);
  const auto oxygen = app.verb("probes", "Oxygen probes that speak MQTT, and blowers to switch.");
  oxygen.option("--broker", broker, "Host and port of the broker").showsDefault();
  oxygen.option("--base", probes.base, "What their topics begin with").showsDefault();
  oxygen.option("--tanks", probes.tanks, "Names of the tanks, with commas between").splitAt(',');
  oxygen.option("--speedup", probes.speedup, "Simulated seconds in one real second").range(0.01, 1000.0);
  const auto reading = commandLine.read(argc, argv);
  if (!reading.mistake.empty()) {
    std::fprintf(stderr, "%s\nRun with --help for more information.\n", reading.mistake.c_str());
    return 2;
  }
  std::signal(SIGPIPE, SIG_IGN);
  try {
    const auto machine = [&](std::unique_ptr<Equipment> equipment, const Place& place) {
      const std::string name = equipment->name();
      auto settings = place.settings<ModbusServer::Settings>();
      settings.unit = unit;
      ModbusServer server(std::move(equipment), settings);
      const std::string where = server.open();
      serve(server, name, where);
    };
    const auto speaker = [&](std::unique_ptr<Meter> speaking, const Place& place) {
      const std::string name = speaking->name();
      TextServer server(std::move(speaking), place.settings<TextServer::Settings>());
      const std::string where = server.open();
      serve(server, name, where);
    };
    if (filter.isGiven()) machine(std::make_unique<DrumFilterMachine>(serial), filterPlace);
    if (feeder.isGiven()) machine(std::make_unique<FeederMachine>(), feederPlace);
    if (scale.isGiven()) speaker(std::make_unique<Scale>(saysByItself), scalePlace);
    if (meter.isGiven()) speaker(std::make_unique<PhMeter>(), meterPlace);
    if (intake.isGiven()) {
      auto settings = intakePlace.settings<Outstation::Settings>();
      settings.address = address;
      settings.master = master;
      Outstation server(settings);
      const std::string where = server.open();
      serve(server, "intake station", where);
    }
    if (plant.isGiven()) {
      SitePlant site(folder, siteSpeedup);
      std::string where;
      for (const auto& line : site.open()) where += (where.empty() ? "" : "\n") + line;
      stopRunning = [&site] { site.stop(); };
      for (const int signal : {SIGINT, SIGTERM}) std::signal(signal, [](int) { stopRunning(); });
      std::printf("%s\n", where.c_str());
      std::fflush(stdout);
      site.run();
    }
    if (oxygen.isGiven()) {
      const auto colon = broker.rfind(':');
      probes.host = broker.substr(0, colon);
      if (colon != std::string::npos) probes.port = std::atoi(broker.c_str() + colon + 1);
      Probes server(probes);
      server.open();
      serve(server, "oxygen probes", broker);
    }
  } catch (const std::exception& e) {
    std::fprintf(stderr, "zunth-sim: %s\n", e.what());
    return 3;
  }
}
