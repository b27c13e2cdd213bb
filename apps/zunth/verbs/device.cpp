#include "apps/zunth/command.hpp"
#include "service/admin/control.hpp"

#include <fmt/format.h>

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

}  // namespace

void addDevice(Program program) {
  auto site = std::make_shared<std::string>(), name = std::make_shared<std::string>();
  const auto verb = addLocalVerb(program, program.top, "device",
                                 "How the devices of a running service are: connected or not, since when, how fast.",
                                 "zunth device --site my-plant\nEnds with 1 when one is away.", *site);
  verb.option("NAME", *name, "One of them; without a name, all");
  verb.runs([program, site, name] {
    const auto folder = siteFolder(*site, "zunth device --site FOLDER");
    if (!folder) return void(program.exitCode = fail(folder.error()));
    const auto told = admin::Control::ask(*folder, {{"verb", "devices"}}, milliseconds(program.options.timeout * 1000));
    program.exitCode = told ? tellDevices(program.options, *name, *told) : fail(told.error());
  });
}

}  // namespace zunth::cli
