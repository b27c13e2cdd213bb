// zunth-sim: simulated devices, for demos, tests and trying things out without hardware.
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

#include <CLI/CLI.hpp>

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

  void offer(CLI::App& verb) {
    verb.add_option("--host", host, "Address to listen on")->capture_default_str();
    verb.add_option("--port", port, "Port to listen on; 0 takes a free one")
        ->capture_default_str()
        ->check(CLI::Range(0, 65535));
    verb.add_option("--line", line, "A serial line instead: a path at which a pseudo-terminal is made");
    verb.add_option("--speedup", speedup, "Simulated seconds in one real second")
        ->capture_default_str()
        ->check(CLI::Range(0.01, 1000.0));
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
  CLI::App app{"Simulates a device.\nExample: zunth-sim drum-filter --port 5502", "zunth-sim"};
  app.require_subcommand(1);
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

  auto* filter =
      app.add_subcommand("drum-filter", "A drum filter behind Modbus: its pressure climbs until it is washed.");
  filterPlace.offer(*filter);
  filter->add_option("--serial", serial, "Serial number it reports, 16 characters at most")->capture_default_str();
  auto* feeder = app.add_subcommand("feeder", "A feeder behind Modbus: it spreads portions of pellets by the clock.");
  feederPlace.offer(*feeder);
  for (auto* machine : {filter, feeder})
    machine->add_option("--unit", unit, "Unit on a serial line")->capture_default_str()->check(CLI::Range(1, 247));
  auto* scale = app.add_subcommand("scale", "A scale that speaks in lines: W weighs, T tares, Z takes the tare away.");
  scalePlace.offer(*scale);
  scale->add_flag("--unasked", saysByItself, "Says its weight ten times a second by itself");
  auto* meter = app.add_subcommand("ph-meter", "A pH meter that answers PH? with a line and its checksum.");
  meterPlace.offer(*meter);
  auto* intake = app.add_subcommand("outstation", "The intake station by the brook, behind DNP3.");
  intakePlace.offer(*intake);
  intake->add_option("--address", address, "Its address")->capture_default_str()->check(CLI::Range(0, 65519));
  intake->add_option("--master", master, "Its master's address")->capture_default_str()->check(CLI::Range(0, 65519));
  std::string folder;
  double siteSpeedup = 1;
  auto* plant = app.add_subcommand(
      "site", "All devices of a site, as its own files describe them: a plant can be tried before it exists.");
  plant->add_option("SITE", folder, "Folder with site.yaml and devices/")->required();
  plant->add_option("--speedup", siteSpeedup, "Simulated seconds in one real second")->check(CLI::Range(0.01, 1000.0));
  auto* oxygen = app.add_subcommand("probes", "Oxygen probes that speak MQTT, and blowers to switch.");
  oxygen->add_option("--broker", broker, "Host and port of the broker")->capture_default_str();
  oxygen->add_option("--base", probes.base, "What their topics begin with")->capture_default_str();
  oxygen->add_option("--tanks", probes.tanks, "Names of the tanks, with commas between")->delimiter(',');
  oxygen->add_option("--speedup", probes.speedup, "Simulated seconds in one real second")
      ->check(CLI::Range(0.01, 1000.0));
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    const int code = app.exit(e);
    return code == 0 ? 0 : 2;
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
    if (*filter) machine(std::make_unique<DrumFilterMachine>(serial), filterPlace);
    if (*feeder) machine(std::make_unique<FeederMachine>(), feederPlace);
    if (*scale) speaker(std::make_unique<Scale>(saysByItself), scalePlace);
    if (*meter) speaker(std::make_unique<PhMeter>(), meterPlace);
    if (*intake) {
      auto settings = intakePlace.settings<Outstation::Settings>();
      settings.address = address;
      settings.master = master;
      Outstation server(settings);
      const std::string where = server.open();
      serve(server, "intake station", where);
    }
    if (*plant) {
      SitePlant site(folder, siteSpeedup);
      std::string where;
      for (const auto& line : site.open()) where += (where.empty() ? "" : "\n") + line;
      stopRunning = [&site] { site.stop(); };
      for (const int signal : {SIGINT, SIGTERM}) std::signal(signal, [](int) { stopRunning(); });
      std::printf("%s\n", where.c_str());
      std::fflush(stdout);
      site.run();
    }
    if (*oxygen) {
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
