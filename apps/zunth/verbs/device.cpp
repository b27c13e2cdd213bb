#include "apps/zunth/verbs/device.hpp"

#include "service/admin/control.hpp"

#include <csignal>
#include <cstdio>

#include <fmt/format.h>
#include <unistd.h>

namespace zunth::cli {

using namespace ua;

namespace {

const std::vector<std::string> kColumns{"device", "state",      "since",  "address",  "every",     "points",
                                        "polls",  "round trip", "writes", "failures", "last error"};

std::vector<Cell> rowOf(const Json& device) {
  const std::string since = device.value("since", "");
  const auto time = DateTime::parse(since);
  const auto number = [&](const char* key) { return Cell(std::to_string(device.value(key, 0ULL)), device[key]); };
  return {device.value("device", ""),
          device.value("state", ""),
          Cell(time ? localTime(time->time()) : since, since),
          device.value("address", ""),
          Cell(fmt::format("{:g} ms", device.value("every", 0.0)), device["every"]),
          number("points"),
          number("polls"),
          Cell(fmt::format("{:.1f} ms", device.value("roundTrip", 0.0)), device["roundTrip"]),
          number("writes"),
          number("failures"),
          device.value("lastError", "")};
}

/// One device is shown line by line, so that nothing of it has to be cut.
void printOne(const std::vector<Cell>& row) {
  Records records({"device", row.front().text});
  for (std::size_t i = 1; i < row.size(); ++i) records.add({kColumns[i], row[i].text});
  std::fputs(records.text(Format::Table, isTerminal()).c_str(), stdout);
}

int tellDevices(const Options& options, const std::string& wanted, const Json& told) {
  Records records(kColumns);
  std::vector<Cell> last;
  bool areAllConnected = true;
  for (const auto& device : told.value("devices", Json::array())) {
    if (!wanted.empty() && device.value("device", "") != wanted) continue;
    areAllConnected = areAllConnected && device.value("state", "") == "connected";
    records.add(last = rowOf(device));
  }
  if (!wanted.empty() && last.empty())
    return fail({status::BadNotFound, fmt::format("there is no device '{}'", wanted), "zunth device shows them all"});
  if (!wanted.empty() && options.format == Format::Table)
    printOne(last);
  else
    std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return areAllConnected ? kDone : kNo;
}

volatile std::sig_atomic_t hasEnough = 0;

/// Prints what goes over a device's line as it goes, for so many seconds or until Ctrl-C.
int tellWire(const Options& options, const std::filesystem::path& folder, const std::string& device, double seconds) {
  std::signal(SIGINT, [](int) { hasEnough = 1; });
  const auto end = std::chrono::steady_clock::now() + milliseconds(seconds * 1000);
  std::uint64_t last = 0;
  bool isFirst = true;
  do {
    const auto told = admin::Control::ask(folder, {{"verb", "wire"}, {"device", device}, {"after", last}},
                                          milliseconds(options.timeout * 1000));
    if (!told) return fail(told.error());
    for (const auto& line : told->value("lines", Json::array())) {
      last = line.value("number", last);
      // What lies from an earlier look is old.
      if (isFirst) continue;
      Json shown = line;
      shown.erase("number");
      if (isStructured(options.format)) {
        std::fputs(document(shown, options.format, true).c_str(), stdout);
      } else {
        const auto time = DateTime::parse(line.value("time", ""));
        std::printf("%s  %s  %s\n", time ? localTime(time->time()).c_str() : "",
                    line.value("way", "") == "sent" ? "→" : "←", line.value("words", "").c_str());
        if (!line.value("octets", "").empty()) std::printf("              %s\n", dim(line.value("octets", "")).c_str());
      }
    }
    std::fflush(stdout);
    isFirst = false;
    ::usleep(200'000);
  } while (!hasEnough && std::chrono::steady_clock::now() < end);
  return kDone;
}

}  // namespace

void addDevice(Program program) {
  auto site = std::make_shared<std::string>(), name = std::make_shared<std::string>();
  auto wish = std::make_shared<TryWish>();
  auto order = std::make_shared<ScanOrder>();
  const auto verb = addLocalVerb(program, program.top, "device",
                                 "How the devices of a running service are: connected or not, since when, how fast.",
                                 "zunth device --site my-plant\nEnds with 1 when one is away.", *site);
  verb.option("NAME", *name, "One of them; without a name, all");
  const auto trying = addLocalVerb(
      program, verb, "try", "Ask a device itself, before anything is bound: does it answer, and with what?",
      "zunth device try modbus-tcp port=5502 --point 'input 0'\nOf a place without a type every way of reading it is "
      "shown.\nEnds with 1 when a point has no value.",
      *site);
  trying.option("WHAT", wish->what, "A kind of device, or a device of the site").required();
  trying.option("SETTINGS", wish->settings, "KEY=VALUE, as in a device's file").called("KEY=VALUE");
  trying.option("--point", wish->points, "The words of a point, as in a device's file; several times for more");
  const auto scanning = addLocalVerb(
      program, verb, "scan", "Look through a device for points, and propose files for them. Nothing is applied.",
      "zunth device scan modbus-tcp port=5502\nzunth device scan mqtt broker=127.0.0.1:1883 --into hall --site "
      "my-plant",
      *site);
  scanning.option("KIND", order->kind, "A kind of device").required();
  scanning.option("SETTINGS", order->settings, "KEY=VALUE, as in a device's file").called("KEY=VALUE");
  scanning.option("--from", order->first, "The first register or bit").range(0, 65535).showsDefault();
  scanning.option("--to", order->last, "The last register or bit").range(0, 65535).showsDefault();
  scanning.option("--for", order->seconds, "Seconds of listening, where devices speak by themselves")
      .range(0.1, 3600)
      .showsDefault();
  scanning.option("--keep", order->only, "Only these, by their names, with commas between").splitAt(',');
  scanning.option("--into", order->into, "Write devices/NAME.yaml, model/NAME.yaml and bindings/NAME.yaml")
      .called("NAME");
  const auto pointing = addLocalVerb(program, verb, "points", "What a device offers, and which nodes show it.",
                                     "zunth device points filter-DF1 --output csv", *site);
  pointing.option("NAME", *name, "A device of the site").required();
  auto seconds = std::make_shared<double>(10);
  const auto logging = addLocalVerb(program, verb, "log", "What goes over a device's line, in octets and words.",
                                    "zunth device log filter-DF1 --for 5", *site);
  logging.option("NAME", *name, "A device of the site").required();
  logging.option("--for", *seconds, "Seconds").range(0.1, 86400).showsDefault();
  verb.runs([program, site, name, wish, order, trying, scanning, pointing, logging, seconds] {
    if (trying.isGiven()) return void(program.exitCode = tryDevice(program.options, *wish, *site));
    if (scanning.isGiven()) return void(program.exitCode = scanDevice(program.options, *order, *site));
    const auto folder = siteFolder(*site, "zunth device --site FOLDER");
    if (!folder) return void(program.exitCode = fail(folder.error()));
    if (pointing.isGiven()) return void(program.exitCode = tellPoints(program.options, *folder, *name));
    if (logging.isGiven()) return void(program.exitCode = tellWire(program.options, *folder, *name, *seconds));
    const auto told = admin::Control::ask(*folder, {{"verb", "devices"}}, milliseconds(program.options.timeout * 1000));
    program.exitCode = told ? tellDevices(program.options, *name, *told) : fail(told.error());
  });
}

}  // namespace zunth::cli
