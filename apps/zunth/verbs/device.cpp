#include "apps/zunth/command.hpp"
#include "service/admin/control.hpp"

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

namespace {

int tellDevices(const Options& options, const std::string& wanted, const Json& told) {
  Records records({"device", "state", "since", "address", "every", "points", "polls", "round trip", "writes",
                   "failures", "last error"});
  bool isThere = wanted.empty(), areAllConnected = true;
  for (const auto& device : told.value("devices", Json::array())) {
    const std::string name = device.value("device", ""), state = device.value("state", "");
    if (!wanted.empty() && name != wanted) continue;
    isThere = true;
    areAllConnected = areAllConnected && state == "connected";
    const std::string since = device.value("since", "");
    const auto time = DateTime::parse(since);
    records.add({name, state, Cell(time ? localTime(time->time()) : since, since), device.value("address", ""),
                 Cell(fmt::format("{:g} ms", device.value("every", 0.0)), device["every"]),
                 Cell(std::to_string(device.value("points", 0)), device["points"]),
                 Cell(std::to_string(device.value("polls", 0ULL)), device["polls"]),
                 Cell(fmt::format("{:.1f} ms", device.value("roundTrip", 0.0)), device["roundTrip"]),
                 Cell(std::to_string(device.value("writes", 0ULL)), device["writes"]),
                 Cell(std::to_string(device.value("failures", 0ULL)), device["failures"]),
                 device.value("lastError", "")});
  }
  if (!isThere)
    return fail({status::BadNotFound, fmt::format("there is no device '{}'", wanted), "zunth device shows them all"});
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
