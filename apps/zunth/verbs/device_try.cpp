#include "apps/zunth/command.hpp"
#include "apps/zunth/verbs/device.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"
#include "service/admin/site.hpp"
#include "service/admin/state_file.hpp"
#include "service/device/device_file.hpp"
#include "service/device/proposal.hpp"

#include <algorithm>
#include <fstream>

#include <fmt/format.h>
#include <spdlog/spdlog.h>

namespace zunth::cli {

using namespace ua;

namespace fs = std::filesystem;

namespace {

std::string readWhole(const fs::path& file) {
  std::ifstream in(file);
  return {std::istreambuf_iterator<char>(in), {}};
}

device::Sought soughtFrom(const std::string& kind, const std::vector<std::string>& words) {
  device::Sought out{kind, {}};
  for (const auto& word : words) {
    const auto equals = word.find('=');
    out.settings.emplace_back(word.substr(0, equals), equals == std::string::npos ? "" : word.substr(equals + 1));
  }
  return out;
}

/// What is wrong with what was typed; nothing when it is sound.
std::optional<int> mistakeIn(const model::Findings& findings) {
  for (const auto& finding : findings.list())
    if (finding.severity == model::Finding::Severity::Error)
      return wrongUse(finding.message, finding.hint.empty() ? "docs/devices.md" : finding.hint);
  return std::nullopt;
}

/// A device that can't be reached is as a server that can't.
int notReached(const Error& why) {
  if (why.code == status::BadSyntaxError) return wrongUse(why.cause, why.next.empty() ? "docs/devices.md" : why.next);
  const int code = fail(why);
  return why.code == status::BadNotSupported || why.code == status::BadConfigurationError ? code : int{kNoConnection};
}

std::string kinds() {
  std::string out;
  for (const auto& kind : device::driverKinds()) out += (out.empty() ? "" : ", ") + std::string(kind.name);
  return out;
}

/// Where a point of a device would be shown by a site, and as what.
struct Place {
  std::string node;
  DataValue shown;
};
using PlacesOf = std::function<std::vector<Place>(const device::TriedPoint& point)>;

/// The values of points, a line each, or one for each node that would show it; in detail the way of each of them.
int tell(const Options& options, const std::vector<device::TriedPoint>& points, bool inDetail,
         const PlacesOf& placesOf = {}) {
  Records records(placesOf ? std::vector<std::string>{"point", "value", "status", "where", "node", "shows"}
                           : std::vector<std::string>{"point", "value", "status", "where"});
  bool areAllGood = true;
  for (const auto& point : points) {
    areAllGood = areAllGood && !point.value.status.isBad();
    const std::vector<Cell> row{point.name, Cell(format(point.value.value), toJson(point.value.value)),
                                Cell(std::string(point.value.status.name())), point.words};
    auto places = placesOf ? placesOf(point) : std::vector<Place>(1);
    if (places.empty()) places.emplace_back();
    for (const auto& place : places) {
      auto cells = row;
      if (placesOf) {
        const bool isBad = place.shown.status.isBad();
        cells.push_back(place.node);
        cells.push_back(place.node.empty() ? Cell(std::string())
                        : isBad            ? Cell(std::string(place.shown.status.name()))
                                           : Cell(format(place.shown.value), toJson(place.shown.value)));
      }
      records.add(std::move(cells));
    }
  }
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  if (!inDetail || options.format != Format::Table) return areAllGood ? kDone : kNo;
  for (const auto& point : points) {
    if (point.value.status == status::BadNotReadable) continue;
    std::printf("\n");
    Records way({"", point.name});
    for (const auto& stage : point.trace) way.add({stage.what, stage.shows});
    std::fputs(way.text(options.format, isTerminal()).c_str(), stdout);
  }
  return areAllGood ? kDone : kNo;
}

}  // namespace

int tryDevice(const Options& options, const TryWish& wish, const std::string& folder) {
  model::Findings findings;
  const Duration patience = milliseconds(options.timeout * 1000);
  const fs::path site = folder.empty() ? "." : folder;
  spdlog::set_level(spdlog::level::off);  // what is to be said is said here
  const auto answers = [&](const std::string& address, const device::Trace& nameplate) {
    if (options.quiet || options.format != Format::Table || !isTerminal()) return;
    std::printf("%s answers\n", address.c_str());
    for (const auto& line : nameplate) std::printf("  %s: %s\n", line.what.c_str(), line.shows.c_str());
  };
  if (device::driverKind(wish.what)) {
    const auto tried = device::tryOut(soughtFrom(wish.what, wish.settings), wish.points, site, patience, findings);
    if (!tried) return notReached(tried.error());
    answers(tried->address, tried->nameplate);
    return tell(options, tried->points, !tried->areWays);
  }
  const fs::path path = site / "devices" / (wish.what + ".yaml");
  if (!fs::exists(path))
    return wrongUse(fmt::format("'{}' is neither a kind of device nor one of the site", wish.what),
                    fmt::format("one of {}, or a device of --site FOLDER", kinds()));
  const auto file = device::readDeviceFile(wish.what, path.string(), readWhole(path), findings, site);
  if (const auto mistake = mistakeIn(findings)) return *mistake;
  const auto tried = device::tryOut(file, patience);
  if (!tried) return notReached(tried.error());
  answers(file.address, device::nameplateOf(file));
  const auto whole = admin::loadSite(site);
  if (!whole.isSound()) return tell(options, *tried, true);
  return tell(options, *tried, true, [&](const device::TriedPoint& point) {
    std::vector<Place> out;
    for (const auto& binding : whole.bindings.variables) {
      const auto& from = whole.devices[binding.device];
      if (from.name != wish.what || from.points[binding.point].name() != point.name) continue;
      const auto path = whole.space->path(binding.variable);
      if (binding.part)
        out.push_back({path + binding.part->text, point.value});
      else
        out.push_back({path, device::shownAs(*whole.space, binding.variable, point.value)});
    }
    return out;
  });
}

namespace {

/// Writes what was found as files of a site; none that is there is overwritten.
int keep(const Options& options, const std::vector<device::FoundPoint>& found, const ScanOrder& order,
         const device::Sought& sought, const fs::path& site) {
  std::string uri;
  model::Findings ignored;
  const auto root = model::readYaml("site.yaml", readWhole(site / "site.yaml"), ignored);
  if (const auto* own = root.textOf("uri")) uri = own->text;
  std::vector<device::Discovered> kept;
  for (const auto& point : found) kept.push_back({point.name, point.words, point.value.value.type()});
  const auto files = device::propose(sought, kept, order.into, uri);
  for (const auto& file : files)
    if (fs::exists(site / file.name))
      return wrongUse(fmt::format("{} is there already", (site / file.name).string()),
                      "choose another name for --into");
  for (const auto& [name, text] : files) {
    const fs::path path = site / name;
    std::error_code ignoredToo;
    fs::create_directories(path.parent_path(), ignoredToo);
    if (auto written = admin::replaceFile(path, text, 0644); !written) return fail(written.error());
    if (!options.quiet) std::printf("wrote %s\n", path.string().c_str());
  }
  if (!options.quiet) std::printf("nothing is applied yet; next: zunth check %s, zunth apply\n", site.string().c_str());
  return kDone;
}

}  // namespace

int scanDevice(const Options& options, const ScanOrder& order, const std::string& folder) {
  const auto sought = soughtFrom(order.kind, order.settings);
  model::Findings findings;
  device::ScanWish wish;
  wish.patience = milliseconds(order.seconds * 1000);
  wish.first = order.first;
  wish.last = order.last;
  if (!options.quiet) wish.progress = [](const std::string& what) { std::fprintf(stderr, "%s…\n", what.c_str()); };
  const fs::path site = folder.empty() ? "." : folder;
  auto found = device::scan(sought, site, wish, findings);
  if (!found) return notReached(found.error());
  if (!order.only.empty()) {
    for (const auto& name : order.only)
      if (std::ranges::find(*found, name, &device::FoundPoint::name) == found->end())
        return wrongUse(fmt::format("nothing was found by the name '{}'", name),
                        "the same without --keep, to see them");
    std::erase_if(*found,
                  [&](const auto& each) { return std::ranges::find(order.only, each.name) == order.only.end(); });
  }
  if (found->empty()) {
    std::fprintf(stderr, "zunth: nothing was found\n");
    return kNo;
  }
  if (!order.into.empty()) {
    if (!device::isDeviceName(order.into))
      return wrongUse(fmt::format("'{}' is no name for a device", order.into), "letters, digits and -");
    return keep(options, *found, order, sought, site);
  }
  Records records({"name", "value", "point"});
  for (const auto& each : *found)
    records.add({each.name, Cell(format(each.value.value), toJson(each.value.value)), each.words});
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  if (!options.quiet && options.format == Format::Table && isTerminal())
    std::printf("\nkeep them: the same with --into NAME --site FOLDER, and --keep NAME,NAME for some of them\n");
  return kDone;
}

}  // namespace zunth::cli
