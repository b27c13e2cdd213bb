#include "apps/zunth/command.hpp"
#include "apps/zunth/verbs/device.hpp"
#include "core/ua/json.hpp"
#include "core/ua/text.hpp"
#include "service/admin/state_file.hpp"
#include "service/device/scan.hpp"

#include <algorithm>
#include <cmath>
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

/// "KEY=VALUE" as a line of a device's file.
std::string lineOf(const std::string& word) {
  const auto equals = word.find('=');
  std::string value = equals == std::string::npos ? std::string() : word.substr(equals + 1);
  std::string quoted;
  for (const char c : value) quoted += c == '\'' ? "''" : std::string(1, c);
  return fmt::format("{}: '{}'\n", word.substr(0, equals), quoted);
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
  const int code = fail(why);
  return why.code == status::BadNotSupported || why.code == status::BadConfigurationError ? code : int{kNoConnection};
}

std::string kinds() {
  std::string out;
  for (const auto& kind : device::driverKinds()) out += (out.empty() ? "" : ", ") + std::string(kind.name);
  return out;
}

/// What to look at where nothing is named: whether it answers at all.
std::vector<std::string> firstPoints(std::string_view kind) {
  if (kind == "mqtt") return {"$SYS/broker/version"};
  if (kind == "files") return {"file /proc/loadavg word 1"};
  if (kind == "simulation") return {"sine 0..1 every 10 s"};
  if (kind.starts_with("modbus")) return {"input 0", "holding 0", "discrete 0", "coil 0"};
  return {};
}

/// The values of points, a line each; in detail the way of each of them.
int tell(const Options& options, const std::vector<device::TriedPoint>& points, bool inDetail) {
  Records records({"point", "value", "status", "where"});
  bool areAllGood = true;
  for (const auto& point : points) {
    areAllGood = areAllGood && !point.value.status.isBad();
    records.add({point.name, Cell(format(point.value.value), toJson(point.value.value)),
                 Cell(std::string(point.value.status.name())), point.words});
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
  const device::DriverKind* kind = device::driverKind(wish.what);
  model::Findings findings;
  const Duration patience = milliseconds(options.timeout * 1000);
  device::DeviceFile file;
  std::size_t ways = 0;
  if (!kind) {
    const fs::path site = folder.empty() ? "." : folder, path = site / "devices" / (wish.what + ".yaml");
    if (!fs::exists(path))
      return wrongUse(fmt::format("'{}' is neither a kind of device nor one of the site", wish.what),
                      fmt::format("one of {}, or a device of --site FOLDER", kinds()));
    file = device::readDeviceFile(wish.what, path.string(), readWhole(path), findings, site);
  } else {
    std::string text = fmt::format("driver: {}\n", kind->name);
    for (const auto& word : wish.settings) text += lineOf(word);
    text += "points:\n";
    std::vector<std::string> points = wish.points.empty() ? firstPoints(kind->name) : wish.points;
    if (points.size() == 1 && kind->waysToRead)
      if (auto all = kind->waysToRead(points[0]); !all.empty()) points = std::move(all), ways = points.size();
    for (std::size_t i = 0; i < points.size(); ++i)
      text += "  " + lineOf(fmt::format("{}={}", ways ? fmt::format("'{}'", i) : fmt::format("p{}", i + 1), points[i]));
    file = device::readDeviceFile("tried", "the command line", text, findings, folder.empty() ? "." : folder);
  }
  if (const auto mistake = mistakeIn(findings)) return *mistake;
  spdlog::set_level(spdlog::level::off);  // what is to be said is said here
  auto tried = device::tryOut(file, patience);
  if (!tried) return notReached(tried.error());
  if (!options.quiet && options.format == Format::Table && isTerminal())
    std::printf("%s answers\n", file.address.c_str());
  if (ways) {
    for (auto& point : *tried) point.name = point.words.substr(wish.points[0].size() + 1);
    // What people measure comes first; among it is most likely the right one.
    std::ranges::stable_partition(*tried, [](const auto& point) {
      double number = 0;
      const bool isNumber = point.value.status.isGood() && point.value.value.toDouble(number);
      return isNumber && (number == 0 || (std::abs(number) >= 1e-3 && std::abs(number) < 1e6));
    });
  }
  return tell(options, *tried, !ways);
}

namespace {

/// Writes what was found as files of a site; none that is there is overwritten.
int keep(const Options& options, const std::vector<device::FoundPoint>& found, const ScanOrder& order,
         const std::string& settings, const fs::path& site) {
  const fs::path device = site / "devices" / (order.into + ".yaml"), model = site / "model" / (order.into + ".yaml"),
                 bindings = site / "bindings" / (order.into + ".yaml");
  for (const auto& file : {device, model, bindings})
    if (fs::exists(file))
      return wrongUse(fmt::format("{} is there already", file.string()), "choose another name for --into");
  std::string points, variables;
  for (const auto& each : found) {
    points += "  " + lineOf(each.name + "=" + each.words);
    const auto type = each.value.value.type();
    // What comes as text may have digits behind the point the next time.
    const bool isOpen = settings.find("driver: mqtt") != std::string::npos && isNumeric(type);
    variables += fmt::format("    {}: {}\n", each.name, nameOf(isOpen ? BuiltInType::Double : type));
  }
  std::string uri = "urn:" + order.into;
  model::Findings ignored;
  const auto root = model::readYaml("site.yaml", readWhole(site / "site.yaml"), ignored);
  if (const auto* own = root.textOf("uri")) uri = own->text + ":" + order.into;
  const std::vector<std::pair<fs::path, std::string>> files{
      {device, "# Found by looking it through: give the points their names.\n" + settings + "points:\n" + points},
      {model, fmt::format("namespace: {}\nobjects:\n  {}:\n{}", uri, order.into, variables)},
      {bindings, fmt::format("bindings:\n  {0}/{{point}}: {0}/{{point}}\n", order.into)}};
  for (const auto& [file, text] : files) {
    std::error_code ignoredToo;
    fs::create_directories(file.parent_path(), ignoredToo);
    if (auto written = admin::replaceFile(file, text, 0644); !written) return fail(written.error());
    if (!options.quiet) std::printf("wrote %s\n", file.string().c_str());
  }
  if (!options.quiet) std::printf("nothing is applied yet; next: zunth check %s, zunth apply\n", site.string().c_str());
  return kDone;
}

}  // namespace

int scanDevice(const Options& options, const ScanOrder& order, const std::string& folder) {
  const device::DriverKind* kind = device::driverKind(order.kind);
  if (!kind) return wrongUse(fmt::format("there is no kind of device '{}'", order.kind), "one of " + kinds());
  std::string settings = fmt::format("driver: {}\n", kind->name);
  for (const auto& word : order.settings) settings += lineOf(word);
  model::Findings findings;
  const auto root = model::readYaml("the command line", settings, findings);
  std::vector<std::string> keys{"driver"};
  keys.insert(keys.end(), kind->keys.begin(), kind->keys.end());
  checkKeys(root, keys, findings);
  device::ScanWish wish;
  wish.patience = milliseconds(order.seconds * 1000);
  wish.first = order.first;
  wish.last = order.last;
  if (!options.quiet) wish.progress = [](const std::string& what) { std::fprintf(stderr, "%s…\n", what.c_str()); };
  const fs::path site = folder.empty() ? "." : folder;
  if (const auto mistake = mistakeIn(findings)) return *mistake;
  auto found = device::scan(*kind, {root, {}, "scanned", site}, wish, findings);
  if (const auto mistake = mistakeIn(findings)) return *mistake;
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
  const bool isName = order.into.find_first_of("/\\ \t\n:{}'\"#") == std::string::npos && !order.into.starts_with('.');
  if (!isName) return wrongUse(fmt::format("'{}' is no name for a device", order.into), "letters, digits and -");
  if (!order.into.empty()) return keep(options, *found, order, settings, site);
  Records records({"name", "value", "point"});
  for (const auto& each : *found)
    records.add({each.name, Cell(format(each.value.value), toJson(each.value.value)), each.words});
  std::fputs(records.text(options.format, isTerminal()).c_str(), stdout);
  if (!options.quiet && options.format == Format::Table && isTerminal())
    std::printf("\nkeep them: the same with --into NAME --site FOLDER, and --keep NAME,NAME for some of them\n");
  return kDone;
}

}  // namespace zunth::cli
