// zunth-sim: simulated devices, for demos, tests and trying things out without hardware.
#include "apps/sim/modbus_server.hpp"

#include <csignal>
#include <cstdio>

#include <CLI/CLI.hpp>

namespace {

zunth::sim::ModbusServer* running = nullptr;

}  // namespace

int main(int argc, char** argv) {
  CLI::App app{"Simulates a device.\nExample: zunth-sim drum-filter --port 5502", "zunth-sim"};
  app.require_subcommand(1);
  std::string host = "127.0.0.1", serial = "FH-DF-0001";
  int port = 5502;
  double speedup = 1;
  auto* filter =
      app.add_subcommand("drum-filter", "A drum filter behind Modbus TCP: its pressure climbs until it is washed.");
  filter->add_option("--host", host, "Address to listen on")->capture_default_str();
  filter->add_option("--port", port, "Port to listen on; 0 takes a free one")
      ->capture_default_str()
      ->check(CLI::Range(0, 65535));
  filter->add_option("--serial", serial, "Serial number it reports, 16 characters at most")->capture_default_str();
  filter->add_option("--speedup", speedup, "Simulated seconds in one real second")
      ->capture_default_str()
      ->check(CLI::Range(0.01, 1000.0));
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    const int code = app.exit(e);
    return code == 0 ? 0 : 2;
  }
  try {
    zunth::sim::ModbusServer server(host, port, serial, speedup);
    const int listening = server.listen();
    running = &server;
    std::signal(SIGINT, [](int) { running->stop(); });
    std::signal(SIGTERM, [](int) { running->stop(); });
    std::printf("drum filter %s at %s:%d\n", serial.c_str(), host.c_str(), listening);
    std::fflush(stdout);
    server.run();
  } catch (const std::exception& e) {
    std::fprintf(stderr, "zunth-sim: %s\n", e.what());
    return 3;
  }
}
