#include "apps/zunth/verbs/device.hpp"
#include "core/ua/text.hpp"
#include "service/admin/discovery_file.hpp"
#include "service/admin/site.hpp"

#include <algorithm>

#include <fmt/format.h>

namespace zunth::cli {

using namespace ua;

int tellPoints(const Options& options, const std::filesystem::path& folder, const std::string& name) {
  const auto site = admin::loadSite(folder);
  if (!site.isSound()) {
    for (const auto& line : site.report()) std::fprintf(stderr, "%s\n", line.c_str());
    return kNo;
  }
  const auto device = std::ranges::find(site.devices, name, &device::DeviceFile::name);
  if (device == site.devices.end())
    return fail({status::BadNotFound, fmt::format("there is no device '{}'", name), "zunth device shows them all"});
  const auto index = static_cast<std::size_t>(device - site.devices.begin());
  std::vector<Json> nodes(device->points.size(), Json::array());
  for (const auto& binding : site.bindings.variables)
    if (binding.device == index)
      nodes[binding.point].push_back(site.space->path(binding.variable) + (binding.part ? binding.part->text : ""));
  Records records({"point", "where", "type", "access", "every", "nodes"});
  for (std::size_t i = 0; i < nodes.size(); ++i) {
    const auto& point = device->points[i];
    const double every = point.every > 0 ? point.every : device->every;
    std::string paths;
    for (const auto& path : nodes[i]) paths += (paths.empty() ? "" : ", ") + path.get<std::string>();
    records.add({point.name(), point.raw.where, point.typeText(), point.isWritable() ? "read, write" : "read",
                 Cell(fmt::format("{:g} ms", every), every), Cell(paths, nodes[i])});
  }
  // What it has discovered stands behind what its file names, in words that a file would have.
  admin::DiscoveryFile discovered({folder / "state/discovered.json", {}, {}});
  if (const auto known = discovered.load(); !known) std::fprintf(stderr, "zunth: %s\n", known.error().text().c_str());
  for (const auto& point : discovered.of(*device)) {
    const std::string path = fmt::format("Devices/{}/Points/{}", name, point.name);
    records.add({point.name, point.words, std::string(nameOf(point.type)), "discovered",
                 Cell(fmt::format("{:g} ms", device->every), device->every), Cell(path, Json::array({path}))});
  }
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  return kDone;
}

}  // namespace zunth::cli
